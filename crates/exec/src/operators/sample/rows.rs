//! `sample N`: so many random rows, those with the smallest lots, in input order.
//!
//! A row is a candidate if its lot is among the smallest of the rows so far; of a table of T rows about N · (1 + ln(T/N))
//! are. Candidates are held, and those that were pushed out are dropped now and then; when they do not fit, candidates
//! go to a file in their order, and those that are in at the end are picked while it is read. Sixteen bytes a row that is
//! asked for are held in any case.

use std::collections::BinaryHeap;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::UInt32Array;
use churn_core::{Batch, Result, StepId};
use churn_io::memory::Ready;
use churn_io::source::{Capability, Morsel, Scan};
use churn_kernels::known::known_part;

use super::lot;
use crate::runtime::budget::Reservation;
use crate::runtime::context::Context;
use crate::runtime::materialized::Materialized;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Commit, CompactBatches, Sink};
use crate::spill::partitioned::{position_column, positions};
use crate::spill::{RunReader, RunWriter, Spill};

/// Candidates beyond twice the rows that are asked for, from which on those that were pushed out are dropped.
const SPARE: usize = 1 << 14;

pub(crate) struct SampleRows {
    count: usize,
    seed: u64,
    row: u64,
    /// The lots that are in, largest on top, with the row's place.
    best: BinaryHeap<(u64, u64)>,
    /// Candidates with their places.
    candidates: Vec<(Vec<u64>, Batch)>,
    rows: usize,
    /// Where they go once they do not fit.
    file: Option<RunWriter>,
    reservation: Reservation,
    spill: Spill,
    step: StepId,
}

impl SampleRows {
    pub(crate) fn sink(
        count: usize,
        seed: u64,
        step: StepId,
        context: &Context,
    ) -> Sink<CompactBatches, SampleRows> {
        let commit = SampleRows {
            count,
            seed,
            row: 0,
            best: BinaryHeap::new(),
            candidates: Vec::new(),
            rows: 0,
            file: None,
            reservation: context.budget.reservation(),
            spill: context.spill.clone(),
            step,
        };
        Sink { worker: Arc::new(CompactBatches), commit }
    }

    /// Whether a row is a candidate; it is in from then on, until a smaller lot pushes it out.
    fn enters(&mut self, row: u64) -> bool {
        enters(&mut self.best, self.count, (lot(self.seed, row), row))
    }

    /// The places of the rows that are in, rising.
    fn places(&self) -> Vec<u64> {
        let mut places: Vec<u64> = self.best.iter().map(|(_, row)| *row).collect();
        places.sort_unstable();
        places
    }

    /// Drops the candidates that are no longer in.
    fn drop_others(&mut self) -> Result<()> {
        let places = self.places();
        let mut kept = Vec::new();
        for (own, batch) in self.candidates.drain(..) {
            let (own, batch) = chosen(&own, &batch, &places)?;
            if batch.rows > 0 {
                kept.push((own, batch.compacted()));
            }
        }
        self.candidates = kept;
        self.rows = self.candidates.iter().map(|(_, batch)| batch.rows).sum();
        Ok(())
    }

    /// Bytes in use: candidates with their places, their lots, and the places in order at the end.
    fn memory(&self) -> usize {
        let candidates = self.candidates.iter().map(|(places, batch)| batch.memory() + places.len() * 8);
        candidates.sum::<usize>() + self.best.len() * LOT
    }

    fn put_on_disk(&mut self) -> Result<()> {
        let mut file = self.spill.writer_alone()?;
        self.candidates.drain(..).try_for_each(|(places, batch)| write(&mut file, &places, batch))?;
        self.file = Some(file);
        self.reservation.hold(0)
    }
}

/// Whether a lot, with its row's place, is among the `count` smallest so far; then it is put among them, and the largest goes.
pub(super) fn enters(best: &mut BinaryHeap<(u64, u64)>, count: usize, entry: (u64, u64)) -> bool {
    if best.len() < count {
        best.push(entry);
        return true;
    }
    let is_in = best.peek().is_some_and(|worst| entry < *worst);
    if is_in {
        best.pop();
        best.push(entry);
    }
    is_in
}

fn write(file: &mut RunWriter, places: &[u64], mut batch: Batch) -> Result<()> {
    batch.columns.insert(0, position_column(places.iter().copied()));
    file.write(batch)
}

/// The rows, among some with these places, whose places are among others; both rise.
fn chosen(own: &[u64], batch: &Batch, places: &[u64]) -> Result<(Vec<u64>, Batch)> {
    let from = own.first().map_or(0, |first| places.partition_point(|place| place < first));
    let mut wanted = known_part(places, from..).iter().peekable();
    let is_wanted = |place: &u64| {
        while wanted.next_if(|next| *next < place).is_some() {}
        wanted.peek() == Some(&place)
    };
    let keep: Vec<bool> = own.iter().map(is_wanted).collect();
    let kept = own.iter().zip(&keep).filter(|(_, keep)| **keep).map(|(place, _)| *place).collect();
    Ok((kept, batch.filter(&keep.into())?))
}

/// Bytes of a lot with its row, and of the row once more.
const LOT: usize = 24;

impl Commit for SampleRows {
    type Part = Batch;
    type Output = Materialized;

    fn commit(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<bool> {
        let first = self.row;
        self.row += batch.rows as u64;
        let rows: Vec<u32> =
            (0..batch.rows as u32).filter(|row| self.enters(first + u64::from(*row))).collect();
        if rows.is_empty() {
            return Ok(true);
        }
        let places: Vec<u64> = rows.iter().map(|row| first + u64::from(*row)).collect();
        let batch =
            if rows.len() == batch.rows { batch } else { batch.take(&UInt32Array::from(rows))?.compacted() };
        if let Some(file) = &mut self.file {
            return write(file, &places, batch).map(|()| true);
        }
        self.rows += batch.rows;
        let more = batch.memory() + places.len() * (8 + LOT);
        self.candidates.push((places, batch));
        let mut fits = self.reservation.try_add(more);
        if !fits || self.rows > 2 * self.count + SPARE {
            self.drop_others()?;
            fits = self.reservation.try_hold(self.memory());
        }
        if !fits {
            self.put_on_disk()?;
        }
        Ok(true)
    }

    fn finish(mut self, work: &mut MorselOutput) -> Result<Materialized> {
        work.counters.rows(self.step, self.best.len());
        if let Some(file) = self.file.take() {
            let places = self.places();
            let reader = Mutex::new(file.finish()?.reader()?);
            return Ok(Materialized::Scan(Box::new(PickedRows { reader, places })));
        }
        self.drop_others()?;
        Ok(Materialized::Batches(self.candidates.into_iter().map(|(_, batch)| batch).collect()))
    }
}

/// Candidates in a file, of which those that are in are picked.
struct PickedRows {
    reader: Mutex<Option<RunReader>>,
    places: Vec<u64>,
}

impl Scan for PickedRows {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut reader = self.reader.lock().unwrap_or_else(PoisonError::into_inner);
        while let Some(mut batch) = reader.as_mut().and_then(Iterator::next).transpose()? {
            let column = batch.columns.remove(0);
            let own: Vec<u64> = positions(&column)?.iter().map(|place| place.cast_unsigned()).collect();
            let (_, batch) = chosen(&own, &batch, &self.places)?;
            if batch.rows > 0 {
                return Ok(Some(Box::new(Ready::new(batch))));
            }
        }
        Ok(None)
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (0, None)
    }
}
