//! What a run took: time, memory, disk.

use std::time::Duration;

use churn_core::StepId;

/// What a run took. None of it decides an answer; it differs from run to run.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RunFigures {
    /// From its start to its end.
    pub elapsed: Duration,
    /// Threads that could be at work.
    pub threads: usize,
    /// How long threads were at work for each step of the plan, together.
    pub times: Vec<Duration>,
    /// Bytes that steps which hold rows could use, and the most that they used at once.
    pub memory: u64,
    /// The most bytes that they held.
    pub most_held: u64,
    /// Bytes of rows that were put on disk since they did not fit, as they stood in memory.
    pub spilled: u64,
}

impl RunFigures {
    /// How long threads were at work for a step.
    pub fn time(&self, step: StepId) -> Duration {
        self.times.get(step).copied().unwrap_or_default()
    }
}
