//! What a worker does: takes the next morsel, reads it, runs the streaming operators over its batches and the sink's worker
//! side over what comes out, and hands the parts over.

use std::sync::atomic::Ordering;

use churn_core::parallel::guarded;
use churn_core::{Batch, Error, Result, cancel};
use churn_io::source::Morsel;

use super::Leg;
use super::handover::{Handover, Turn};
use super::run::{PipelineRun, lock};
use crate::runtime::materialized::slices_of;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::AnyPart;
use crate::runtime::stream;

/// A morsel and the leg that it is of.
pub(super) type Taken = (usize, Box<dyn Morsel>);

/// What a worker made of a morsel.
pub(super) struct Done {
    pub(super) leg: usize,
    pub(super) morsel: Box<dyn Morsel>,
    pub(super) parts: Result<Parts>,
    /// Whether the error of its parts came from reading it.
    pub(super) is_unread: bool,
    pub(super) work: MorselOutput,
    /// Bytes of the rows that wait in it, about.
    pub(super) bytes: usize,
}

/// Batches that go through serial operators, or parts that are ready.
pub(super) enum Parts {
    Batches(Vec<Batch>),
    Ready(Vec<AnyPart>),
}

/// What became of a morsel.
pub(super) enum MorselResult {
    /// Its parts, and bytes of the rows that they were made of.
    Parts(Parts, usize),
    /// It must be read again from where it begins.
    Again(Box<dyn Morsel>),
    /// It could not be read.
    Unread(Error),
}

impl PipelineRun<'_> {
    pub(super) fn worker(&self) {
        while let Some((number, morsel)) = self.take() {
            let mut turn = Turn { number: Some(number), is_held: false };
            let done = morsel.map(|(leg, morsel)| self.process(leg, morsel, &mut turn));
            self.hand_over(number, done, turn.is_held);
        }
    }

    /// The next morsel, and the leg that it is of.
    pub(super) fn next(&self, at: &mut usize) -> Result<Option<Taken>> {
        while let Some(leg) = self.legs.get(*at) {
            match guarded(|| leg.next()) {
                Ok(Some(morsel)) => return Ok(Some((*at, morsel))),
                Ok(None) => *at += 1,
                Err(error) => return Err(self.named(*at, error)),
            }
            if self.legs.get(*at).is_some_and(|next| next.waits) {
                let mut queue = lock(&self.queue);
                while queue.next < queue.taken && !self.stop.load(Ordering::Relaxed) {
                    queue = self.waited(queue);
                }
                if self.stop.load(Ordering::Relaxed) {
                    return Ok(None);
                }
            }
        }
        Ok(None)
    }

    /// Takes the next morsel with its number; waits while the sink is too far behind.
    pub(super) fn take(&self) -> Option<(u64, Result<Taken>)> {
        {
            let mut queue = lock(&self.queue);
            while queue.is_full(self) && !self.stop.load(Ordering::Relaxed) {
                queue = self.waited(queue);
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

    pub(super) fn named(&self, leg: usize, error: Error) -> Error {
        match self.legs.get(leg).and_then(|leg| leg.scan_step) {
            Some(step) => error.in_step(self.context.step_text(step)),
            None => error,
        }
    }

    /// Reads a morsel and runs the workers' operators over it.
    pub(super) fn process(&self, leg: usize, mut morsel: Box<dyn Morsel>, turn: &mut Turn) -> Done {
        let mut work = MorselOutput::new(self.context.steps());
        loop {
            match guarded(|| self.parts(leg, &mut *morsel, &mut work, turn)) {
                Ok(MorselResult::Parts(parts, bytes)) => {
                    return Done { leg, morsel, parts: Ok(parts), is_unread: false, work, bytes };
                }
                Ok(MorselResult::Unread(error)) => {
                    return Done { leg, morsel, parts: Err(error), is_unread: true, work, bytes: 0 };
                }
                Ok(MorselResult::Again(again)) => {
                    morsel = again;
                    work = MorselOutput::new(self.context.steps());
                }
                Err(error) => {
                    return Done { leg, morsel, parts: Err(error), is_unread: false, work, bytes: 0 };
                }
            }
        }
    }

    pub(super) fn parts(
        &self,
        number: usize,
        morsel: &mut dyn Morsel,
        work: &mut MorselOutput,
        turn: &mut Turn,
    ) -> Result<MorselResult> {
        let Some(leg) = self.legs.get(number) else {
            return Ok(MorselResult::Parts(Parts::Ready(Vec::new()), 0));
        };
        let mut parts = self.no_parts();
        let mut local = if self.has_serial { None } else { Some(self.worker.any_local()?) };
        // Bytes of the rows that parts are made of since some were handed over.
        let mut made = 0;
        let mut is_gathered = false;
        let mut handover = Handover::GoOn;
        loop {
            let batch = match leg.read(morsel, work) {
                Ok(Some(batch)) => batch,
                Ok(None) => break,
                Err(error) => return Ok(MorselResult::Unread(self.named(number, error))),
            };
            let seam = morsel.guess().map(|guess| guess.seam());
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
                Handover::Stopped => return Ok(MorselResult::Parts(Parts::Ready(Vec::new()), 0)),
                Handover::StartsAt(start) => match morsel.guess().map(|guess| guess.again(start)) {
                    Some(again) => return Ok(MorselResult::Again(again)),
                    None => handover = Handover::GoOn,
                },
            }
        }
        if let (Parts::Ready(parts), Some(local)) = (&mut parts, local) {
            parts.extend(local.seal_any()?);
        }
        Ok(MorselResult::Parts(parts, if is_gathered { 0 } else { made }))
    }

    /// What is wrong with a morsel, found by reading it alone: operators may have seen its first rows.
    pub(super) fn read_error(&self, number: usize, morsel: &mut dyn Morsel) -> Option<Error> {
        let leg = self.legs.get(number)?;
        let mut unused = MorselOutput::new(self.context.steps());
        loop {
            match guarded(|| leg.read(morsel, &mut unused)) {
                Ok(Some(_)) => {}
                Ok(None) => return None,
                Err(error) => return Some(self.named(number, error)),
            }
        }
    }

    /// Runs the workers' operators over some rows, and hands on what comes out.
    pub(super) fn each_batch(
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
}
