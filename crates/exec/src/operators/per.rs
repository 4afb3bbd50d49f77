//! Aggregates of groups, broadcast to their rows.

use churn_core::{ColumnId, Result, Type};
use churn_expr::Bound;
use churn_expr::Node as Expr;
use churn_plan::operators::Per;

use super::group::{Output, grouped};
use super::{Build, OperatorPlace};
use crate::runtime::pipeline::Pipeline;

impl Build for Per {
    fn build(&self, place: &OperatorPlace<'_>) -> Result<Pipeline> {
        let column = |(id, kind): (&ColumnId, Type)| Bound { node: Expr::Column(*id), kind };
        let keys: Vec<Bound> = self.keys.iter().zip(place.kinds(&self.keys)).map(column).collect();
        grouped(place.input()?, &keys, &self.calls, Output::Rows, place)
    }
}
