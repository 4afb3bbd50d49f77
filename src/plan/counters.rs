//! What a run does to rows, counted by step.

use super::StepId;
use crate::expr::{Event, Events};

/// Counts of one step.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct StepCounts {
    /// Rows that left it.
    pub(crate) rows: u64,
    pub(crate) events: Events,
}

/// Counts of all steps.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Counters(Vec<StepCounts>);

impl Counters {
    pub(crate) fn new(steps: usize) -> Counters {
        Counters(vec![StepCounts::default(); steps])
    }

    pub(crate) fn get(&self, step: StepId) -> StepCounts {
        self.0.get(step).cloned().unwrap_or_default()
    }

    /// Adds rows that left a step.
    pub(crate) fn rows(&mut self, step: StepId, rows: usize) {
        if let Some(counters) = self.0.get_mut(step) {
            counters.rows += rows as u64;
        }
    }

    /// Sets the rows that left a step to no more than a limit.
    pub(crate) fn limit(&mut self, step: StepId, rows: u64) {
        if let Some(counters) = self.0.get_mut(step) {
            counters.rows = counters.rows.min(rows);
        }
    }

    /// Forgets what was counted of a step.
    pub(crate) fn clear(&mut self, step: StepId) {
        if let Some(counters) = self.0.get_mut(step) {
            *counters = StepCounts::default();
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

    /// Adds the counts of the same steps, and of further ones.
    pub(crate) fn merge(&mut self, other: &Counters) {
        if other.0.len() > self.0.len() {
            self.0.resize_with(other.0.len(), StepCounts::default);
        }
        for (a, b) in self.0.iter_mut().zip(&other.0) {
            a.rows += b.rows;
            a.events.merge(&b.events);
        }
    }
}
