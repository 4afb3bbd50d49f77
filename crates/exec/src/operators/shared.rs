//! A table that is used more than once: the first use runs it, all uses read the rows that are kept.

use churn_core::{ColumnId, Result};
use churn_plan::operators::Shared;
use churn_plan::{Node, rules};

use super::{Build, OperatorPlace, build, pipeline_of, places};
use crate::runtime::context::Context;
use crate::runtime::materialized::{MaterializedTable, materialize};
use crate::runtime::pipeline::Pipeline;
use crate::runtime::stream::Pick;

impl Build for Shared {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let (inner, layout): (Vec<_>, Vec<_>) = self.columns.iter().map(|(id, f)| (*id, f.id)).unzip();
        let rows = shared(self.table, &self.input, &self.kept, place.context)?.materialized()?;
        let mut pipeline = pipeline_of(rows, self.kept.clone());
        pipeline.push(Box::new(Pick(places(&self.kept, &inner)?)));
        Ok(Pipeline { layout, ..pipeline })
    }
}

/// The rows of a table that is used more than once; the first use runs it.
fn shared(table: usize, input: &Node, columns: &[ColumnId], context: &Context) -> Result<MaterializedTable> {
    if let Some(kept) = context.table(table) {
        return Ok(kept);
    }
    let (node, _) = rules::rewrite(input.clone(), columns);
    let mut pipeline = build(&node, context)?;
    let places = places(&pipeline.layout, columns)?;
    pipeline.push(Box::new(Pick(places)));
    let kept = materialize(pipeline, context)?;
    context.keep_table(table, kept.clone());
    Ok(kept)
}
