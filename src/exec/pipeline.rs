//! Workers, numbered morsels, and the ordered hand-over to a sink.

use std::collections::{BTreeMap, HashMap};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use super::context::Context;
use super::materialized::{materialize, slices_of};
use super::morsel_output::{MorselOutput, SideOutput};
use super::options::Progress;
use super::serial::SerialOp;
use super::sink::{self, AnyCommit, AnyPart, AnyWorker, Commit, Sink, Worker};
use super::stream::{self, ScanTest, StreamOp};
use crate::cancel::{self, Cancel};
use crate::error::{Error, Result};
use crate::expr::{Batch, ColumnId};
use crate::io::source::{Morsel, Scan, Seam};
use crate::io::target::Placed;
use crate::parallel::guarded;
use crate::plan::StepId;

/// Parts of files that wait to be written before the worker that placed them writes them.
const MOST_PLACED: usize = 8;

/// A source and the operators that its rows go through first.
pub(crate) struct Leg {
    pub(crate) scan: Box<dyn Scan>,
    pub(crate) test: Option<ScanTest>,
    /// The step that reads, and the most rows that it may hand on.
    pub(crate) scan_step: Option<StepId>,
    pub(crate) limit: Option<usize>,
    /// Where rows that do not fit are written, among the side outputs.
    pub(crate) rejects: Option<usize>,
    pub(crate) stream: Vec<Arc<dyn StreamOp>>,
    /// Whether it starts only when all rows before it were handed over.
    pub(crate) waits: bool,
}

impl Leg {
    /// A source whose rows nothing is done to yet.
    pub(crate) fn of(scan: Box<dyn Scan>) -> Leg {
        Leg {
            scan,
            test: None,
            scan_step: None,
            limit: None,
            rejects: None,
            stream: Vec::new(),
            waits: false,
        }
    }

    /// The next rows of a morsel.
    fn read(&self, morsel: &mut dyn Morsel, work: &mut MorselOutput) -> Result<Option<Batch>> {
        cancel::check()?;
        let decoded = match &self.test {
            None => morsel.next(None),
            Some(test) => test.with(work, |test| morsel.next(Some(test))),
        };
        let Some(decoded) = decoded? else { return Ok(None) };
        work.source_rows += decoded.rows + decoded.skipped;
        if let Some(test) = self.test.as_ref().and_then(|t| t.tests.first()) {
            test.skipped(decoded.skipped, work);
        }
        if let Some(step) = self.scan_step {
            work.counters.rows(step, decoded.rows + decoded.skipped);
            for (event, count) in &decoded.events {
                work.counters.event(step, *event, *count);
            }
        }
        if let Some(output) = self.rejects
            && !decoded.rejects.is_empty()
        {
            work.side.push((output, SideOutput::Bytes(decoded.rejects)));
        }
        Ok(Some(decoded.batch))
    }
}

/// Sources, one after the other, and the operators over them, up to the next sink.
pub(crate) struct Pipeline {
    pub(crate) legs: Vec<Leg>,
    pub(crate) serial: Vec<Box<dyn SerialOp>>,
    /// What is to be told when all rows went through.
    pub(crate) ends: Vec<End>,
    /// Whether an operator must see every row, so that nothing after it may stop the run.
    pub(crate) acts: bool,
    /// The columns that come out.
    pub(crate) layout: Vec<ColumnId>,
}

/// Counts something once all rows went through a pipeline.
pub(crate) type End = Box<dyn FnOnce(&mut MorselOutput) + Send>;

impl Pipeline {
    /// A pipeline over one source.
    pub(crate) fn of(leg: Leg, layout: Vec<ColumnId>) -> Pipeline {
        Pipeline { legs: vec![leg], serial: Vec::new(), ends: Vec::new(), acts: false, layout }
    }

    /// Adds an operator: to the workers' part, or behind the first serial one.
    pub(crate) fn push(&mut self, op: Box<dyn StreamOp>) {
        if self.serial.is_empty() {
            let op: Arc<dyn StreamOp> = Arc::from(op);
            self.legs.iter_mut().for_each(|leg| leg.stream.push(op.clone()));
        } else {
            self.serial.push(Box::new(super::serial::Streamed(op)));
        }
    }

    /// The same rows from a pipeline without serial operators: if it has some, it runs, and its rows are held.
    pub(crate) fn without_serial(self, context: &Context) -> Result<Pipeline> {
        if self.serial.is_empty() {
            return Ok(self);
        }
        let (layout, acts) = (self.layout.clone(), self.acts);
        let kept = materialize(self, context)?;
        Ok(Pipeline { acts, ..Pipeline::of(Leg::of(kept.materialized()?.scan()), layout) })
    }
}

