//! The run of one pipeline: its state, and the threads over it.

use std::collections::{BTreeMap, HashMap};
use std::sync::atomic::AtomicBool;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use churn_core::parallel::guarded;
use churn_core::{Error, Result, cancel, current_step};
use churn_io::source::Capability;
use churn_io::target::Placed;

use super::worker::Done;
use super::{Leg, Pipeline};
use crate::runtime::context::Context;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::serial::SerialOp;
use crate::runtime::sink::{self, AnyCommit, AnyWorker};

pub(super) struct Queue {
    /// Morsels done but not yet taken by the sink.
    pub(super) waiting: BTreeMap<u64, Result<Done>>,
    /// Bytes of the rows that wait in them, about.
    pub(super) bytes: usize,
    /// The number of the next morsel to hand out, and of the next the sink takes.
    pub(super) taken: u64,
    pub(super) next: u64,
    /// Whether a worker is handing morsels to the sink.
    pub(super) committing: bool,
    pub(super) error: Option<Error>,
}

impl Queue {
    /// Whether the sink is too far behind for another morsel to be taken: of the number of morsels, or of the bytes of
    /// those that are done. The next one that the sink takes is never waited for.
    pub(super) fn is_full(&self, run: &PipelineRun<'_>) -> bool {
        self.taken >= self.next + run.ahead || (self.bytes > run.most_waiting && self.taken > self.next)
    }

    /// Keeps a morsel that is done until its turn comes.
    pub(super) fn push(&mut self, number: u64, done: Result<Done>) {
        self.bytes += done.as_ref().map_or(0, |done| done.bytes);
        self.waiting.insert(number, done);
    }

    /// The next morsel, if it is done.
    pub(super) fn pop(&mut self) -> Option<Result<Done>> {
        let done = self.waiting.remove(&self.next)?;
        self.bytes -= done.as_ref().map_or(0, |done| done.bytes);
        Some(done)
    }
}

/// The ordered side: only one worker at a time is in it.
pub(super) struct OrderedSide<'a> {
    /// Where the morsels so far ended, by what they are parts of.
    pub(super) seams: HashMap<(usize, usize), u64>,
    pub(super) serial: Vec<Box<dyn SerialOp>>,
    pub(super) commit: &'a mut dyn AnyCommit,
    pub(super) work: MorselOutput,
    pub(super) told: Instant,
    pub(super) rows: u64,
}

pub(super) struct PipelineRun<'a> {
    pub(super) legs: &'a [Leg],
    pub(super) has_serial: bool,
    pub(super) worker: &'a dyn AnyWorker,
    pub(super) queue: Mutex<Queue>,
    pub(super) moved: Condvar,
    /// The leg that morsels are taken from; guards the order of numbers and morsels.
    pub(super) source: Mutex<usize>,
    pub(super) ordered: Mutex<OrderedSide<'a>>,
    pub(super) stop: AtomicBool,
    pub(super) context: &'a Context,
    pub(super) ahead: u64,
    /// Bytes of rows that a worker makes of a morsel before it waits for its turn, and of morsels that are done before
    /// workers wait for the sink.
    pub(super) most_waiting: usize,
}

impl PipelineRun<'_> {
    /// The queue again, when something in it has moved.
    pub(super) fn waited<'q>(&self, queue: MutexGuard<'q, Queue>) -> MutexGuard<'q, Queue> {
        current_step::waiting(|| self.moved.wait(queue).unwrap_or_else(PoisonError::into_inner))
    }
}

