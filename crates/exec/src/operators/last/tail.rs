//! `last N`: the last rows of a table, in pieces that are dropped as later ones come. Pieces that do not fit in memory are
//! files, as large as what fits.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

use churn_core::{Batch, Result, StepId};
use churn_io::memory::Ready;
use churn_io::source::{Capability, Morsel, Scan};

use crate::runtime::budget::Reservation;
use crate::runtime::context::Context;
use crate::runtime::materialized::Materialized;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Commit, CompactBatches, Sink};
use crate::spill::{Run, RunReader, Spill};

/// Bytes of rows for which a file is made at least.
const LEAST: usize = 4 << 20;

enum TailPiece {
    Rows(Batch),
    File(Run),
}

impl TailPiece {
    fn rows(&self) -> usize {
        match self {
            TailPiece::Rows(batch) => batch.rows,
            TailPiece::File(run) => run.rows as usize,
        }
    }
}

/// The last rows.
pub(crate) struct Last {
    pieces: VecDeque<TailPiece>,
    rows: usize,
    count: usize,
    reservation: Reservation,
    spill: Spill,
    step: StepId,
}

impl Last {
    pub(crate) fn sink(count: usize, step: StepId, context: &Context) -> Sink<CompactBatches, Last> {
        let commit = Last {
            pieces: VecDeque::new(),
            rows: 0,
            count,
            reservation: context.budget.reservation(),
            spill: context.spill.clone(),
            step,
        };
        Sink { worker: Arc::new(CompactBatches), commit }
    }

    /// Puts the pieces that are in memory into one file.
    fn put_on_disk(&mut self) -> Result<()> {
        let first =
            self.pieces.iter().rposition(|piece| matches!(piece, TailPiece::File(_))).map_or(0, |at| at + 1);
        let mut file = self.spill.writer_alone()?;
        for piece in self.pieces.drain(first..) {
            if let TailPiece::Rows(batch) = piece {
                file.write(batch)?;
            }
        }
        self.pieces.push_back(TailPiece::File(file.finish()?));
        self.reservation.hold(0)
    }

    fn memory(&self) -> usize {
        let bytes = |piece: &TailPiece| if let TailPiece::Rows(batch) = piece { batch.memory() } else { 0 };
        self.pieces.iter().map(bytes).sum()
    }
}

impl Commit for Last {
    type Part = Batch;
    type Output = Materialized;

    fn commit(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<bool> {
        if batch.rows == 0 {
            return Ok(true);
        }
        self.rows += batch.rows;
        let mut fits = self.reservation.try_add(batch.memory());
        self.pieces.push_back(TailPiece::Rows(batch));
        let mut is_shorter = false;
        while let Some(first) = self.pieces.front()
            && self.rows - first.rows() >= self.count
        {
            self.rows -= first.rows();
            self.pieces.pop_front();
            is_shorter = true;
        }
        if is_shorter {
            fits = self.reservation.try_hold(self.memory());
        }
        if !fits && self.reservation.bytes() >= LEAST {
            self.put_on_disk()?;
        }
        Ok(true)
    }

    fn finish(self, work: &mut MorselOutput) -> Result<Materialized> {
        work.counters.rows(self.step, self.rows.min(self.count));
        let state = LastState { skip: self.rows.saturating_sub(self.count), pieces: self.pieces, open: None };
        Ok(Materialized::Scan(Box::new(TailScan {
            state: Mutex::new(state),
            _reservation: self.reservation,
        })))
    }
}

/// The pieces, one after the other.
struct TailScan {
    state: Mutex<LastState>,
    _reservation: Reservation,
}

struct LastState {
    /// Rows at the front that are too many.
    skip: usize,
    pieces: VecDeque<TailPiece>,
    open: Option<RunReader>,
}

impl LastState {
    fn next(&mut self) -> Result<Option<Batch>> {
        loop {
            if let Some(batch) = self.open.as_mut().and_then(Iterator::next).transpose()? {
                return Ok(Some(batch));
            }
            match self.pieces.pop_front() {
                None => return Ok(None),
                Some(TailPiece::Rows(batch)) => return Ok(Some(batch)),
                Some(TailPiece::File(run)) => self.open = run.reader()?,
            }
        }
    }
}

impl Scan for TailScan {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        while let Some(batch) = state.next()? {
            let skipped = state.skip.min(batch.rows);
            state.skip -= skipped;
            if skipped < batch.rows {
                let batch = batch.slice(skipped, batch.rows - skipped);
                return Ok(Some(Box::new(Ready::new(batch))));
            }
        }
        Ok(None)
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (0, None)
    }
}
