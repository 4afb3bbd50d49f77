//! The kinds of joins.

use std::fmt;

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
    pub fn keeps_left(self) -> bool {
        matches!(self, JoinKind::Left | JoinKind::Full)
    }

    /// Whether the other table's rows that match none stay.
    pub fn keeps_other(self) -> bool {
        matches!(self, JoinKind::Right | JoinKind::Full)
    }

    /// Whether it only chooses among the left rows.
    pub fn only_filters(self) -> bool {
        matches!(self, JoinKind::Semi | JoinKind::Anti)
    }
}

impl fmt::Display for JoinKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}
