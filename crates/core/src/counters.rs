//! What a run does to rows, counted by step.

use crate::{Event, Events};

/// A step's place in the list of all steps of a plan.
pub type StepId = usize;

/// Counts of one step.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct StepCounts {
    /// Rows that left it.
    pub rows: u64,
    /// What happened beside, with how often.
    pub events: Events,
    /// What it happened to: the first few, in the order of rows.
    pub examples: Vec<Example>,
}

/// A cell or a row that something happened to: what happened, and the value with its place.
pub type Example = (Event, String);

/// Examples of an event that are kept of a step.
pub const EXAMPLES: usize = 3;

/// Counts of all steps.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Counters(Vec<StepCounts>);

impl Counters {
    /// Counters of so many steps, all at zero.
    pub fn new(steps: usize) -> Counters {
        Counters(vec![StepCounts::default(); steps])
    }

    /// What was counted of a step; nothing for a step that is not known.
    pub fn get(&self, step: StepId) -> StepCounts {
        self.0.get(step).cloned().unwrap_or_default()
    }

    /// Adds rows that left a step.
    pub fn rows(&mut self, step: StepId, rows: usize) {
        if let Some(counters) = self.0.get_mut(step) {
            counters.rows += rows as u64;
        }
    }

    /// Sets the rows that left a step to no more than a limit.
    pub fn limit(&mut self, step: StepId, rows: u64) {
        if let Some(counters) = self.0.get_mut(step) {
            counters.rows = counters.rows.min(rows);
        }
    }

    /// Forgets what was counted of a step.
    pub fn clear(&mut self, step: StepId) {
        if let Some(counters) = self.0.get_mut(step) {
            *counters = StepCounts::default();
        }
    }

    /// Adds to how often something happened in a step.
    pub fn event(&mut self, step: StepId, event: Event, count: usize) {
        if let Some(events) = self.events(step) {
            events.add(event, count);
        }
    }

    /// The events of a step, for an expression to count into.
    pub fn events(&mut self, step: StepId) -> Option<&mut Events> {
        self.0.get_mut(step).map(|t| &mut t.events)
    }

    /// Adds an example of what happened in a step, unless it has enough of them.
    pub fn example(&mut self, step: StepId, example: Example) {
        if let Some(counters) = self.0.get_mut(step) {
            counters.keep(example);
        }
    }

    /// Adds the counts of the same steps, and of further ones.
    pub fn merge(&mut self, other: &Counters) {
        if other.0.len() > self.0.len() {
            self.0.resize_with(other.0.len(), StepCounts::default);
        }
        for (a, b) in self.0.iter_mut().zip(&other.0) {
            a.rows += b.rows;
            a.events.merge(&b.events);
            b.examples.iter().for_each(|example| a.keep(example.clone()));
        }
    }
}

impl StepCounts {
    fn keep(&mut self, example: Example) {
        if self.examples.iter().filter(|(event, _)| *event == example.0).count() < EXAMPLES {
            self.examples.push(example);
        }
    }
}
