//! `sort` where only the first rows of each group are wanted: others are left out while rows are read.
//!
//! The ordered side holds of each group the first rows so far. A worker looks up the groups of its rows, and leaves out those
//! that come behind the last row that is held of a full group. At the end the rows that are held are sorted as all rows are.
//! Where most rows have to be held, as groups have but a few, or where they do not fit in memory, all rows are sorted from then on:
//! whoever takes them counts the rows of each group, and passes over those that are too many.

mod candidates;
mod held;

use std::sync::Arc;

use churn_core::{ColumnId, Result};
use churn_plan::operators as plan;

use super::order_of;
use super::part::SortWorkers;
use crate::operators::{OperatorPlace, places};
use crate::runtime::pipeline::Pipeline;
use crate::runtime::sink::Sink;
use candidates::{CandidateFilter, GroupCandidates};
use held::TopPerGroup;

/// The sink of a sort of which some rows of each group are wanted. The source of its pipeline leaves rows out, if it can.
pub(super) fn sink(
    how: &plan::Sort,
    count: usize,
    pipeline: &mut Pipeline,
    place: &OperatorPlace<'_>,
) -> Result<Sink<GroupCandidates, TopPerGroup>> {
    let context = place.context;
    let order = |ids: &[ColumnId]| order_of(how, ids, place.step(), context);
    let sort = SortWorkers::new(order(&pipeline.layout)?, None, &context.budget)?;
    let columns = places(&pipeline.layout, &how.per)?;
    let workers = Arc::new(GroupCandidates::new(sort, columns, place.kinds(&how.per)));
    if how.keys.iter().all(|key| key.by.is_infallible()) {
        let mut used = how.per.clone();
        how.keys.iter().for_each(|key| key.by.columns(&mut used));
        pipeline.test_source(&used, |ids| {
            let (order, groups) = (order(ids)?, places(ids, &how.per)?);
            Ok(Box::new(CandidateFilter::new(workers.clone(), order, groups)))
        })?;
    }
    let commit = TopPerGroup::new(workers.clone(), count, context);
    Ok(Sink { worker: workers, commit })
}
