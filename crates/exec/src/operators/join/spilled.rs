//! A join whose other table does not fit: both sides are partitioned to files by their keys, and one pair of files after
//! the other is joined.
//!
//! Of the other table's file as many rows are taken as fit, and the left file goes by them; what the left rows
//! matched in all is known at the end. Results carry the place of their left row, and are merged by it. Without an
//! equality there is one pair of files. The rows of an asof join are taken nearest first, if they do not fit together.

use std::sync::Arc;

use arrow_array::{Array, ArrayRef, BooleanArray, UInt32Array};
use churn_core::parallel::Threads;
use churn_core::widen::widen;
use churn_core::{Batch, Error, Event, JoinKind, OrFault, Result, Type, taken};
use churn_kernels::known::known;

use super::build_side::BuildSide;
use super::external_asof;
use super::spec::{JoinSpec, Left, MANY, RowPairs};
use crate::runtime::budget::{Budget, Reservation};
use crate::runtime::context::Context;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::Sink;
use crate::runtime::stream::StreamOp;
use crate::spill::partitioned::{PartitionAll, Spilling, positions};
use crate::spill::{Disk, Run, Spill, merge};

/// Pairs that become rows together.
const ROWS: usize = 1 << 11;

/// Runs of results that a pair of files may have, while it is joined and when it is: each is an open file.
const MOST_RUNS: usize = 64;

const FEW_RUNS: usize = 4;

/// Bytes of the other table's rows that are held in any case.
const LITTLE: usize = 2 << 20;

/// Puts the keys of left rows, and what conditions compare, behind their columns.
pub(super) struct WithKeys(pub(super) Arc<JoinSpec>);

impl StreamOp for WithKeys {
    fn apply(&self, mut batch: Batch, work: &mut MorselOutput) -> Result<Batch> {
        let Left { keys, tests, .. } = self.0.left(&batch, work)?;
        for column in keys.iter().chain(&tests) {
            batch.columns.push(widen(column)?);
        }
        Ok(batch)
    }
}

/// The sink that partitions left rows by their keys, which stand behind so many columns.
pub(super) fn left_sink(
    spec: &JoinSpec,
    columns: usize,
    context: &Context,
) -> Result<Sink<Spilling, PartitionAll>> {
    let keys = (columns..columns + spec.keys.len()).collect();
    PartitionAll::sink((keys, spec.kinds()), context)
}

/// What became of a pair of files.
#[derive(Default)]
struct Paired {
    /// Results by the place of their left row, and rows of the other table without one by their own.
    matched: Vec<Run>,
    alone: Option<Run>,
    none: usize,
    several: usize,
    other_none: usize,
    /// The first left row whose matches are not what is expected.
    unexpected: Option<(u64, Error)>,
}

impl Paired {
    /// Merges the results, if there are more than so many runs of them.
    fn merged(&mut self, most: usize, disk: &Disk) -> Result<()> {
        if self.matched.len() > most {
            let runs = std::mem::take(&mut self.matched);
            self.matched.push(merge::one(runs, disk)?);
        }
        Ok(())
    }
}

/// The results of all pairs of files.
pub(super) struct Joined {
    pub(super) matched: Vec<Run>,
    pub(super) alone: Vec<Run>,
    rows: u64,
    none: usize,
    several: usize,
    other_none: usize,
}

/// Joins pairs of files.
pub(super) fn join(
    how: &Arc<JoinSpec>,
    left: Vec<Run>,
    other: Vec<Run>,
    left_kinds: &[Type],
    context: &Context,
) -> Result<Joined> {
    // Pairs are joined side by side, each on one thread.
    let one = context.threads().one();
    let pair = |(left, other): (Run, Run)| {
        churn_core::cancel::check()?;
        let pair =
            FilePair { how, left, left_kinds, budget: &context.budget, spill: &context.spill, threads: &one };
        pair.join(&other)
    };
    let pairs: Vec<(Run, Run)> = left.into_iter().zip(other).collect();
    let done = context.threads().each(pairs.into_iter(), pair)?;
    let mut joined =
        Joined { matched: Vec::new(), alone: Vec::new(), rows: 0, none: 0, several: 0, other_none: 0 };
    let mut unexpected: Option<(u64, Error)> = None;
    for paired in done {
        joined.rows += paired.matched.iter().chain(&paired.alone).map(|run| run.rows).sum::<u64>();
        joined.matched.extend(paired.matched);
        joined.alone.extend(paired.alone);
        joined.none += paired.none;
        joined.several += paired.several;
        joined.other_none += paired.other_none;
        if let Some(found) = paired.unexpected
            && unexpected.as_ref().is_none_or(|first| found.0 < first.0)
        {
            unexpected = Some(found);
        }
    }
    match unexpected {
        Some((_, error)) => Err(error),
        None => Ok(joined),
    }
}

