//! The ordered hand-over: parts of morsels go through the serial operators and into the sink in the order of morsels,
//! whichever worker made them.
//!
//! A finished morsel waits in a queue until those before it were committed; the worker that finds the next one there
//! commits all that are ready. A worker whose output grows too large before its morsel is finished waits for its turn and
//! commits what it has, so that an operator that multiplies rows stays within the budget.

use std::collections::HashMap;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use churn_core::parallel::guarded;
use churn_core::{Result, cancel};
use churn_io::source::Seam;
use churn_io::target::Placed;

use super::run::{OrderedSide, PipelineRun, Queue, lock};
use super::worker::{Done, Parts};
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::settings::Progress;
use crate::runtime::sink;

/// Parts of files that wait to be written before the worker that placed them writes them.
const MOST_PLACED: usize = 8;

/// What follows when a part of a morsel was handed over.
pub(super) enum Handover {
    GoOn,
    /// The sink wants no more, or the run has stopped.
    Stopped,
    /// The morsel began at the wrong place: here it begins.
    StartsAt(u64),
}

/// A worker's place in the order of morsels.
pub(super) struct Turn {
    /// The number of its morsel; none for one that is read again in the ordered side.
    pub(super) number: Option<u64>,
    /// Whether it has the sink to itself until its morsel is done.
    pub(super) is_held: bool,
}

/// Where a morsel should have begun, if it guessed wrong.
pub(super) fn wrong_start(leg: usize, seam: Seam, seams: &HashMap<(usize, usize), u64>) -> Option<u64> {
    seams.get(&(leg, seam.place)).copied().filter(|end| !seam.known && *end != seam.start)
}

impl PipelineRun<'_> {
    /// Hands what was made of a part of a morsel to the sink, when its turn has come: what a morsel becomes may be any
    /// number of times larger than it, and is not held as a whole.
    pub(super) fn hand_over_early(
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
                queue = self.waited(queue);
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
    pub(super) fn no_parts(&self) -> Parts {
        if self.has_serial { Parts::Batches(Vec::new()) } else { Parts::Ready(Vec::new()) }
    }

    /// Notes that the sink wants no more: nothing that was decoded ahead counts.
    pub(super) fn enough(&self, queue: &mut Queue) {
        self.stop.store(true, Ordering::Relaxed);
        queue.waiting.clear();
        queue.bytes = 0;
        queue.next = u64::MAX / 2;
        self.moved.notify_all();
    }

    /// Gives a morsel to the sink when its turn comes; one worker serves all that are waiting.
    pub(super) fn hand_over(&self, number: u64, done: Result<Done>, is_turn_held: bool) {
        {
            let mut queue = lock(&self.queue);
            if queue.next <= number {
                queue.push(number, done);
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
    pub(super) fn serve(&self) -> Vec<Placed> {
        let mut placed = Vec::new();
        let mut queue = lock(&self.queue);
        if queue.committing {
            return placed;
        }
        queue.committing = true;
        while queue.error.is_none() && placed.len() < MOST_PLACED {
            let Some(done) = queue.pop() else { break };
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

    /// The morsel, read again if it began elsewhere than the one before it ended. If it could not be read and its start was
    /// guessed rightly, its error is found once more: the message of a guess tells no line.
    pub(super) fn joined(&self, done: Done, seams: &mut HashMap<(usize, usize), u64>) -> Done {
        let Some(guess) = done.morsel.guess() else { return done };
        let seam = guess.seam();
        let place = (done.leg, seam.place);
        let again = wrong_start(done.leg, seam, seams).map(|start| guess.again(start));
        let is_guess = !seam.known && seam.start != u64::MAX;
        let unsure = (again.is_none() && done.is_unread && is_guess).then(|| guess.again(seam.start));
        drop(guess);
        let mut done = match again {
            // In the ordered side already: nothing of it is handed over early.
            Some(morsel) => self.process(done.leg, morsel, &mut Turn { number: None, is_held: false }),
            None => done,
        };
        if let Some(error) = unsure.and_then(|mut morsel| self.read_error(done.leg, &mut *morsel)) {
            done.parts = Err(error);
        }
        if let Some(guess) = done.morsel.guess() {
            seams.insert(place, guess.seam().end);
        }
        done
    }

    /// The ordered side: serial operators, then the sink.
    pub(super) fn commit(&self, done: Done, placed: &mut Vec<Placed>) -> Result<bool> {
        let mut ordered = lock(&self.ordered);
        let ordered = &mut *ordered;
        let Done { parts, mut work, .. } = self.joined(done, &mut ordered.seams);
        self.commit_parts(ordered, parts?, &mut work, placed)
    }

    /// Puts parts of a morsel through the serial operators and into the sink; gives whether it wants more.
    pub(super) fn commit_parts(
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
            let held = self.context.budget.used();
            progress(Progress { reads: self.reads(), done, total, rows: ordered.rows, held });
        }
        Ok(more)
    }
}
