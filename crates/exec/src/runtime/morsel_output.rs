//! What a worker leaves beside its rows: counts, and parts of files.

use churn_core::{Batch, Counters, Events, StepId};
use churn_io::target::Placed;

/// Something for a side output: text that is encoded already, or rows of a columnar format.
#[derive(Debug)]
pub(crate) enum SideOutput {
    Bytes(Vec<u8>),
    Rows(Batch),
}

/// What one morsel leaves beside its rows.
pub struct MorselOutput {
    pub(crate) counters: Counters,
    /// What goes to the run's side outputs, by their number.
    pub(crate) side: Vec<(usize, SideOutput)>,
    /// Bytes of side outputs that have their places and are still to be written there.
    pub(crate) placed: Vec<Placed>,
    /// Rows that came from the source.
    pub(crate) source_rows: usize,
}

impl MorselOutput {
    pub(crate) fn new(steps: usize) -> MorselOutput {
        MorselOutput { counters: Counters::new(steps), side: Vec::new(), placed: Vec::new(), source_rows: 0 }
    }

    /// Evaluates with the step's events.
    pub(crate) fn with_events<T>(&mut self, step: StepId, f: impl FnOnce(&mut Events) -> T) -> T {
        let mut spare = Events::default();
        f(self.counters.events(step).unwrap_or(&mut spare))
    }
}
