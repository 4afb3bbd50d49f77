//! The other table of a join: gathered by a sink, and held with an index if it fits.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{ArrayRef, UInt32Array};

use super::bands::Bands;
use super::index::{Index, present};
use super::matching::{Left, Matching};
use crate::error::{Error, ErrorKind, Result};
use crate::exec::budget::{Budget, Reservation};
use crate::exec::context::Context;
use crate::exec::grace::Dealt;
use crate::exec::held::{Compacted, Held, batch_of, concat};
use crate::exec::pipeline::{Commit, Part, Sink};
use crate::exec::spill::{Run, Spill};
use crate::exec::tally::Work;
use crate::expr::Batch;
use crate::plan::JoinKind;

/// The other table's rows with the index of their keys: the columns that are added, then the keys, then what the
/// conditions compare with.
pub(super) struct Side {
    pub(super) rows: Batch,
    index: Index,
    bands: Option<Bands>,
    pub(super) matched: Arc<Matched>,
    _held: Reservation,
}

/// A bit for each row of the other table: whether a left row matched it.
pub(super) struct Matched {
    words: Vec<AtomicU64>,
    rows: usize,
}

impl Matched {
    fn new(rows: usize) -> Matched {
        Matched { words: (0..rows.div_ceil(64)).map(|_| AtomicU64::new(0)).collect(), rows }
    }

    /// Marks rows as matched.
    #[inline]
    pub(super) fn mark(&self, rows: &[u32]) {
        for row in rows {
            if let Some(word) = self.words.get(*row as usize / 64) {
                let bit = 1 << (row % 64);
                // Most rows are marked already, and to look is cheaper than to write.
                if word.load(Ordering::Relaxed) & bit == 0 {
                    word.fetch_or(bit, Ordering::Relaxed);
                }
            }
        }
    }

    /// How many rows are not marked.
    pub(super) fn left(&self) -> usize {
        let marked: u32 = self.words.iter().map(|word| word.load(Ordering::Relaxed).count_ones()).sum();
        self.rows - marked as usize
    }
}

impl Side {
    /// Makes the index; gives the rows back if there is no room for it.
    pub(super) fn new(
        batches: Vec<Batch>,
        matching: &Matching,
        mut held: Reservation,
    ) -> Result<std::result::Result<Side, Vec<Batch>>> {
        let bytes: usize = batches.iter().map(Batch::memory).sum();
        let rows: usize = batches.iter().map(|b| b.rows).sum();
        // The rows twice while they are put together, and about what the index takes.
        let wanted = bytes * 2 + rows * 24;
        if matching.must_fit() {
            held.hold_whole(wanted)?;
        } else if !held.try_hold(wanted) && rows > 0 {
            held.hold(0)?;
            return Ok(Err(batches));
        }
        if u32::try_from(rows).is_err() {
            return Err(Error::new(ErrorKind::Memory, "The other table of a join has more than 4 billion rows."));
        }
        let rows = match concat(batches)?.pop() {
            Some(rows) => rows,
            None => matching.empty_side(),
        };
        let (keys, tests) = matching.of_side(&rows);
        let compared: Vec<ArrayRef> = keys.iter().chain(&tests).cloned().collect();
        let valid = present(&compared);
        let mut bands = Bands::new(&matching.conditions(), &tests)?;
        let index = Index::new(&keys, &matching.kinds(), valid.as_ref(), rows.rows, bands.as_ref())?;
        if let Some(bands) = &mut bands {
            bands.build(&index);
        }
        let matched = Matched::new(if matching.kind == JoinKind::Cross { 0 } else { rows.rows });
        let memory = rows.memory() + index.memory() + bands.as_ref().map_or(0, Bands::memory);
        // It is there; what it holds counts, and stops nothing any more.
        let _ = held.try_hold(memory + matched.words.len() * 8);
        Ok(Ok(Side { rows, index, bands, matched: Arc::new(matched), _held: held }))
    }

