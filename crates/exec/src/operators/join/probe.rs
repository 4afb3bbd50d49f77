//! Left rows against the other table, in memory.

use std::sync::{Mutex, PoisonError};

use churn_core::{Batch, Event, Result, Type};
use churn_io::memory::Ready;
use churn_io::source::{Capability, Morsel, Scan};

use super::spec::{Left, ProbeInput, RowPairs};
use crate::keys::UNKNOWN;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::stream::{StreamOp, Take};

/// Rows that are handed on together, about.
const CHUNK: usize = 1 << 14;

/// Finds what left rows match; many workers do it at once.
pub(super) struct Probe(pub(super) ProbeInput);

impl StreamOp for Probe {
    fn multiplies(&self) -> bool {
        true
    }

    fn each(&self, batch: Batch, work: &mut MorselOutput, take: &mut Take<'_>) -> Result<()> {
        let (how, side) = &self.0;
        let left = how.left(&batch, work)?;
        let (mut none, mut several, mut out) = (0, 0, 0);
        if how.kind.only_filters() {
            let wanted = how.kind == churn_core::JoinKind::Semi;
            let mut keep = Vec::with_capacity(batch.rows);
            side.each_match(&left, how.asof, |row, found| {
                none += usize::from(found.is_empty());
                keep.push(found.is_empty() != wanted);
                side.mark(found);
                if how.is_unexpected(found.len()) {
                    Err(how.unexpected(&left, row, found.len()))
                } else {
                    Ok(())
                }
            })?;
            work.counters.rows(how.step, keep.iter().filter(|kept| **kept).count());
            work.counters.event(how.step, Event::MatchedNone, none);
            let keep = how.prefilter.kept_lefts(keep, &batch, work)?;
            return take(batch.filter(&keep)?, work);
        }
        if let Some(others) = side.only_matches(&left)? {
            return take(self.with_one(&batch, &left, others, work)?, work);
        }
        let most = batch.rows.max(CHUNK);
        let mut pairs = RowPairs::new();
        side.each_match(&left, how.asof, |row, found| {
            if how.is_unexpected(found.len()) {
                return Err(how.unexpected(&left, row, found.len()));
            }
            none += usize::from(found.is_empty());
            several += usize::from(found.len() > 1);
            if found.is_empty() && how.kind.keeps_left() {
                pairs.push(row, &[UNKNOWN]);
            }
            side.mark(found);
            for some in found.chunks(most) {
                pairs.push(row, some);
                if pairs.len() >= most {
                    out += pairs.len();
                    let kept = std::mem::replace(&mut pairs, RowPairs::new());
                    let kept = how.prefilter.kept(kept, &batch, &side.failing, work)?;
                    take(how.joined(&batch, &left, side, &kept)?, work)?;
                }
            }
            Ok(())
        })?;
        work.counters.rows(how.step, out + pairs.len());
        work.counters.event(how.step, Event::MatchedNone, none);
        work.counters.event(how.step, Event::MatchedSeveral, several);
        if pairs.len() > 0 || out == 0 {
            let pairs = how.prefilter.kept(pairs, &batch, &side.failing, work)?;
            take(how.joined(&batch, &left, side, &pairs)?, work)?;
        }
        Ok(())
    }
}

impl Probe {
    /// Left rows that match one row or none.
    fn with_one(
        &self,
        batch: &Batch,
        left: &Left,
        others: Vec<u32>,
        work: &mut MorselOutput,
    ) -> Result<Batch> {
        let (how, side) = &self.0;
        let none = others.iter().filter(|row| **row == UNKNOWN).count();
        if how.is_unexpected(usize::from(none == 0)) {
            // Of one that matched although none may, any row is told.
            let row = others.iter().position(|row| *row == UNKNOWN).unwrap_or(0);
            return Err(how.unexpected(left, row, 0));
        }
        side.matched.mark(&others);
        let pairs = if none == 0 || how.kind.keeps_left() {
            RowPairs::of_all(others)
        } else {
            RowPairs::matched(&others)
        };
        work.counters.rows(how.step, pairs.len());
        work.counters.event(how.step, Event::MatchedNone, none);
        let pairs = how.prefilter.kept(pairs, batch, &side.failing, work)?;
        how.joined(batch, left, side, &pairs)
    }
}

/// The other table's rows that no left row matched, once all left rows were seen.
pub(super) struct Unmatched {
    pub(super) shared: ProbeInput,
    pub(super) left_kinds: Vec<Type>,
    pub(super) next: Mutex<usize>,
}

impl Scan for Unmatched {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let (how, side) = &self.shared;
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        if *next >= side.rows.rows {
            return Ok(None);
        }
        let rows = side.unmatched(*next, *next + CHUNK);
        *next += CHUNK;
        Ok(Some(Box::new(Ready::new(how.alone(side, &rows, &self.left_kinds)?))))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (0, None)
    }
}

/// Counts the rows that leave a join without having matched.
pub(super) struct CountAlone(pub(super) churn_core::StepId);

impl StreamOp for CountAlone {
    fn apply(&self, batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        work.counters.rows(self.0, batch.rows);
        work.counters.event(self.0, Event::OtherMatchedNone, batch.rows);
        Ok(batch)
    }
}
