//! What a join is: its kind, its keys, the columns that it gives.

use std::fmt;

use super::{Node, StepId};
use crate::expr::ast::Binary;
use crate::expr::{Bound, Field, Type};

/// Which rows a join gives.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum JoinKind {
    /// Those that match.
    Inner,
    /// Those that match, and the left rows that match none.
    Left,
    /// Those that match, and the other table's rows that match none.
    Right,
    /// Those that match, and the rows of either side that match none.
    Full,
    /// The left rows that match some row.
    Semi,
    /// The left rows that match none.
    Anti,
    /// Every left row with every row of the other table.
    Cross,
}

impl JoinKind {
    /// All kinds.
    pub const ALL: [JoinKind; 7] = [
        JoinKind::Inner,
        JoinKind::Left,
        JoinKind::Right,
        JoinKind::Full,
        JoinKind::Semi,
        JoinKind::Anti,
        JoinKind::Cross,
    ];

    /// The word for it in the language.
    pub fn word(self) -> &'static str {
        match self {
            JoinKind::Inner => "inner",
            JoinKind::Left => "left",
            JoinKind::Right => "right",
            JoinKind::Full => "full",
            JoinKind::Semi => "semi",
            JoinKind::Anti => "anti",
            JoinKind::Cross => "cross",
        }
    }

    /// Whether left rows that match none stay.
    pub(crate) fn keeps_left(self) -> bool {
        matches!(self, JoinKind::Left | JoinKind::Full)
    }

    /// Whether the other table's rows that match none stay.
    pub(crate) fn keeps_other(self) -> bool {
        matches!(self, JoinKind::Right | JoinKind::Full)
    }

    /// Whether it only chooses among the left rows.
    pub(crate) fn only_filters(self) -> bool {
        matches!(self, JoinKind::Semi | JoinKind::Anti)
    }
}

impl fmt::Display for JoinKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// Two tables brought together: the operator's input is the left one.
#[derive(Clone)]
pub(crate) struct Join {
    pub(crate) kind: JoinKind,
    /// Whether only the nearest of the rows that match is taken.
    pub(crate) asof: bool,
    pub(crate) other: Box<Node>,
    /// What messages call the other table.
    pub(crate) other_name: String,
    /// What must be equal: of the left row and of the other one, in one type.
    pub(crate) keys: Vec<KeyPair>,
    /// What else must hold.
    pub(crate) tests: Vec<Comparison>,
    /// Columns of the other table that are added.
    pub(crate) added: Vec<Field>,
    /// New columns with a key of whichever side has one.
    pub(crate) merged: Vec<(Field, usize)>,
    /// Whether a row that matches several is an error.
    pub(crate) expect_one: bool,
    /// Whether a row that matches none is an error.
    pub(crate) expect_all: bool,
    /// What a filter above asks of rows.
    pub(crate) prefilter: PrefilterTests,
}

impl Join {
    /// Whether a left row whose matches are not what is expected stops the run: then every one is seen.
    pub(crate) fn expects(&self) -> bool {
        self.expect_one || self.expect_all
    }
}

/// Conditions of a filter above a join: rows for which one is false need not be made. They neither fail nor cause
/// events.
#[derive(Clone, Default)]
pub(crate) struct PrefilterTests {
    /// Of left columns alone.
    pub(crate) left: Vec<Bound>,
    /// Of added columns alone.
    pub(crate) other: Vec<Bound>,
    /// The filter's step.
    pub(crate) step: StepId,
}

impl PrefilterTests {
    pub(crate) fn is_empty(&self) -> bool {
        self.left.is_empty() && self.other.is_empty()
    }
}

/// A key on both sides.
#[derive(Clone)]
pub(crate) struct KeyPair {
    pub(crate) left: Bound,
    pub(crate) other: Bound,
    pub(crate) kind: Type,
    /// The left side as it is written.
    pub(crate) text: String,
}

/// `left op other`, with an order.
#[derive(Clone)]
pub(crate) struct Comparison {
    pub(crate) left: Bound,
    pub(crate) op: Binary,
    pub(crate) other: Bound,
    pub(crate) kind: Type,
}
