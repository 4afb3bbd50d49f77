//! Columns of another table with as many rows.

use churn_core::{ColumnId, Field};

use crate::Node;
use crate::operator::{Operator, Pruning};

/// Columns of another table beside those of the input, row by row.
#[derive(Clone)]
pub struct Paste {
    /// The other table.
    pub other: Box<Node>,
    /// Its columns that are added.
    pub added: Vec<Field>,
}

impl Operator for Paste {
    fn made(&self) -> Vec<&Field> {
        self.added.iter().collect()
    }

    fn others(&self) -> Vec<&Node> {
        vec![&self.other]
    }

    fn others_mut(&mut self) -> Vec<&mut Node> {
        vec![&mut self.other]
    }

    fn prune(&mut self, needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        self.added.retain(|field| needed.contains(&field.id));
        pruning.other(&mut self.other, self.added.iter().map(|field| field.id).collect());
        needed
    }

    /// Only all rows show that there are as many.
    fn must_see_all(&self) -> bool {
        true
    }

    fn explain(&self) -> Vec<String> {
        vec!["holds the other table".into()]
    }
}
