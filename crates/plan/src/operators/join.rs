//! Rows of another table beside those that they match.

use churn_core::{ColumnId, Field, JoinKind, StepId, Type};
use churn_expr::Bound;
use churn_expr::ast::Binary;

use crate::Node;
use crate::operator::{Operator, Pruning};

/// Two tables brought together: the operator's input is the left one.
#[derive(Clone)]
pub struct Join {
    /// Which rows it gives.
    pub kind: JoinKind,
    /// Whether only the nearest of the rows that match is taken.
    pub asof: bool,
    /// The other table.
    pub other: Box<Node>,
    /// What messages call the other table.
    pub other_name: String,
    /// What must be equal: of the left row and of the other one, in one type.
    pub keys: Vec<KeyPair>,
    /// What else must hold.
    pub tests: Vec<Comparison>,
    /// Columns of the other table that are added.
    pub added: Vec<Field>,
    /// New columns with a key of whichever side has one.
    pub merged: Vec<(Field, usize)>,
    /// Left columns that only the join itself reads.
    pub unread: Vec<ColumnId>,
    /// Whether a row that matches several is an error.
    pub expect_one: bool,
    /// Whether a row that matches none is an error.
    pub expect_all: bool,
    /// What a filter above asks of rows.
    pub prefilter: PrefilterTests,
}

impl Join {
    /// Whether a left row whose matches are not what is expected stops the run: then every one is seen.
    pub fn expects(&self) -> bool {
        self.expect_one || self.expect_all
    }
}

/// Conditions of a filter above a join: rows for which one is false need not be made. They neither fail nor cause
/// events.
#[derive(Clone, Default)]
pub struct PrefilterTests {
    /// Of left columns alone.
    pub left: Vec<Bound>,
    /// Of added columns alone.
    pub other: Vec<Bound>,
    /// The filter's step.
    pub step: StepId,
}

impl PrefilterTests {
    pub(crate) fn is_empty(&self) -> bool {
        self.left.is_empty() && self.other.is_empty()
    }
}

/// A key on both sides.
#[derive(Clone)]
pub struct KeyPair {
    /// The key of the left table.
    pub left: Bound,
    /// The key of the other table.
    pub other: Bound,
    /// The type in which both are compared.
    pub kind: Type,
    /// The left side as it is written.
    pub text: String,
}

/// `left op other`, with an order.
#[derive(Clone)]
pub struct Comparison {
    /// The value of the left table.
    pub left: Bound,
    /// How they are compared.
    pub op: Binary,
    /// The value of the other table.
    pub other: Bound,
    /// The type in which both are compared.
    pub kind: Type,
}

impl Operator for Join {
    fn made(&self) -> Vec<&Field> {
        self.added.iter().chain(self.merged.iter().map(|(field, _)| field)).collect()
    }

    fn others(&self) -> Vec<&Node> {
        vec![&self.other]
    }

    fn others_mut(&mut self) -> Vec<&mut Node> {
        vec![&mut self.other]
    }

    fn reads_others_first(&self) -> bool {
        true
    }

    fn prune(&mut self, mut needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        pruning.retain(&mut self.added, |field| needed.contains(&field.id));
        pruning.retain(&mut self.merged, |(field, _)| needed.contains(&field.id));
        let above = needed.len();
        let mut of_other: Vec<ColumnId> = self.added.iter().map(|field| field.id).collect();
        let keys = self.keys.iter().map(|key| (&key.left, &key.other));
        for (left, other) in keys.chain(self.tests.iter().map(|test| (&test.left, &test.other))) {
            left.columns(&mut needed);
            other.columns(&mut of_other);
        }
        pruning.other(&mut self.other, of_other);
        let (above, own) = needed.split_at(above);
        self.unread = own.iter().filter(|id| !above.contains(id)).copied().collect();
        needed
    }

    fn must_see_all(&self) -> bool {
        self.expects()
    }

    fn explain(&self) -> Vec<String> {
        let by_keys = if self.keys.is_empty() { "" } else { " by its keys" };
        let mut notes = vec![format!("holds the other table{by_keys}")];
        if !self.prefilter.is_empty() {
            notes.push("makes only rows that may pass the filter".into());
        }
        notes
    }
}
