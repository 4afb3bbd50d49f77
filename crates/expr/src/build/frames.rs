//! Frames of window functions.

use crate::ast::{Edge, Expr, Frame, Unit};

impl Frame {
    /// This row and the ones before it, `count` in all.
    pub fn last_rows(count: impl Into<Expr>) -> Frame {
        Frame::Last(count.into(), Unit::Rows)
    }

    /// This row and the ones after it, `count` in all.
    pub fn next_rows(count: impl Into<Expr>) -> Frame {
        Frame::Next(count.into(), Unit::Rows)
    }

    /// The rows whose first order key is less than so much time before this row's, and up to it.
    pub fn last(count: impl Into<Expr>, unit: Unit) -> Frame {
        Frame::Last(count.into(), unit)
    }

    /// The rows whose first order key is less than so much time after this row's, and from it on.
    pub fn next(count: impl Into<Expr>, unit: Unit) -> Frame {
        Frame::Next(count.into(), unit)
    }

    /// From the partition's start to this row.
    pub fn so_far() -> Frame {
        Frame::SoFar
    }

    /// From this row to the partition's end.
    pub fn from_here() -> Frame {
        Frame::FromHere
    }

    /// By counted rows.
    pub fn rows(from: Edge, to: Edge) -> Frame {
        Frame::Between { rows: true, from, to }
    }

    /// By the distance of the first order key.
    pub fn range(from: Edge, to: Edge) -> Frame {
        Frame::Between { rows: false, from, to }
    }
}

impl Edge {
    /// So many rows, or so far, before this row.
    pub fn preceding(by: impl Into<Expr>) -> Edge {
        Edge::Before(by.into())
    }

    /// So many rows, or so far, after this row.
    pub fn following(by: impl Into<Expr>) -> Edge {
        Edge::After(by.into())
    }
}