/// A morsel and the leg that it is of.
type Taken = (usize, Box<dyn Morsel>);

/// What a worker made of a morsel.
struct Done {
    leg: usize,
    morsel: Box<dyn Morsel>,
    parts: Result<Parts>,
    work: MorselOutput,
}

/// Batches that go through serial operators, or parts that are ready.
enum Parts {
    Batches(Vec<Batch>),
    Ready(Vec<AnyPart>),
}

/// What became of a morsel.
enum MorselResult {
    Parts(Parts),
    /// It must be read again from where it begins.
    Again(Box<dyn Morsel>),
}

/// What follows when a part of a morsel was handed over.
enum Handover {
    GoOn,
    /// The sink wants no more, or the run has stopped.
    Stopped,
    /// The morsel began at the wrong place: here it begins.
    StartsAt(u64),
}

/// A worker's place in the order of morsels.
struct Turn {
    /// The number of its morsel; none for one that is read again in the ordered side.
    number: Option<u64>,
    /// Whether it has the sink to itself until its morsel is done.
    is_held: bool,
}

/// Where a morsel should have begun, if it guessed wrong.
fn wrong_start(leg: usize, seam: Seam, seams: &HashMap<(usize, usize), u64>) -> Option<u64> {
    seams.get(&(leg, seam.place)).copied().filter(|end| !seam.known && *end != seam.start)
}

struct Queue {
    /// Morsels done but not yet taken by the sink.
    waiting: BTreeMap<u64, Result<Done>>,
    /// The number of the next morsel to hand out, and of the next the sink takes.
    taken: u64,
    next: u64,
    /// Whether a worker is handing morsels to the sink.
    committing: bool,
    error: Option<Error>,
}

/// The ordered side: only one worker at a time is in it.
struct OrderedSide<'a> {
    /// Where the morsels so far ended, by what they are parts of.
    seams: HashMap<(usize, usize), u64>,
    serial: Vec<Box<dyn SerialOp>>,
    commit: &'a mut dyn AnyCommit,
    work: MorselOutput,
    told: Instant,
    rows: u64,
}

struct Run<'a> {
    legs: &'a [Leg],
    has_serial: bool,
    worker: &'a dyn AnyWorker,
    queue: Mutex<Queue>,
    moved: Condvar,
    /// The leg that morsels are taken from; guards the order of numbers and morsels.
    source: Mutex<usize>,
    ordered: Mutex<OrderedSide<'a>>,
    stop: AtomicBool,
    context: &'a Context,
    ahead: u64,
    /// Bytes of rows that a worker makes of a morsel before it waits for its turn.
    most_waiting: usize,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Runs a pipeline into a sink; gives the sink's output.
///
/// # Errors
/// The first error in the order of rows, whichever worker met it.
pub(crate) fn run<W, C>(pipeline: Pipeline, sink: Sink<W, C>, context: &Context) -> Result<C::Output>
where
    W: Worker,
    C: Commit<Part = W::Part>,
{
    let Sink { worker, mut commit } = sink;
    let mut work = run_rows(pipeline, &*worker, &mut commit, context)?;
    let output = guarded(|| commit.finish(&mut work))?;
    context.absorb(&mut work)?;
    Ok(output)
}

