//! Conditions of the filter above a join: a row that fails one is looked up and counted, but not made.

use arrow_array::{Array, BooleanArray, new_null_array};
use arrow_buffer::BooleanBuffer;
use churn_core::{Batch, Event, Events, Field, Result, StepId};
use churn_expr::Bound;
use churn_plan::operators::{Join, PrefilterTests};

use super::spec::RowPairs;
use crate::keys::UNKNOWN;
use crate::runtime::morsel_output::MorselOutput;

/// The conditions, placed.
pub(super) struct Prefilter {
    left: Vec<Bound>,
    other: Vec<Bound>,
    added: Vec<Field>,
    /// The filter's step.
    step: StepId,
}

/// The other table's rows that fail.
#[derive(Default)]
pub(super) struct FailingTests {
    rows: Option<BooleanBuffer>,
    /// Whether a left row without a match fails: its added columns are null.
    none: bool,
}

impl Prefilter {
    pub(super) fn new(join: &Join, left: &[churn_core::ColumnId]) -> Result<Prefilter> {
        let PrefilterTests { left: of_left, other, step } = &join.prefilter;
        let added: Vec<_> = join.added.iter().map(|field| field.id).collect();
        Ok(Prefilter {
            left: of_left.iter().map(|test| test.placed(left)).collect::<Result<_>>()?,
            other: other.iter().map(|test| test.placed(&added)).collect::<Result<_>>()?,
            added: join.added.clone(),
            step: *step,
        })
    }

    /// The other table's rows that fail; the columns that are added come first.
    pub(super) fn failing(&self, rows: &Batch) -> Result<FailingTests> {
        let null = |field: &Field| new_null_array(&field.kind.arrow(), 1);
        let nothing = Batch { columns: self.added.iter().map(null).collect(), rows: 1 };
        let none = failed(&self.other, &nothing)?.is_some_and(|failed| failed.value(0));
        Ok(FailingTests { rows: failed(&self.other, rows)?, none })
    }

    /// Takes out the pairs whose row would fail, and counts them for the filter.
    pub(super) fn kept(
        &self,
        mut pairs: RowPairs,
        batch: &Batch,
        failing: &FailingTests,
        work: &mut MorselOutput,
    ) -> Result<RowPairs> {
        let lefts = failed(&self.left, batch)?;
        if lefts.is_none() && failing.rows.is_none() {
            return Ok(pairs);
        }
        let before = pairs.len();
        pairs.retain(|left, other| {
            let other_fails = match &failing.rows {
                Some(_) if other == UNKNOWN => failing.none,
                Some(rows) => rows.value(other as usize),
                None => false,
            };
            !other_fails && !lefts.as_ref().is_some_and(|failed| failed.value(left as usize))
        });
        self.count(before - pairs.len(), work);
        Ok(pairs)
    }

    /// Takes out chosen left rows that would fail, and counts them for the filter.
    pub(super) fn kept_lefts(
        &self,
        chosen: Vec<bool>,
        batch: &Batch,
        work: &mut MorselOutput,
    ) -> Result<BooleanArray> {
        let chosen = BooleanBuffer::from(chosen);
        let Some(failed) = failed(&self.left, batch)? else { return Ok(chosen.into()) };
        let kept = &chosen & &!&failed;
        self.count(chosen.count_set_bits() - kept.count_set_bits(), work);
        Ok(kept.into())
    }

    fn count(&self, rows: usize, work: &mut MorselOutput) {
        work.counters.event(self.step, Event::NotTrue, rows);
    }
}

/// The rows where a condition is false, and not only unknown; `None` if there are no conditions.
fn failed(tests: &[Bound], batch: &Batch) -> Result<Option<BooleanBuffer>> {
    let mut all: Option<BooleanBuffer> = None;
    for test in tests {
        // They cause no events.
        let truth = test.evaluate(batch, &mut Events::default())?.bools(batch.rows);
        let is_false = match truth.nulls() {
            Some(nulls) => &!truth.values() & nulls.inner(),
            None => !truth.values(),
        };
        all = Some(match all {
            Some(all) => &all | &is_false,
            None => is_false,
        });
    }
    Ok(all)
}