    /// Calls `f` with each left row and the rows that it matches, in order.
    pub(super) fn each_match(
        &self,
        left: &Left,
        asof: bool,
        mut f: impl FnMut(usize, &[u32]) -> Result<()>,
    ) -> Result<()> {
        let groups = self.index.groups_of(&left.keys, left.rows)?;
        let Some(bands) = &self.bands else {
            return groups.iter().enumerate().try_for_each(|(row, group)| f(row, self.index.rows_of(*group)));
        };
        let valid = present(&left.tests);
        let needs = bands.needs(&left.tests)?;
        let mut own = vec![0; needs.len()];
        let mut found = Vec::new();
        for (row, group) in groups.iter().enumerate() {
            found.clear();
            if valid.as_ref().is_none_or(|v| v.is_valid(row)) {
                for (own, needs) in own.iter_mut().zip(&needs) {
                    *own = needs.get(row).copied().unwrap_or(0);
                }
                if asof {
                    found.extend(bands.nearest(&self.index, *group, &own));
                } else {
                    bands.rows(&self.index, *group, &own, &mut found);
                }
            }
            f(row, &found)?;
        }
        Ok(())
    }

    /// The rows from `from` to `to` that were not matched.
    pub(super) fn unmatched(&self, from: usize, to: usize) -> UInt32Array {
        let is_matched = |row: &usize| {
            let word = self.matched.words.get(row / 64).map_or(0, |word| word.load(Ordering::Relaxed));
            word >> (row % 64) & 1 == 1
        };
        (from..to.min(self.rows.rows)).filter(|row| !is_matched(row)).map(|row| Some(row as u32)).collect()
    }
}

/// What the sink made of the other table.
pub(super) enum Gathered {
    Side(Box<Side>),
    /// It does not fit: its rows, dealt by their keys, each with its place.
    Dealt(Vec<Run>),
}

/// The sink of the other table.
pub(super) struct Gathering {
    matching: Arc<Matching>,
    batches: Vec<Batch>,
    dealt: Option<Dealt>,
    row: u64,
    held: Reservation,
    budget: Budget,
    spill: Spill,
    made: Made,
}

/// Where a sink puts what it made.
pub(super) type Made = Arc<Mutex<Option<Gathered>>>;

impl Gathering {
    pub(super) fn sink(matching: &Arc<Matching>, context: &Context) -> (Sink, Made) {
        let made = Made::default();
        let commit = Gathering {
            matching: matching.clone(),
            batches: Vec::new(),
            dealt: None,
            row: 0,
            held: context.budget.reservation(),
            budget: context.budget.clone(),
            spill: context.spill.clone(),
            made: made.clone(),
        };
        (Sink { prepare: Arc::new(Compacted), commit: Box::new(commit) }, made)
    }

    fn deal(&mut self, batches: Vec<Batch>) -> Result<()> {
        let dealt = match &mut self.dealt {
            Some(dealt) => dealt,
            none => none.insert(Dealt::new(self.matching.kinds(), &self.spill)?),
        };
        for batch in batches {
            let (keys, _) = self.matching.of_side(&batch);
            let numbers: Vec<u64> = (self.row..self.row + batch.rows as u64).collect();
            self.row += batch.rows as u64;
            dealt.push(&batch, &keys, &numbers)?;
        }
        Ok(())
    }
}

impl Commit for Gathering {
    fn commit(&mut self, part: Part, _: &mut Work) -> Result<bool> {
        let batch = batch_of(part)?;
        if batch.rows == 0 {
            return Ok(true);
        }
        if self.dealt.is_some() {
            self.deal(vec![batch])?;
            return Ok(true);
        }
        let fits = self.held.try_add(batch.memory());
        self.batches.push(batch);
        if !fits {
            if self.matching.must_fit() {
                // Only equal keys can be dealt; else all of it is held, or none.
                self.held.hold_whole(self.batches.iter().map(Batch::memory).sum())?;
                return Ok(true);
            }
            let batches = std::mem::take(&mut self.batches);
            self.deal(batches)?;
            self.held.hold(0)?;
        }
        Ok(true)
    }

    fn finish(mut self: Box<Self>, _: &mut Work) -> Result<Held> {
        let batches = std::mem::take(&mut self.batches);
        let gathered = if self.dealt.is_some() {
            None
        } else {
            let held = std::mem::replace(&mut self.held, self.budget.reservation());
            match Side::new(batches, &self.matching, held)? {
                Ok(side) => Some(Gathered::Side(Box::new(side))),
                Err(batches) => {
                    self.deal(batches)?;
                    None
                }
            }
        };
        let gathered = match (gathered, self.dealt.take()) {
            (Some(side), _) => side,
            (None, Some(dealt)) => Gathered::Dealt(dealt.finish()?),
            (None, None) => return Err(Error::new(ErrorKind::Internal, "A join has no other table.")),
        };
        *self.made.lock().unwrap_or_else(PoisonError::into_inner) = Some(gathered);
        Ok(Held::Batches(Vec::new()))
    }
}