/// Runs a pipeline up to the last part that its sink takes; gives what was counted.
fn run_rows(
    pipeline: Pipeline,
    worker: &dyn AnyWorker,
    commit: &mut dyn AnyCommit,
    context: &Context,
) -> Result<MorselOutput> {
    let Pipeline { mut legs, serial, ends, .. } = pipeline;
    let gathers = serial.is_empty() && worker.gathers();
    if gathers {
        legs.iter_mut().for_each(|leg| leg.scan.gather());
    }
    let threads = context.threads();
    let run = Run {
        legs: &legs,
        has_serial: !serial.is_empty(),
        worker,
        queue: Mutex::new(Queue {
            waiting: BTreeMap::new(),
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
        ahead: if gathers { threads as u64 + 1 } else { threads as u64 * 8 + 1 },
    };
    if threads == 1 {
        run.worker();
    } else {
        let cancel = Cancel::of_this_thread();
        std::thread::scope(|scope| {
            for _ in 0..threads {
                scope.spawn(|| cancel.within(|| run.worker()));
            }
        });
    }
    let Run { queue, ordered, .. } = run;
    let queue = queue.into_inner().unwrap_or_else(PoisonError::into_inner);
    if let Some(error) = queue.error {
        return Err(error);
    }
    let OrderedSide { serial, commit, mut work, .. } =
        ordered.into_inner().unwrap_or_else(PoisonError::into_inner);
    guarded(|| kept_back(serial, worker, &mut *commit, &mut work, context))?;
    // Where a `first` stopped the run, steps below it are not told of, and those above saw all that there is.
    ends.into_iter().for_each(|end| end(&mut work));
    for leg in &legs {
        if let (Some(step), Some(limit)) = (leg.scan_step, leg.limit) {
            work.counters.limit(step, limit as u64);
        }
    }
    Ok(work)
}

/// Hands on what serial operators kept back, each behind all rows of those before it.
fn kept_back(
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

impl Run<'_> {
    fn worker(&self) {
        while let Some((number, morsel)) = self.take() {
            let mut turn = Turn { number: Some(number), is_held: false };
            let done = morsel.map(|(leg, morsel)| self.process(leg, morsel, &mut turn));
            self.hand_over(number, done, turn.is_held);
        }
    }

    /// The next morsel, and the leg that it is of.
    fn next(&self, at: &mut usize) -> Result<Option<Taken>> {
        while let Some(leg) = self.legs.get(*at) {
            match guarded(|| leg.scan.next()) {
                Ok(Some(morsel)) => return Ok(Some((*at, morsel))),
                Ok(None) => *at += 1,
                Err(error) => return Err(self.named(*at, error)),
            }
            if self.legs.get(*at).is_some_and(|next| next.waits) {
                let mut queue = lock(&self.queue);
                while queue.next < queue.taken && !self.stop.load(Ordering::Relaxed) {
                    queue = self.moved.wait(queue).unwrap_or_else(PoisonError::into_inner);
                }
                if self.stop.load(Ordering::Relaxed) {
                    return Ok(None);
                }
            }
        }
        Ok(None)
    }

    /// Takes the next morsel with its number; waits while the sink is too far behind.
    fn take(&self) -> Option<(u64, Result<Taken>)> {
        {
            let mut queue = lock(&self.queue);
            while queue.taken >= queue.next + self.ahead && !self.stop.load(Ordering::Relaxed) {
                queue = self.moved.wait(queue).unwrap_or_else(PoisonError::into_inner);
            }
        }
        let mut leg = lock(&self.source);
        if self.stop.load(Ordering::Relaxed) {
            return None;
        }
        let morsel = match cancel::check() {
            Ok(()) => self.next(&mut leg).transpose()?,
            Err(stopped) => Err(stopped),
        };
        if morsel.is_err() {
            // Nothing after an error is needed.
            self.stop.store(true, Ordering::Relaxed);
        }
        let mut queue = lock(&self.queue);
        let number = queue.taken;
        queue.taken += 1;
        Some((number, morsel))
    }

    fn named(&self, leg: usize, error: Error) -> Error {
        match self.legs.get(leg).and_then(|leg| leg.scan_step) {
            Some(step) => error.in_step(self.context.step_text(step)),
            None => error,
        }
    }

    /// Reads a morsel and runs the workers' operators over it.
    fn process(&self, leg: usize, mut morsel: Box<dyn Morsel>, turn: &mut Turn) -> Done {
        let mut work = MorselOutput::new(self.context.steps());
        loop {
            match guarded(|| self.parts(leg, &mut *morsel, &mut work, turn)) {
                Ok(MorselResult::Parts(parts)) => return Done { leg, morsel, parts: Ok(parts), work },
                Ok(MorselResult::Again(again)) => {
                    morsel = again;
                    work = MorselOutput::new(self.context.steps());
                }
                Err(error) => return Done { leg, morsel, parts: Err(error), work },
            }
        }
    }

    fn parts(
        &self,
        number: usize,
        morsel: &mut dyn Morsel,
        work: &mut MorselOutput,
        turn: &mut Turn,
    ) -> Result<MorselResult> {
        let Some(leg) = self.legs.get(number) else {
            return Ok(MorselResult::Parts(Parts::Ready(Vec::new())));
        };
        let named = |e| self.named(number, e);
        let mut parts = self.no_parts();
        let mut local = if self.has_serial { None } else { Some(self.worker.any_local()?) };
        // Bytes of the rows that parts are made of since some were handed over.
        let mut made = 0;
        let mut is_gathered = false;
        let mut handover = Handover::GoOn;
        while let Some(batch) = leg.read(morsel, work).map_err(named)? {
            let seam = morsel.seam();
            self.each_batch(leg, batch, work, &mut |batch, work| {
                if !matches!(handover, Handover::GoOn) {
                    return Ok(());
                }
                made += batch.memory();
                match (&mut parts, &mut local) {
                    (Parts::Batches(batches), _) => batches.push(batch),
                    (Parts::Ready(parts), Some(local)) => {
                        let part = local.consume_any(batch, work)?;
                        // What is still gathered is bounded by whoever gathers it.
                        is_gathered = part.is_none();
                        parts.extend(part);
                    }
                    (Parts::Ready(_), None) => {}
                }
                if made > self.most_waiting && !is_gathered {
                    made = 0;
                    handover = self.hand_over_early(number, seam, &mut parts, work, turn)?;
                }
                Ok(())
            })?;
            match handover {
                Handover::GoOn => {}
                Handover::Stopped => return Ok(MorselResult::Parts(Parts::Ready(Vec::new()))),
                Handover::StartsAt(start) => match morsel.again(start) {
                    Some(again) => return Ok(MorselResult::Again(again)),
                    None => handover = Handover::GoOn,
                },
            }
        }
        if let (Parts::Ready(parts), Some(local)) = (&mut parts, local) {
            parts.extend(local.seal_any()?);
        }
        Ok(MorselResult::Parts(parts))
    }

    /// Hands what was made of a part of a morsel to the sink, when its turn has come: what a morsel becomes may be any
    /// number of times larger than it, and is not held as a whole.
    fn hand_over_early(
        &self,
        leg: usize,
        seam: Option<Seam>,
        parts: &mut Parts,
        work: &mut MorselOutput,
        turn: &mut Turn,
    ) -> Result<Handover> {
        let Some(number) = turn.number else { return Ok(Handover::GoOn) };
        if !turn.is_held {
            let mut queue = lock(&self.queue);
            while queue.next != number || queue.committing {
                if self.stop.load(Ordering::Relaxed) || queue.error.is_some() {
                    return Ok(Handover::Stopped);
                }
                queue = self.moved.wait(queue).unwrap_or_else(PoisonError::into_inner);
            }
            queue.committing = true;
            turn.is_held = true;
        }
        let mut ordered = lock(&self.ordered);
        if let Some(start) = seam.and_then(|seam| wrong_start(leg, seam, &ordered.seams)) {
            return Ok(Handover::StartsAt(start));
        }
        let mut work = std::mem::replace(work, MorselOutput::new(self.context.steps()));
        let mut placed = Vec::new();
        let parts = std::mem::replace(parts, self.no_parts());
        let more = self.commit_parts(&mut ordered, parts, &mut work, &mut placed)?;
        drop(ordered);
        placed.into_iter().try_for_each(Placed::write)?;
        if more {
            return Ok(Handover::GoOn);
        }
        self.enough(&mut lock(&self.queue));
        Ok(Handover::Stopped)
    }

    /// No parts yet, of the kind that this pipeline commits: batches where a step is serial,
    /// parts that the sink has prepared otherwise.
    fn no_parts(&self) -> Parts {
        if self.has_serial { Parts::Batches(Vec::new()) } else { Parts::Ready(Vec::new()) }
    }

    /// Notes that the sink wants no more: nothing that was decoded ahead counts.
    fn enough(&self, queue: &mut Queue) {
        self.stop.store(true, Ordering::Relaxed);
        queue.waiting.clear();
        queue.next = u64::MAX / 2;
        self.moved.notify_all();
    }

    /// Runs the workers' operators over some rows, and hands on what comes out.
    fn each_batch(
        &self,
        leg: &Leg,
        whole: Batch,
        work: &mut MorselOutput,
        take: &mut dyn FnMut(Batch, &mut MorselOutput) -> Result<()>,
    ) -> Result<()> {
        let most = self.context.options.batch_rows.unwrap_or(usize::MAX);
        if whole.rows <= most {
            // Handed on as it is, so that an operator may take over what it holds.
            return stream::through(&leg.stream, whole, work, take);
        }
        slices_of(whole, most).into_iter().try_for_each(|some| stream::through(&leg.stream, some, work, take))
    }

    /// Gives a morsel to the sink when its turn comes; one worker serves all that are waiting.
    fn hand_over(&self, number: u64, done: Result<Done>, is_turn_held: bool) {
        {
            let mut queue = lock(&self.queue);
            if queue.next <= number {
                queue.waiting.insert(number, done);
            }
            if is_turn_held {
                queue.committing = false;
            }
        }
        loop {
            let placed = self.serve();
            // Bytes that have their places are written while another worker goes on.
            let written = guarded(|| placed.into_iter().try_for_each(Placed::write));
            let mut queue = lock(&self.queue);
            if let Err(error) = written {
                self.stop.store(true, Ordering::Relaxed);
                queue.error.get_or_insert(error);
                self.moved.notify_all();
            }
            let next = queue.next;
            if queue.committing || queue.error.is_some() || !queue.waiting.contains_key(&next) {
                return;
            }
        }
    }

    /// Hands morsels to the sink as long as the next one is there; gives the bytes that are to be written then.
    fn serve(&self) -> Vec<Placed> {
        let mut placed = Vec::new();
        let mut queue = lock(&self.queue);
        if queue.committing {
            return placed;
        }
        queue.committing = true;
        while queue.error.is_none() && placed.len() < MOST_PLACED {
            let next = queue.next;
            let Some(done) = queue.waiting.remove(&next) else { break };
            drop(queue);
            let result = done.and_then(|done| guarded(|| self.commit(done, &mut placed)));
            queue = lock(&self.queue);
            queue.next += 1;
            match result {
                Ok(true) => {}
                Ok(false) => self.enough(&mut queue),
                Err(error) => {
                    self.stop.store(true, Ordering::Relaxed);
                    queue.error = Some(error);
                }
            }
            self.moved.notify_all();
        }
        queue.committing = false;
        self.moved.notify_all();
        placed
    }

    /// Bytes read so far and bytes in all, of all legs.
    fn progress(&self) -> (u64, Option<u64>) {
        let legs = self.legs.iter().map(|leg| leg.scan.progress());
        legs.fold((0, Some(0)), |(done, total), (d, t)| (done + d, total.zip(t).map(|(total, t)| total + t)))
    }

    /// The morsel, read again if it began elsewhere than the one before it ended.
    fn joined(&self, done: Done, seams: &mut HashMap<(usize, usize), u64>) -> Done {
        let Some(seam) = done.morsel.seam() else { return done };
        let place = (done.leg, seam.place);
        let done = match wrong_start(done.leg, seam, seams).and_then(|start| done.morsel.again(start)) {
            // In the ordered side already: nothing of it is handed over early.
            Some(morsel) => self.process(done.leg, morsel, &mut Turn { number: None, is_held: false }),
            None => done,
        };
        if let Some(seam) = done.morsel.seam() {
            seams.insert(place, seam.end);
        }
        done
    }

    /// The ordered side: serial operators, then the sink.
    fn commit(&self, done: Done, placed: &mut Vec<Placed>) -> Result<bool> {
        let mut ordered = lock(&self.ordered);
        let ordered = &mut *ordered;
        let Done { parts, mut work, .. } = self.joined(done, &mut ordered.seams);
        self.commit_parts(ordered, parts?, &mut work, placed)
    }

    /// Puts parts of a morsel through the serial operators and into the sink; gives whether it wants more.
    fn commit_parts(
        &self,
        ordered: &mut OrderedSide<'_>,
        parts: Parts,
        work: &mut MorselOutput,
        placed: &mut Vec<Placed>,
    ) -> Result<bool> {
        ordered.rows += work.source_rows as u64;
        let mut more = true;
        match parts {
            Parts::Ready(parts) => {
                for part in parts {
                    more &= ordered.commit.commit_any(part, work)?;
                }
            }
            Parts::Batches(batches) => {
                for mut batch in batches {
                    cancel::check()?;
                    for op in &mut ordered.serial {
                        batch = op.apply(batch, work)?;
                    }
                    for part in sink::parts_of(self.worker, batch, work)? {
                        more &= ordered.commit.commit_any(part, work)?;
                    }
                    more &= !ordered.serial.iter().any(|op| op.is_full());
                    if !more {
                        break;
                    }
                }
            }
        }
        self.context.write_side(work)?;
        placed.append(&mut work.placed);
        ordered.work.counters.merge(&work.counters);
        if let Some(progress) = &self.context.options.progress
            && ordered.told.elapsed() >= Duration::from_millis(100)
        {
            ordered.told = Instant::now();
            let (done, total) = self.progress();
            progress(Progress { done, total, rows: ordered.rows });
        }
        Ok(more)
    }
}