pub(super) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Runs a pipeline up to the last part that its sink takes, or up to the first error; gives what was counted until then,
/// and the error.
pub(super) fn run_rows(
    pipeline: Pipeline,
    worker: &dyn AnyWorker,
    commit: &mut dyn AnyCommit,
    context: &Context,
) -> Result<(MorselOutput, Option<Error>)> {
    let Pipeline { mut legs, serial, ends, .. } = pipeline;
    let gathers = serial.is_empty() && worker.gathers();
    if gathers {
        legs.iter_mut().for_each(|leg| {
            leg.scan.enable(Capability::LargeMorsels);
        });
    }
    let threads = context.threads().count() as u64;
    let run = PipelineRun {
        legs: &legs,
        has_serial: !serial.is_empty(),
        worker,
        queue: Mutex::new(Queue {
            waiting: BTreeMap::new(),
            bytes: 0,
            taken: 0,
            next: 0,
            committing: false,
            error: None,
        }),
        moved: Condvar::new(),
        source: Mutex::new(0),
        ordered: Mutex::new(OrderedSide {
            seams: HashMap::new(),
            serial,
            commit,
            work: MorselOutput::new(context.steps()),
            told: Instant::now(),
            rows: 0,
        }),
        stop: AtomicBool::new(false),
        context,
        // A worker that holds the output of a morsel until its turn comes hands it over before the morsel is finished
        // once it holds more than this, so that an operator that multiplies rows stays within the budget. Tests with
        // small batches hand each over at once.
        most_waiting: match context.options.batch_rows {
            Some(_) => 0,
            None => usize::try_from(context.budget.share()).unwrap_or(usize::MAX),
        },
        // Morsels that may be in work at once. Sinks that aggregate hold one result a morsel, which may be large: one more
        // than there are threads. Others hold batches that wait for the ordered side: some more, so that workers go on
        // while it is busy.
        ahead: if gathers { threads + 1 } else { threads * 8 + 1 },
    };
    context.threads().together(|| run.worker());
    let PipelineRun { queue, ordered, .. } = run;
    let queue = queue.into_inner().unwrap_or_else(PoisonError::into_inner);
    let OrderedSide { serial, commit, mut work, .. } =
        ordered.into_inner().unwrap_or_else(PoisonError::into_inner);
    if queue.error.is_some() {
        return Ok((work, queue.error));
    }
    guarded(|| kept_back(serial, worker, &mut *commit, &mut work, context))?;
    // Where a `first` stopped the run, steps below it are not told of, and those above saw all that there is.
    ends.into_iter().for_each(|end| end(&mut work));
    for leg in &legs {
        if let (Some(step), Some(limit)) = (leg.scan_step, leg.limit) {
            work.counters.limit(step, limit as u64);
        }
    }
    Ok((work, None))
}

/// Hands on what serial operators kept back, each behind all rows of those before it.
pub(super) fn kept_back(
    mut serial: Vec<Box<dyn SerialOp>>,
    worker: &dyn AnyWorker,
    commit: &mut dyn AnyCommit,
    work: &mut MorselOutput,
    context: &Context,
) -> Result<()> {
    // Operators before this one have nothing more to give: one behind them has all that it wants.
    let mut next = 0;
    while let Some((op, later)) = serial.get_mut(next..).and_then(<[_]>::split_first_mut) {
        next += 1;
        let Some(scan) = op.finish(work)? else { continue };
        while let Some(mut morsel) = scan.next()? {
            while let Some(decoded) = morsel.next(None)? {
                cancel::check()?;
                let mut batch = decoded.batch;
                for op in later.iter_mut() {
                    batch = op.apply(batch, work)?;
                }
                let mut more = true;
                for part in sink::parts_of(worker, batch, work)? {
                    more &= commit.commit_any(part, work)?;
                }
                context.write_side(work)?;
                work.placed.drain(..).try_for_each(Placed::write)?;
                if !more {
                    return Ok(());
                }
            }
            if let Some(full) = later.iter().rposition(|op| op.is_full()) {
                next += full + 1;
                break;
            }
        }
    }
    Ok(())
}

impl PipelineRun<'_> {
    /// Whether a source is read.
    pub(super) fn reads(&self) -> bool {
        self.legs.iter().any(|leg| leg.scan_step.is_some())
    }

    /// What was given so far and what there is in all, of all legs: bytes of sources, else rows.
    pub(super) fn progress(&self) -> (u64, Option<u64>) {
        let legs = self.legs.iter().map(|leg| leg.scan.progress());
        legs.fold((0, Some(0)), |(done, total), (d, t)| (done + d, total.zip(t).map(|(total, t)| total + t)))
    }
}
