//! Reads a source.

use std::path::PathBuf;
use std::sync::Arc;

use churn_core::names::{comma, name};
use churn_core::readable::{bytes, plural};
use churn_core::{ColumnId, Field, StepId};
use churn_expr::Bound;
use churn_io::source::Source;

use crate::operator::{Operator, Pruning};

/// A source's columns in a plan.
#[derive(Clone)]
pub struct Scan {
    /// The source.
    pub source: Arc<dyn Source>,
    /// Columns that are read: their place in the source, and what they are in the plan.
    pub columns: Vec<(usize, Field)>,
    /// Conditions tested while reading, in order.
    pub conditions: Vec<Condition>,
    /// No more rows than these are wanted.
    pub limit: Option<usize>,
    /// Where rows that do not fit are written.
    pub rejects: Option<PathBuf>,
}

/// A condition of a step, tested elsewhere.
#[derive(Clone)]
pub struct Condition {
    /// The condition.
    pub test: Bound,
    /// The step that asks for it.
    pub step: StepId,
    /// Whether the step stays, and this only leaves out early what it would leave out.
    pub early: bool,
}

impl Operator for Scan {
    fn passed(&self) -> Option<&[ColumnId]> {
        Some(&[])
    }

    fn made(&self) -> Vec<&Field> {
        self.columns.iter().map(|(_, field)| field).collect()
    }

    fn prune(&mut self, mut needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        for condition in &self.conditions {
            condition.test.columns(&mut needed);
        }
        pruning.retain(&mut self.columns, |(_, field)| needed.contains(&field.id));
        needed
    }

    fn must_see_all(&self) -> bool {
        self.rejects.is_some()
    }

    fn stops_itself(&self) -> bool {
        self.limit.is_some()
    }

    fn conditions(&self) -> &[Condition] {
        &self.conditions
    }

    fn explain(&self) -> Vec<String> {
        let about = self.source.about();
        if about.files == 0 {
            return vec![about.rows.map(|n| plural(n, "row")).unwrap_or_default()];
        }
        let all = self.source.columns().len();
        let size = about.bytes.filter(|b| *b > 0).map(|b| format!(", {}", bytes(b))).unwrap_or_default();
        let files = plural(about.files as u64, "file");
        let columns = plural(all as u64, "column");
        let mut notes = vec![format!("{files}{size}; {} of {columns}", self.columns.len())];
        if self.columns.len() < all {
            notes.push(match self.columns.len() {
                0 => "only counts the rows".into(),
                _ => format!("reads {}", comma(self.columns.iter().map(|(_, f)| name(&f.name)))),
            });
        }
        let places: Vec<usize> = self.columns.iter().map(|(place, _)| *place).collect();
        if let Some(size) = self.source.bytes_of(&places).filter(|_| !about.transfers.is_empty()) {
            notes.push(format!("fetches {} at most", bytes(size)));
        }
        if let Some(limit) = self.limit {
            notes.push(format!("stops after {}", plural(limit as u64, "row")));
        }
        notes
    }
}
