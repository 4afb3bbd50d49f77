//! How rows of two tables match, and what a match gives.

use std::sync::Arc;

use arrow_array::{Array, ArrayRef, UInt32Array, new_empty_array};
use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, JoinKind, Result, Scalar, StepId, Type, taken};
use churn_expr::Bound;
use churn_expr::ast::Binary;
use churn_kernels::columns;

use super::build_side::BuildSide;
use super::prefilter::Prefilter;
use crate::keys::UNKNOWN;
use crate::runtime::morsel_output::MorselOutput;

/// Matches of a row from which on they are not told apart.
pub(super) const MANY: usize = u8::MAX as usize;

/// A join, placed.
pub(super) struct JoinSpec {
    pub(super) kind: JoinKind,
    pub(super) asof: bool,
    pub(super) expect_one: bool,
    pub(super) expect_all: bool,
    pub(super) other_name: String,
    pub(super) keys: Vec<JoinKey>,
    pub(super) tests: Vec<JoinTest>,
    /// The types of the columns that are added.
    pub(super) added: Vec<Type>,
    /// Keys that are columns of the result of their own.
    pub(super) merged: Vec<usize>,
    /// Places of left columns that nobody reads above the join.
    pub(super) unread: Vec<usize>,
    pub(super) prefilter: Prefilter,
    pub(super) step: StepId,
    pub(super) text: String,
}

/// A key of the left rows.
pub(super) struct JoinKey {
    pub(super) left: Bound,
    pub(super) kind: Type,
    pub(super) text: String,
}

/// A condition with an order.
pub(super) struct JoinTest {
    pub(super) left: Bound,
    pub(super) op: Binary,
    pub(super) kind: Type,
}

/// The keys of some left rows, and what their conditions compare.
pub(super) struct Left {
    pub(super) keys: Vec<ArrayRef>,
    pub(super) tests: Vec<ArrayRef>,
    pub(super) rows: usize,
}

/// Left rows with the rows that they match; [`UNKNOWN`] for none.
pub struct RowPairs {
    /// `None` if they are all rows of a batch, each once and in order.
    pub(super) left: Option<Vec<u32>>,
    pub(super) other: Vec<u32>,
}

impl RowPairs {
    /// All rows of a batch, each with one row or none.
    pub(super) fn of_all(other: Vec<u32>) -> RowPairs {
        RowPairs { left: None, other }
    }

    /// No pairs yet.
    pub(super) fn new() -> RowPairs {
        RowPairs { left: Some(Vec::new()), other: Vec::new() }
    }

    /// The pairs of which both sides are there.
    pub(super) fn matched(other: &[u32]) -> RowPairs {
        let (left, other) = columns::places_where(other, |row| row != UNKNOWN);
        RowPairs { left: Some(left), other }
    }

    pub(super) fn push(&mut self, left: usize, others: &[u32]) {
        let lefts = self.left.get_or_insert_default();
        lefts.extend(std::iter::repeat_n(left as u32, others.len()));
        self.other.extend_from_slice(others);
    }

    pub(super) fn len(&self) -> usize {
        self.other.len()
    }

    /// Keeps the pairs for which `keep` holds, of the left row and the other one.
    pub(super) fn retain(&mut self, keep: impl Fn(u32, u32) -> bool) {
        let other = std::mem::take(&mut self.other);
        let left = match self.left.take() {
            Some(left) => left,
            None => (0..other.len() as u32).collect(),
        };
        let kept = left.into_iter().zip(other).filter(|(left, other)| keep(*left, *other));
        let (left, other) = kept.unzip();
        (self.left, self.other) = (Some(left), other);
    }

    pub(super) fn clear(&mut self) {
        self.left = Some(Vec::new());
        self.other.clear();
    }
}

impl JoinSpec {
    pub(super) fn kinds(&self) -> Vec<Type> {
        self.keys.iter().map(|key| key.kind.clone()).collect()
    }

    pub(super) fn conditions(&self) -> Vec<(Binary, Type)> {
        self.tests.iter().map(|test| (test.op, test.kind.clone())).collect()
    }

    /// The other table without rows.
    pub(super) fn empty_side(&self) -> Batch {
        let kinds = self.added.iter().chain(self.keys.iter().map(|k| &k.kind));
        let kinds = kinds.chain(self.tests.iter().map(|t| &t.kind));
        Batch { columns: kinds.map(|kind| new_empty_array(&kind.arrow())).collect(), rows: 0 }
    }

