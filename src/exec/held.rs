//! Sinks that hold rows: results, and tables that are used more than once.

use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{Array, ArrayRef};

use super::budget::Reservation;
use super::context::Context;
use super::pipeline::{self, Commit, Part, Pipeline, Prepare, Sink};
use super::spill::{Reader, Run, Spill, Writer};
use super::tally::Work;
use crate::error::{Error, ErrorKind, Result};
use crate::expr::{Batch, alike};
use crate::io::memory::{Batches, Ready};
use crate::io::source::{Morsel, Scan};

/// What a sink holds when its pipeline has run.
pub(crate) enum Held {
    Batches(Vec<Batch>),
    /// Rows that are made, or read from disk, as they are taken.
    Scan(Box<dyn Scan>),
}

impl Held {
    /// A source of the rows for the next pipeline.
    pub(crate) fn scan(self) -> Box<dyn Scan> {
        match self {
            Held::Batches(batches) => Box::new(Batches::new(batches)),
            Held::Scan(scan) => scan,
        }
    }

    /// The rows in memory.
    pub(crate) fn batches(self) -> Result<Vec<Batch>> {
        let scan = match self {
            Held::Batches(batches) => return Ok(batches),
            Held::Scan(scan) => scan,
        };
        let mut batches = Vec::new();
        while let Some(mut morsel) = scan.next()? {
            while let Some(decoded) = morsel.next(None)? {
                batches.push(decoded.batch);
            }
        }
        Ok(batches)
    }
}

/// Parts of a large batch that workers can share.
pub(crate) fn slices(batch: Batch) -> Vec<Batch> {
    slices_of(batch, 1 << 14)
}

/// Parts of a batch of so many rows.
pub(crate) fn slices_of(batch: Batch, rows: usize) -> Vec<Batch> {
    if batch.rows <= rows {
        return vec![batch];
    }
    let starts = (0..batch.rows).step_by(rows);
    starts.map(|from| batch.slice(from, rows.min(batch.rows - from))).collect()
}

/// Hands batches on, freed of text that they do not need.
pub(crate) struct Compacted;

impl Prepare for Compacted {
    fn prepare(&self, batch: Batch, _: &mut Work) -> Result<Part> {
        Ok(Box::new(batch.compacted()))
    }
}

/// The batch that a part is.
pub(crate) fn batch_of(part: Part) -> Result<Batch> {
    match part.downcast::<Batch>() {
        Ok(batch) => Ok(*batch),
        Err(_) => Err(Error::new(ErrorKind::Internal, "A sink was handed something else than a batch.")),
    }
}

/// All rows, for the caller: what they hold is the caller's, not the run's.
pub(crate) struct Collect(Vec<Batch>);

impl Collect {
    pub(crate) fn sink() -> Sink {
        Sink { prepare: Arc::new(Compacted), commit: Box::new(Collect(Vec::new())) }
    }
}

impl Commit for Collect {
    fn commit(&mut self, part: Part, _: &mut Work) -> Result<bool> {
        let batch = batch_of(part)?;
        if batch.rows > 0 {
            self.0.push(batch);
        }
        Ok(true)
    }

    fn finish(self: Box<Self>, _: &mut Work) -> Result<Held> {
        Ok(Held::Batches(self.0))
    }
}

/// All rows of a table that is used more than once: in memory, or in a file if they do not fit.
pub(crate) struct Keep {
    batches: Vec<Batch>,
    file: Option<Writer>,
    spill: Spill,
    held: Reservation,
    /// Bytes that are kept in memory at most.
    most: usize,
}

/// A table that has run.
#[derive(Clone)]
pub(crate) enum Kept {
    Batches(Arc<(Vec<Batch>, Reservation)>),
    Run(Run),
}

impl Kept {
    /// How many rows there are.
    pub(crate) fn rows(&self) -> u64 {
        match self {
            Kept::Batches(kept) => kept.0.iter().map(|batch| batch.rows as u64).sum(),
            Kept::Run(run) => run.rows,
        }
    }

