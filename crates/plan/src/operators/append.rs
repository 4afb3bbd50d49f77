//! Rows of other tables below.

use churn_core::readable::plural;
use churn_core::{ColumnId, Counters, Event, Field, StepId};
use churn_expr::Bound;

use crate::Node;
use crate::operator::{FilterBelow, Operator, Pruning, retain_marked};

/// Rows of other tables below those of the input.
#[derive(Clone)]
pub struct Append {
    /// The columns that it makes.
    pub fields: Vec<Field>,
    /// What each of them is in the input.
    pub own: Vec<Bound>,
    /// The other tables, and what each column is there.
    pub others: Vec<(Node, Vec<Bound>)>,
    /// Filters that stood above it and are tested in each of the tables now: their steps, and whether they are prefilters.
    pub moved: Vec<(StepId, bool)>,
}

impl Append {
    /// The rows that filters left out below it: they are rows of it in the account of a run.
    pub fn left_out_below(&self, counters: &Counters) -> u64 {
        let left_out = |(step, early): &(StepId, bool)| {
            let of = |event| counters.get(*step).events.get(event);
            of(Event::Skipped)
                + if *early { of(Event::Prefiltered) } else { of(Event::NotTrue) + of(Event::Unknown) }
        };
        self.moved.iter().map(left_out).sum()
    }

    /// A condition on its columns as one on those of a table whose rows it takes as `columns`.
    fn within(&self, condition: &Bound, columns: &[Bound]) -> Bound {
        condition.replaced(&|id| {
            let place = self.fields.iter().position(|field| field.id == id)?;
            columns.get(place).cloned()
        })
    }
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

    /// A condition that cannot fail moves into each of the tables, where all that comes out of them can neither: then what a
    /// table tells of its rows goes for it, and files are skipped by it.
    fn filter_below(&self, condition: &Bound, _: &[ColumnId]) -> FilterBelow {
        let mut columns = self.own.iter().chain(self.others.iter().flat_map(|(_, columns)| columns));
        if !condition.is_infallible() || !columns.all(Bound::is_infallible) {
            return FilterBelow::Stays;
        }
        let others = self.others.iter().map(|(_, columns)| self.within(condition, columns));
        FilterBelow::Splits([self.within(condition, &self.own)].into_iter().chain(others).collect())
    }

    fn filter_moved(&mut self, step: StepId, early: bool) {
        self.moved.push((step, early));
    }

    fn explain(&self) -> Vec<String> {
        vec![format!("then the rows of {}", plural(self.others.len() as u64, "other table"))]
    }
}
