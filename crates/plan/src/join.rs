//! What a join is: its kind, its keys, the columns that it gives.

use churn_core::{Field, JoinKind, StepId, Type};
use churn_expr::Bound;
use churn_expr::ast::Binary;

use super::Node;

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