    /// The keys of the other table's rows, and what conditions compare with.
    pub(super) fn of_side(&self, side: &Batch) -> (Vec<ArrayRef>, Vec<ArrayRef>) {
        let mut columns = side.columns.iter().skip(self.added.len()).cloned();
        let keys = columns.by_ref().take(self.keys.len()).collect();
        (keys, columns.collect())
    }

    /// Works out what the left rows of a batch are matched by.
    pub(super) fn left(&self, batch: &Batch, work: &mut MorselOutput) -> Result<Left> {
        Ok(Left {
            keys: self.evaluated(self.keys.iter().map(|key| &key.left), batch, work)?,
            tests: self.evaluated(self.tests.iter().map(|test| &test.left), batch, work)?,
            rows: batch.rows,
        })
    }

    /// What expressions of the join give for a batch.
    pub(super) fn evaluated<'a>(
        &self,
        bounds: impl IntoIterator<Item = &'a Bound>,
        batch: &Batch,
        work: &mut MorselOutput,
    ) -> Result<Vec<ArrayRef>> {
        let evaluate = |bound: &Bound| {
            work.with_events(self.step, |events| bound.evaluate_key(batch, events))
                .map_err(|e| e.in_step(&self.text))
        };
        bounds.into_iter().map(evaluate).collect()
    }

    /// The rows of some pairs: left columns, added ones, merged keys. Of left columns that nobody reads any
    /// rows are taken, where some are chosen.
    pub(super) fn joined(
        &self,
        batch: &Batch,
        left: &Left,
        side: &BuildSide,
        pairs: &RowPairs,
    ) -> Result<Batch> {
        let lefts = pairs.left.as_ref().map(|left| UInt32Array::from(left.clone()));
        let of_left = |column: &ArrayRef| match &lefts {
            None => Ok(column.clone()),
            Some(rows) => taken(column, rows),
        };
        let rows = pairs.len();
        let left_column = |(place, column): (usize, &ArrayRef)| {
            if lefts.is_some() && rows <= column.len() && self.unread.contains(&place) {
                return Ok(column.slice(0, rows));
            }
            of_left(column)
        };
        let mut columns = batch.columns.iter().enumerate().map(left_column).collect::<Result<Vec<_>>>()?;
        columns.extend(side.taken(self.added.len(), &pairs.other)?);
        for key in self.merged.iter().filter_map(|key| left.keys.get(*key)) {
            columns.push(of_left(&widen(key)?)?);
        }
        Ok(Batch { columns, rows })
    }

    /// Rows of the other table that no left row matched: left columns are null.
    pub(super) fn alone(&self, side: &BuildSide, rows: &[u32], left_kinds: &[Type]) -> Result<Batch> {
        let null = |kind: &Type| arrow_array::new_null_array(&kind.arrow(), rows.len());
        let mut columns: Vec<ArrayRef> = left_kinds.iter().map(null).collect();
        let added = self.added.len();
        columns.extend(side.taken(added, rows)?);
        let places = UInt32Array::from(rows.to_vec());
        for column in self.merged.iter().filter_map(|key| side.rows.columns.get(added + key)) {
            columns.push(taken(column, &places)?);
        }
        Ok(Batch { columns, rows: rows.len() })
    }

    /// Whether so many matches of a row are not what is expected.
    #[inline]
    pub(super) fn is_unexpected(&self, found: usize) -> bool {
        (found > 1 && self.expect_one) || (found == 0 && self.expect_all)
    }

    /// The error of a row with so many matches.
    pub(super) fn unexpected(&self, left: &Left, row: usize, found: usize) -> Error {
        let compared = self.keys.iter().map(|k| &k.text).zip(&left.keys);
        let cells = compared.filter_map(|(text, column)| {
            let value = widen(column).ok()?;
            Some(format!("{text} = {}", Scalar::from_array(&value, row)))
        });
        let cells = churn_core::names::comma(cells);
        let other = &self.other_name;
        let error = if found == 0 {
            Error::new(
                ErrorKind::Require,
                format!("A row matches no row of {other}, and all are expected to."),
            )
            .next(format!("join anti {other} on the same keys, instead of this step, gives all such rows."))
        } else {
            let many = if found >= MANY { format!("{MANY} or more") } else { found.to_string() };
            let what = format!("A row matches {many} rows of {other}, and one is expected.");
            Error::new(ErrorKind::Require, what)
                .next(format!("Make {other} unique before: distinct by its key, or group by it."))
        };
        let error =
            if cells.is_empty() { error } else { error.why(format!("The first such row has {cells}.")) };
        error.in_step(&self.text)
    }
}

/// A join and the table that it is probed against.
pub(super) type ProbeInput = (Arc<JoinSpec>, Arc<BuildSide>);
