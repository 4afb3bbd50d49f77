//! Frames of window functions, as they are written.

use churn_core::Interval;

use super::Expr;

/// The rows that a call in a window sees, as they are written.
#[derive(Clone, Debug, PartialEq)]
pub enum Frame {
    /// `over last N rows`, `over last N days`.
    Last(Expr, Unit),
    /// `over next N rows`, `over next N days`.
    Next(Expr, Unit),
    /// `over rows so far`.
    SoFar,
    /// `over rows from here`.
    FromHere,
    /// `over rows between A and B`, `over range between A and B`.
    Between {
        /// Whether rows are counted; else keys are measured.
        rows: bool,
        /// Where it starts.
        from: Edge,
        /// Where it ends.
        to: Edge,
    },
}

/// An end of a frame.
#[derive(Clone, Debug, PartialEq)]
pub enum Edge {
    /// `unbounded preceding`.
    First,
    /// `N preceding`.
    Before(Expr),
    /// `current row`.
    Here,
    /// `N following`.
    After(Expr),
    /// `unbounded following`.
    Last,
}

/// What a frame is counted in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Unit {
    Rows,
    Years,
    Quarters,
    Months,
    Weeks,
    Days,
    Hours,
    Minutes,
    Seconds,
}

impl Unit {
    /// All units.
    pub const ALL: [Unit; 9] = [
        Unit::Rows,
        Unit::Years,
        Unit::Quarters,
        Unit::Months,
        Unit::Weeks,
        Unit::Days,
        Unit::Hours,
        Unit::Minutes,
        Unit::Seconds,
    ];

    /// The word for it, as it stands after one.
    pub fn word(self) -> &'static str {
        match self {
            Unit::Rows => "row",
            Unit::Years => "year",
            Unit::Quarters => "quarter",
            Unit::Months => "month",
            Unit::Weeks => "week",
            Unit::Days => "day",
            Unit::Hours => "hour",
            Unit::Minutes => "minute",
            Unit::Seconds => "second",
        }
    }

    /// So many of it as an interval; `None` for rows.
    pub(crate) fn interval(self, count: i64) -> Option<Interval> {
        let months = |n: i64| Interval { months: count.saturating_mul(n), ..Interval::default() };
        let days = |n: i64| Interval { days: count.saturating_mul(n), ..Interval::default() };
        let seconds =
            |n: i64| Interval { micros: count.saturating_mul(n * 1_000_000), ..Interval::default() };
        Some(match self {
            Unit::Rows => return None,
            Unit::Years => months(12),
            Unit::Quarters => months(3),
            Unit::Months => months(1),
            Unit::Weeks => days(7),
            Unit::Days => days(1),
            Unit::Hours => seconds(3600),
            Unit::Minutes => seconds(60),
            Unit::Seconds => seconds(1),
        })
    }
}

impl Frame {
    /// The expressions in it.
    pub(super) fn parts(&self) -> Vec<&Expr> {
        match self {
            Frame::Last(n, _) | Frame::Next(n, _) => vec![n],
            Frame::SoFar | Frame::FromHere => Vec::new(),
            Frame::Between { from, to, .. } => [from, to]
                .into_iter()
                .filter_map(|edge| match edge {
                    Edge::Before(n) | Edge::After(n) => Some(n),
                    _ => None,
                })
                .collect(),
        }
    }

    /// The frame with each expression in it replaced.
    pub(super) fn map(&self, f: &mut dyn FnMut(&Expr) -> Expr) -> Frame {
        let mut edge = |edge: &Edge| match edge {
            Edge::Before(n) => Edge::Before(f(n)),
            Edge::After(n) => Edge::After(f(n)),
            other => other.clone(),
        };
        match self {
            Frame::Between { rows, from, to } => {
                Frame::Between { rows: *rows, from: edge(from), to: edge(to) }
            }
            Frame::Last(n, unit) => Frame::Last(f(n), *unit),
            Frame::Next(n, unit) => Frame::Next(f(n), *unit),
            Frame::SoFar => Frame::SoFar,
            Frame::FromHere => Frame::FromHere,
        }
    }
}
