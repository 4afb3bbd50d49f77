//! A left table that is much smaller than the other one: it runs first, and of the other table only rows with its keys
//! are gathered.

use std::sync::Arc;

use arrow_array::BooleanArray;
use churn_core::{Batch, Event, JoinKind, Result};

use super::spec::JoinSpec;
use crate::keys::{KeyTable, UNKNOWN};
use crate::operators::sort::batches;
use crate::runtime::context::Context;
use crate::runtime::materialized::materialize;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::pipeline::{Leg, Pipeline};
use crate::runtime::stream::StreamOp;

/// How many times larger the other table's source must be.
const TIMES: u64 = 4;

/// The most left rows whose keys are looked for.
const MOST: usize = 1 << 20;

/// Runs the left table if it is much smaller, and has the other one keep only rows with its keys.
///
/// What is left out there is counted as having matched none, as the join itself would count it.
pub(super) fn run_left_first(
    left: Pipeline,
    other: &mut Pipeline,
    how: &Arc<JoinSpec>,
    context: &Context,
) -> Result<Pipeline> {
    let drops = !how.kind.keeps_other() && how.kind != JoinKind::Cross && !how.keys.is_empty();
    let is_small = || bytes(&left)?.checked_mul(TIMES).zip(bytes(other)).map(|(left, other)| left < other);
    if !drops || is_small() != Some(true) {
        return Ok(left);
    }
    let (layout, acts) = (left.layout.clone(), left.acts);
    let kept = materialize(left, context)?;
    let mut table = KeyTable::new(how.kinds());
    let (mut rows, mut numbers) = (0, Vec::new());
    for batch in batches(kept.materialized()?.scan()) {
        let batch = batch?;
        rows += batch.rows;
        if rows > MOST {
            break;
        }
        // What happens to values is counted where the rows go by.
        let keys = how.evaluated(how.keys.iter().map(|key| &key.left), &batch, &mut MorselOutput::new(0))?;
        numbers.clear();
        table.numbers(&keys, batch.rows, &mut numbers)?;
    }
    if rows <= MOST {
        other.push(Box::new(Known { how: how.clone(), table }));
    }
    Ok(Pipeline { acts, ..Pipeline::of(Leg::of(kept.materialized()?.scan()), layout) })
}

/// The size of what a pipeline reads, if all of it is files.
fn bytes(pipeline: &Pipeline) -> Option<u64> {
    let of_leg = |leg: &Leg| leg.scan_step.and_then(|_| leg.scan.progress().1);
    pipeline.legs.iter().map(of_leg).sum()
}

/// Keeps the rows of the other table whose keys the left one has.
struct Known {
    how: Arc<JoinSpec>,
    table: KeyTable,
}

impl StreamOp for Known {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let (keys, _) = self.how.of_side(&batch);
        let mut numbers = Vec::new();
        self.table.find(&keys, batch.rows, &mut numbers)?;
        let keep: BooleanArray = numbers.iter().map(|number| Some(*number != UNKNOWN)).collect();
        let kept = batch.filter(&keep)?;
        work.counters.event(self.how.step, Event::OtherMatchedNone, batch.rows - kept.rows);
        Ok(kept)
    }
}
