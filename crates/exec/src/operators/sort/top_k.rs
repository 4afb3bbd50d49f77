//! `sort` where only the first rows are wanted: never holds much more than those.
//!
//! Workers leave out what cannot be among them: rows behind the worst of those that are kept so far, and rows
//! behind so many of their own batch. The ordered side keeps about twice the wanted rows.

use std::cmp::Ordering;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::UInt32Array;
use arrow_row::{OwnedRow, Row, RowConverter, Rows};
use churn_core::{Batch, Result};

use super::Order;
use crate::runtime::budget::Reservation;
use crate::runtime::context::Context;
use crate::runtime::gathered::gathered;
use crate::runtime::materialized::{Materialized, slices};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Commit, Local, Sink, Worker};

/// A batch with its keys.
pub(crate) struct Keyed {
    batch: Batch,
    keys: Rows,
}

pub(crate) struct Candidates {
    order: Arc<Order>,
    keep: usize,
    converter: Arc<RowConverter>,
    worst: Worst,
}

/// The key of the last row that is kept so far, once there are as many as are wanted.
type Worst = Arc<Mutex<Option<OwnedRow>>>;

impl Candidates {
    /// The rows of a batch that may be among the first, in their order.
    fn candidates(&self, keys: &Rows) -> Vec<u32> {
        let keep = self.keep;
        let worst = self.worst.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let mut rows: Vec<u32> = (0..keys.num_rows() as u32).collect();
        if let Some(worst) = worst {
            // A later row that equals the worst one comes after it.
            rows.retain(|row| keys.row(*row as usize) < worst.row());
        }
        if keep > 0 && rows.len() > keep {
            let order = |a: &u32, b: &u32| keys.row(*a as usize).cmp(&keys.row(*b as usize)).then(a.cmp(b));
            rows.select_nth_unstable_by(keep - 1, order);
            rows.truncate(keep);
            rows.sort_unstable();
        }
        rows
    }
}

impl Worker for Candidates {
    type Part = Keyed;
    type Local<'a> = CandidatesOfMorsel<'a>;

    const GATHERS: bool = false;

    fn local(&self) -> Result<CandidatesOfMorsel<'_>> {
        Ok(CandidatesOfMorsel(self))
    }
}

pub(crate) struct CandidatesOfMorsel<'a>(&'a Candidates);

impl Local for CandidatesOfMorsel<'_> {
    type Part = Keyed;

    fn consume(&mut self, batch: Batch, output: &mut MorselOutput) -> Result<Option<Keyed>> {
        let Candidates { order, converter, .. } = self.0;
        let columns = order.columns(&batch, output)?;
        let keys = converter.convert_columns(&columns).map_err(churn_core::arrow_error)?;
        let rows = self.0.candidates(&keys);
        let mut kept = converter.empty_rows(rows.len(), rows.len() * 16);
        rows.iter().for_each(|row| kept.push(keys.row(*row as usize)));
        let batch = batch.take(&UInt32Array::from(rows))?;
        Ok(Some(Keyed { batch: batch.compacted(), keys: kept }))
    }

    fn seal(self) -> Result<Option<Keyed>> {
        Ok(None)
    }
}

pub(crate) struct TopRows {
    keep: usize,
    converter: Arc<RowConverter>,
    worst: Worst,
    reservation: Reservation,
    parts: Vec<Keyed>,
    rows: usize,
}

/// The sink of a sort of which `keep` rows are wanted.
pub(crate) fn sink(order: Order, keep: usize, context: &Context) -> Result<Sink<Candidates, TopRows>> {
    let converter = Arc::new(order.converter()?);
    let worst = Worst::default();
    let commit = TopRows {
        keep,
        converter: converter.clone(),
        worst: worst.clone(),
        reservation: context.budget.reservation(),
        parts: Vec::new(),
        rows: 0,
    };
    let candidates = Candidates { order: Arc::new(order), keep, converter, worst };
    Ok(Sink { worker: Arc::new(candidates), commit })
}

/// The most rows that are kept so; more are sorted as all rows are.
pub(crate) const MOST: usize = 1 << 16;

/// Rows over twice the wanted ones before those that cannot be among them are dropped.
///
/// Few enough that the worst row is known after the first batches, enough that dropping costs little.
const SURPLUS: usize = 1 << 11;

impl TopRows {
    fn key(&self, at: &(u32, u32)) -> Option<Row<'_>> {
        self.parts.get(at.0 as usize).map(|p| p.keys.row(at.1 as usize))
    }

    /// The places of the first rows, in order; of equal rows the earlier one comes first.
    fn best(&self) -> Vec<(u32, u32)> {
        let mut all: Vec<(u32, u32)> = Vec::with_capacity(self.rows);
        for (part, keyed) in (0u32..).zip(&self.parts) {
            all.extend((0..keyed.keys.num_rows() as u32).map(|row| (part, row)));
        }
        let order =
            |a: &(u32, u32), b: &(u32, u32)| -> Ordering { self.key(a).cmp(&self.key(b)).then(a.cmp(b)) };
        all.sort_unstable_by(order);
        all.truncate(self.keep);
        all
    }

    fn gathered(&self, places: &[(u32, u32)]) -> Result<Batch> {
        let batches: Vec<&Batch> = self.parts.iter().map(|p| &p.batch).collect();
        gathered(&batches, places)
    }

    /// Drops all rows but those that may still be among the kept ones.
    fn shrink(&mut self) -> Result<()> {
        let mut best = self.best();
        if let (Some(last), true) = (best.last(), best.len() == self.keep) {
            let key = self.key(last).map(|key| key.owned());
            *self.worst.lock().unwrap_or_else(PoisonError::into_inner) = key;
        }
        // In order of place, so that rows that are equal keep the order they came in.
        best.sort_unstable();
        let batch = self.gathered(&best)?;
        let mut keys = self.converter.empty_rows(best.len(), best.len() * 16);
        best.iter().filter_map(|at| self.key(at)).for_each(|key| keys.push(key));
        self.rows = batch.rows;
        self.parts = vec![Keyed { batch, keys }];
        let bytes: usize = self.parts.iter().map(|p| p.batch.memory() + p.keys.size()).sum();
        // No more than the rows that were asked for, and few: they count, but stop nothing.
        let _ = self.reservation.try_hold(bytes);
        Ok(())
    }
}

impl Commit for TopRows {
    type Part = Keyed;
    type Output = Materialized;

    fn commit(&mut self, keyed: Keyed, _: &mut MorselOutput) -> Result<bool> {
        if keyed.batch.rows > 0 {
            let _ = self.reservation.try_add(keyed.batch.memory() + keyed.keys.size());
            self.rows += keyed.batch.rows;
            self.parts.push(keyed);
        }
        if self.rows > self.keep * 2 + SURPLUS {
            self.shrink()?;
        }
        Ok(true)
    }

    fn finish(self, _: &mut MorselOutput) -> Result<Materialized> {
        if self.parts.is_empty() {
            return Ok(Materialized::Batches(Vec::new()));
        }
        Ok(Materialized::Batches(slices(self.gathered(&self.best())?)))
    }
}