    /// A source of the rows.
    pub(crate) fn held(&self) -> Result<Held> {
        match self {
            Kept::Batches(kept) => Ok(Held::Batches(kept.0.clone())),
            Kept::Run(run) => Ok(Held::Scan(Box::new(Stored(Mutex::new(run.reader()?))))),
        }
    }
}

impl Keep {
    /// Runs a pipeline and keeps its rows.
    pub(crate) fn run(pipeline: Pipeline, context: &Context) -> Result<Kept> {
        Keep::run_within(usize::MAX, pipeline, context)
    }

    /// Runs a pipeline and keeps its rows, so many bytes of them in memory at most.
    pub(crate) fn run_within(most: usize, pipeline: Pipeline, context: &Context) -> Result<Kept> {
        let kept = Arc::new(Mutex::new(None));
        let (spill, held) = (context.spill.clone(), context.budget.reservation());
        let keep = Keep { batches: Vec::new(), file: None, spill, held, most };
        let commit = Box::new(Keeping { keep, kept: kept.clone() });
        pipeline::run(pipeline, Sink { prepare: Arc::new(Compacted), commit }, context)?;
        let kept = kept.lock().unwrap_or_else(PoisonError::into_inner).take();
        kept.ok_or_else(|| Error::new(ErrorKind::Internal, "A table was not kept."))
    }
}

struct Keeping {
    keep: Keep,
    kept: Arc<Mutex<Option<Kept>>>,
}

impl Commit for Keeping {
    fn commit(&mut self, part: Part, _: &mut Work) -> Result<bool> {
        let batch = batch_of(part)?;
        let keep = &mut self.keep;
        if let Some(file) = &mut keep.file {
            return file.write(batch).map(|()| true);
        }
        if batch.rows > 0 {
            let fits = keep.held.try_add(batch.memory()) && keep.held.bytes() <= keep.most;
            keep.batches.push(batch);
            if !fits {
                let mut file = keep.spill.writer_alone()?;
                keep.batches.drain(..).try_for_each(|batch| file.write(batch))?;
                keep.file = Some(file);
                keep.held.hold(0)?;
            }
        }
        Ok(true)
    }

    fn finish(self: Box<Self>, _: &mut Work) -> Result<Held> {
        let Keep { batches, file, held, .. } = self.keep;
        let kept = match file {
            Some(file) => Kept::Run(file.finish()?),
            None => Kept::Batches(Arc::new((batches, held))),
        };
        *self.kept.lock().unwrap_or_else(PoisonError::into_inner) = Some(kept);
        Ok(Held::Batches(Vec::new()))
    }
}

/// Rows in a file, batch by batch.
struct Stored(Mutex<Option<Reader>>);

impl Scan for Stored {
    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut reader = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let batch = reader.as_mut().and_then(Iterator::next).transpose()?;
        Ok(batch.map(|batch| Box::new(Ready::new(batch)) as Box<dyn Morsel>))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (0, None)
    }
}

/// One batch of many small ones.
pub(crate) fn concat(batches: Vec<Batch>) -> Result<Vec<Batch>> {
    let Some(first) = batches.first() else { return Ok(Vec::new()) };
    let mut columns = Vec::new();
    for i in 0..first.columns.len() {
        let mut parts: Vec<ArrayRef> = batches.iter().filter_map(|b| b.columns.get(i).cloned()).collect();
        alike(&mut parts)?;
        let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
        columns.push(arrow_select::concat::concat(&parts).map_err(crate::expr::arrow_error)?);
    }
    Ok(vec![Batch { columns, rows: batches.iter().map(|b| b.rows).sum() }])
}

/// No rows at all: the chain runs for what it writes or requires.
pub(crate) struct Discard;

impl Discard {
    pub(crate) fn sink() -> Sink {
        Sink { prepare: Arc::new(Discard), commit: Box::new(Discard) }
    }
}

impl Prepare for Discard {
    fn prepare(&self, _: Batch, _: &mut Work) -> Result<Part> {
        Ok(Box::new(()))
    }
}

impl Commit for Discard {
    fn commit(&mut self, _: Part, _: &mut Work) -> Result<bool> {
        Ok(true)
    }

    fn finish(self: Box<Self>, _: &mut Work) -> Result<Held> {
        Ok(Held::Batches(Vec::new()))
    }
}
