//! Rows of other tables below.

use churn_core::readable::plural;
use churn_core::{ColumnId, Field};
use churn_expr::Bound;

use crate::Node;
use crate::operator::{Operator, Pruning, retain_marked};

/// Rows of other tables below those of the input.
#[derive(Clone)]
pub struct Append {
    /// The columns that it makes.
    pub fields: Vec<Field>,
    /// What each of them is in the input.
    pub own: Vec<Bound>,
    /// The other tables, and what each column is there.
    pub others: Vec<(Node, Vec<Bound>)>,
}

impl Operator for Append {
    fn passed(&self) -> Option<&[ColumnId]> {
        Some(&[])
    }

    fn made(&self) -> Vec<&Field> {
        self.fields.iter().collect()
    }

    fn others(&self) -> Vec<&Node> {
        self.others.iter().map(|(node, _)| node).collect()
    }

    fn others_mut(&mut self) -> Vec<&mut Node> {
        self.others.iter_mut().map(|(node, _)| node).collect()
    }

    fn prune(&mut self, mut needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        let keep: Vec<bool> = self.fields.iter().map(|f| needed.contains(&f.id)).collect();
        pruning.changed |= keep.contains(&false);
        retain_marked(&mut self.fields, &keep);
        for (node, columns) in &mut self.others {
            retain_marked(columns, &keep);
            let mut used = Vec::new();
            columns.iter().for_each(|by| by.columns(&mut used));
            pruning.other(node, used);
        }
        retain_marked(&mut self.own, &keep);
        needed.clear();
        self.own.iter().for_each(|by| by.columns(&mut needed));
        needed
    }

    fn explain(&self) -> Vec<String> {
        vec![format!("then the rows of {}", plural(self.others.len() as u64, "other table"))]
    }
}
