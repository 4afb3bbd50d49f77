//! What a run does to rows, counted by step.

use crate::expr::{Batch, Event, Events};
use crate::io::target::Placed;
use crate::plan::StepId;

/// Counts of one step.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct StepTally {
    /// Rows that left it.
    pub(crate) rows: u64,
    pub(crate) events: Events,
}

/// Counts of all steps.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Tally(Vec<StepTally>);

impl Tally {
    pub(crate) fn new(steps: usize) -> Tally {
        Tally(vec![StepTally::default(); steps])
    }

    pub(crate) fn get(&self, step: StepId) -> StepTally {
        self.0.get(step).cloned().unwrap_or_default()
    }

    /// Adds rows that left a step.
    pub(crate) fn rows(&mut self, step: StepId, rows: usize) {
        if let Some(tally) = self.0.get_mut(step) {
            tally.rows += rows as u64;
        }
    }

    /// Sets the rows that left a step to no more than a limit.
    pub(crate) fn limit(&mut self, step: StepId, rows: u64) {
        if let Some(tally) = self.0.get_mut(step) {
            tally.rows = tally.rows.min(rows);
        }
    }

    pub(crate) fn event(&mut self, step: StepId, event: Event, count: usize) {
        if let Some(events) = self.events(step) {
            events.add(event, count);
        }
    }

    /// The events of a step, for an expression to count into.
    pub(crate) fn events(&mut self, step: StepId) -> Option<&mut Events> {
        self.0.get_mut(step).map(|t| &mut t.events)
    }

    pub(crate) fn merge(&mut self, other: &Tally) {
        for (a, b) in self.0.iter_mut().zip(&other.0) {
            a.rows += b.rows;
            a.events.merge(&b.events);
        }
    }
}

/// Something for a side output: text that is encoded already, or rows of a columnar format.
#[derive(Debug)]
pub(crate) enum Side {
    Bytes(Vec<u8>),
    Rows(Batch),
}

/// What one morsel leaves beside its rows.
pub(crate) struct Work {
    pub(crate) tally: Tally,
    /// What goes to the run's side outputs, by their number.
    pub(crate) side: Vec<(usize, Side)>,
    /// Bytes of side outputs that have their places and are still to be written there.
    pub(crate) placed: Vec<Placed>,
    /// Rows that came from the source.
    pub(crate) source_rows: usize,
}

impl Work {
    pub(crate) fn new(steps: usize) -> Work {
        Work { tally: Tally::new(steps), side: Vec::new(), placed: Vec::new(), source_rows: 0 }
    }

    /// Evaluates with the step's events.
    pub(crate) fn with_events<T>(&mut self, step: StepId, f: impl FnOnce(&mut Events) -> T) -> T {
        let mut spare = Events::default();
        f(self.tally.events(step).unwrap_or(&mut spare))
    }
}