/// A left file against the other table's file of the same keys.
struct FilePair<'a> {
    how: &'a Arc<JoinSpec>,
    left: Run,
    left_kinds: &'a [Type],
    budget: &'a Budget,
    spill: &'a Spill,
    threads: &'a Threads,
}

impl FilePair<'_> {
    fn join(&self, other: &Run) -> Result<Paired> {
        let how = self.how;
        let mut paired = Paired::default();
        let mut counts = vec![0u8; self.left.rows as usize];
        let mut alone = self.spill.writer()?;
        let mut batches = other.reader()?.into_iter().flatten().peekable();
        let mut nearest_first = false;
        while batches.peek().is_some() {
            let mut reservation = self.budget.reservation();
            let mut some = self.some(&mut batches, &mut reservation)?;
            if how.asof && batches.peek().is_some() && !nearest_first {
                reservation.hold(0)?;
                let sorted = external_asof::nearest_first(how, other, &self.disk())?;
                batches = sorted.reader()?.into_iter().flatten().peekable();
                nearest_first = true;
                continue;
            }
            if nearest_first {
                // Of equally near rows the last one is taken.
                some = some.into_iter().rev().map(external_asof::reversed).collect::<Result<_>>()?;
            }
            let places: Vec<ArrayRef> = some.iter_mut().map(|batch| batch.columns.remove(0)).collect();
            let places = places.iter().map(AsRef::as_ref).collect::<Vec<&dyn Array>>();
            let places = arrow_select::concat::concat(&places).map_err(churn_core::arrow_error)?;
            let budget = Budget::new(Some(u64::MAX));
            let Ok(side) = BuildSide::new(some, how, budget.reservation())? else { continue };
            let run = self.matches(&side, &mut counts)?;
            paired.matched.push(run);
            paired.merged(MOST_RUNS, &self.disk())?;
            paired.other_none += side.matched.left();
            if how.kind.keeps_other() {
                let rows = side.unmatched(0, side.rows.rows);
                let mut batch = how.alone(&side, &rows, self.left_kinds)?;
                let places = taken(&places, &UInt32Array::from(rows))?;
                batch.columns.insert(0, places);
                alone.write(batch)?;
            }
        }
        let alone = alone.finish()?;
        paired.alone =
            Some(if nearest_first { external_asof::by_place(&alone, &self.disk())? } else { alone });
        self.unmatched(&counts, &mut paired)?;
        paired.merged(FEW_RUNS, &self.disk())?;
        Ok(paired)
    }

    fn disk(&self) -> Disk<'_> {
        Disk { spill: self.spill, budget: self.budget, threads: self.threads }
    }

    /// As many rows of the other table as fit; a few in any case.
    fn some(
        &self,
        batches: &mut impl Iterator<Item = Result<Batch>>,
        reservation: &mut Reservation,
    ) -> Result<Vec<Batch>> {
        let (mut some, mut bytes) = (Vec::new(), 0);
        for batch in batches {
            let batch = batch?;
            bytes += BuildSide::memory_of(&batch, self.how);
            some.push(batch);
            if !reservation.try_hold(bytes) && bytes > LITTLE {
                break;
            }
        }
        Ok(some)
    }

    /// The left file in batches: the places of the rows, their columns, and what they are matched by.
    fn batches(&self) -> Result<impl Iterator<Item = Result<(ArrayRef, Batch, Left)>>> {
        let (keys, tests) = (self.how.keys.len(), self.how.tests.len());
        Ok(self.left.reader()?.into_iter().flatten().map(move |batch| {
            let mut batch = batch?;
            let places = batch.columns.remove(0);
            let mut keys = batch.columns.split_off(batch.columns.len().saturating_sub(keys + tests));
            let tests = keys.split_off(keys.len() - tests);
            let rows = batch.rows;
            Ok((places, batch, Left { keys, tests, rows }))
        }))
    }

    /// The pairs of the left file with some rows of the other; adds how many each left row has.
    fn matches(&self, side: &BuildSide, counts: &mut [u8]) -> Result<Run> {
        let how = self.how;
        let mut writer = self.spill.writer()?;
        let mut first = 0;
        for batch in self.batches()? {
            let (places, batch, left) = batch?;
            let mut pairs = RowPairs::new();
            let mut write_pairs = |pairs: &mut RowPairs| {
                let mut joined = how.joined(&batch, &left, side, pairs)?;
                let rows = std::mem::take(&mut pairs.left).unwrap_or_default();
                joined.columns.insert(0, taken(&places, &UInt32Array::from(rows))?);
                pairs.clear();
                writer.write(joined)
            };
            side.each_match(&left, how.asof, |row, found| {
                if let Some(count) = counts.get_mut(first + row) {
                    if how.asof && *count > 0 {
                        // Rows that come later are not nearer.
                        return Ok(());
                    }
                    *count = count.saturating_add(found.len().min(MANY) as u8);
                }
                side.mark(found);
                if how.kind.only_filters() {
                    return Ok(());
                }
                for some in found.chunks(ROWS) {
                    pairs.push(row, some);
                    if pairs.len() >= ROWS {
                        write_pairs(&mut pairs)?;
                    }
                }
                Ok(())
            })?;
            if pairs.len() > 0 {
                write_pairs(&mut pairs)?;
            }
            first += batch.rows;
        }
        writer.finish()
    }

    /// What depends on all that a left row matched: rows without a match, rows that are only chosen, the account.
    fn unmatched(&self, counts: &[u8], paired: &mut Paired) -> Result<()> {
        let how = self.how;
        paired.none = counts.iter().filter(|n| **n == 0).count();
        if !how.kind.only_filters() {
            paired.several = counts.iter().filter(|n| **n > 1).count();
        }
        let wrong = counts.iter().position(|n| how.is_unexpected(*n as usize));
        let keep = |count: &u8| match how.kind {
            JoinKind::Semi => *count > 0,
            kind => *count == 0 && (kind == JoinKind::Anti || kind.keeps_left()),
        };
        if wrong.is_none() && !counts.iter().any(keep) {
            return Ok(());
        }
        let nothing = BuildSide::new(Vec::new(), how, Budget::new(None).reservation())?.ok();
        let mut writer = self.spill.writer()?;
        let mut first = 0;
        for batch in self.batches()? {
            let (places, batch, left) = batch?;
            if let Some(row) = wrong.and_then(|at| at.checked_sub(first)).filter(|row| *row < batch.rows) {
                let place = positions(&places)?.get(row).or_fault("position of a row")?.cast_unsigned();
                let found = known(counts, first + row) as usize;
                paired.unexpected = Some((place, how.unexpected(&left, row, found)));
            }
            let marks: Vec<bool> = counts.iter().skip(first).take(batch.rows).map(keep).collect();
            first += batch.rows;
            let mut whole = if how.kind.only_filters() {
                batch.clone()
            } else {
                let pairs = RowPairs::of_all(vec![crate::keys::UNKNOWN; batch.rows]);
                match &nothing {
                    Some(nothing) => how.joined(&batch, &left, nothing, &pairs)?,
                    None => continue,
                }
            };
            whole.columns.insert(0, places);
            writer.write(whole.filter(&BooleanArray::from(marks))?)?;
        }
        paired.matched.push(writer.finish()?);
        Ok(())
    }
}

/// Counts what pairs of files gave.
pub(super) fn tell(how: &JoinSpec, joined: &Joined, work: &mut MorselOutput) {
    work.counters.rows(how.step, joined.rows as usize);
    work.counters.event(how.step, Event::MatchedNone, joined.none);
    work.counters.event(how.step, Event::MatchedSeveral, joined.several);
    work.counters.event(how.step, Event::OtherMatchedNone, joined.other_none);
}
