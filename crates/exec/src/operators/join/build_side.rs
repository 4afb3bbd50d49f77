//! The other table of a join: gathered by a sink, and held with an index if it fits.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

use arrow_array::{Array, ArrayRef, Int32Array, UInt32Array};
use arrow_buffer::{BooleanBuffer, Buffer, NullBuffer};
use arrow_schema::DataType;
use churn_core::parallel::Threads;
use churn_core::{Batch, Error, ErrorKind, JoinKind, Result, taken};
use churn_kernels::known::known;
use churn_kernels::{columns, gather, memory};

use super::bands::Bands;
use super::index::{Index, present};
use super::prefilter::FailingTests;
use super::spec::{JoinSpec, Left};
use crate::keys::UNKNOWN;
use crate::runtime::budget::{Budget, Reservation};
use crate::runtime::context::Context;
use crate::runtime::materialized::concat;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Commit, CompactBatches, Sink};
use crate::spill::partitioned::PartitionWriter;
use crate::spill::{Run, Spill};

/// Rows of a table whose texts are told by their numbers.
const SMALL: usize = 1 << 16;

/// The other table's rows with the index of their keys: the columns that are added, then the keys, then what the
/// conditions compare with.
pub(super) struct BuildSide {
    pub(super) rows: Batch,
    index: Index,
    bands: Option<Bands>,
    pub(super) matched: Arc<Matched>,
    pub(super) failing: FailingTests,
    _reservation: Reservation,
}

/// A bit for each row of the other table: whether a left row matched it.
pub(super) struct Matched {
    words: Vec<AtomicU64>,
    rows: usize,
    /// Rows that are not marked.
    left: AtomicUsize,
}

impl Matched {
    fn new(rows: usize) -> Matched {
        let words = (0..rows.div_ceil(64)).map(|_| AtomicU64::new(0)).collect();
        Matched { words, rows, left: AtomicUsize::new(rows) }
    }

    /// Marks rows as matched; [`UNKNOWN`] is none.
    #[inline]
    pub(super) fn mark(&self, rows: &[u32]) {
        if self.left() == 0 {
            return;
        }
        if self.rows <= SMALL && rows.len() > self.words.len() {
            // Gathered first, so that workers do not wait for each other.
            let mut own = vec![0u8; self.words.len() * 64];
            for row in rows {
                if let Some(mark) = own.get_mut(*row as usize) {
                    *mark = 1;
                }
            }
            for (word, own) in self.words.iter().zip(own.as_chunks::<64>().0) {
                // Eight marks become eight bits by a multiplication that moves each to its place in the top byte.
                let eight =
                    |marks: &[u8; 8]| u64::from_le_bytes(*marks).wrapping_mul(0x0102_0408_1020_4080) >> 56;
                let eights = own.as_chunks::<8>().0.iter().enumerate();
                let bits = eights.fold(0, |bits, (i, marks)| bits | eight(marks) << (8 * i));
                self.mark_in(word, bits);
            }
            return;
        }
        for row in rows {
            if let Some(word) = self.words.get(*row as usize / 64) {
                self.mark_in(word, 1 << (row % 64));
            }
        }
    }

    #[inline]
    fn mark_in(&self, word: &AtomicU64, bits: u64) {
        // Most rows are marked already, and to look is cheaper than to write.
        if bits & !word.load(Ordering::Relaxed) != 0 {
            let before = word.fetch_or(bits, Ordering::Relaxed);
            self.left.fetch_sub((bits & !before).count_ones() as usize, Ordering::Relaxed);
        }
    }

    fn is_marked(&self, row: u32) -> bool {
        let word = self.words.get(row as usize / 64).map_or(0, |word| word.load(Ordering::Relaxed));
        word >> (row % 64) & 1 == 1
    }

    /// How many rows are not marked.
    #[inline]
    pub(super) fn left(&self) -> usize {
        self.left.load(Ordering::Relaxed)
    }
}

impl BuildSide {
    /// Makes the index; gives the rows back if there is no room for it.
    pub(super) fn new(
        batches: Vec<Batch>,
        spec: &JoinSpec,
        mut reservation: Reservation,
    ) -> Result<std::result::Result<BuildSide, Vec<Batch>>> {
        let rows: usize = batches.iter().map(|b| b.rows).sum();
        let wanted = batches.iter().map(|batch| BuildSide::memory_of(batch, spec)).sum();
        if !reservation.try_hold(wanted) && rows > 0 {
            reservation.hold(0)?;
            return Ok(Err(batches));
        }
        if u32::try_from(rows).is_err() {
            return Err(Error::new(
                ErrorKind::Memory,
                "The other table of a join has more than 4 billion rows.",
            ));
        }
        let rows = match concat(batches)?.pop() {
            Some(rows) => rows,
            None => spec.empty_side(),
        };
        let (keys, tests) = spec.of_side(&rows);
        let compared: Vec<ArrayRef> = keys.iter().chain(&tests).cloned().collect();
        let valid = present(&compared);
        let mut bands = Bands::new(&spec.conditions(), &tests)?;
        let index = Index::new(&keys, &spec.kinds(), valid.as_ref(), rows.rows, bands.as_ref())?;
        if let Some(bands) = &mut bands {
            bands.build(&index);
        }
        let matched = Matched::new(if spec.kind == JoinKind::Cross { 0 } else { rows.rows });
        let memory = rows.memory() + index.memory() + bands.as_ref().map_or(0, Bands::memory);
        let failing = spec.prefilter.failing(&rows)?;
        // It is there; what it holds counts, and stops nothing any more.
        let _ = reservation.try_hold(memory + matched.words.len() * 8);
        Ok(Ok(BuildSide {
            rows,
            index,
            bands,
            matched: Arc::new(matched),
            failing,
            _reservation: reservation,
        }))
    }

    /// About the bytes that some rows take: twice while they are put together, what the index takes, and the ranks of
    /// what conditions compare while they are made.
    pub(super) fn memory_of(rows: &Batch, spec: &JoinSpec) -> usize {
        rows.memory() * 2 + rows.rows * (24 + spec.tests.len() * 32)
    }

    /// Marks rows that a left row matched. Without conditions these are whole groups, and one that many rows match is
    /// gone through once: a row is marked after those before it.
    pub(super) fn mark(&self, found: &[u32]) {
        let is_done = |last: &u32| self.bands.is_none() && self.matched.is_marked(*last);
        if !found.last().is_some_and(is_done) {
            self.matched.mark(found);
        }
    }

    /// The group of each left key; [`UNKNOWN`] where no row has it.
    pub(super) fn groups_of(&self, keys: &[ArrayRef], rows: usize) -> Result<Vec<u32>> {
        self.index.groups_of(keys, rows)
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
                    *own = known(needs, row);
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

    /// The one row that each left row matches, or [`UNKNOWN`]; `None` if one may match several.
    pub(super) fn only_matches(&self, left: &Left) -> Result<Option<Vec<u32>>> {
        if self.bands.is_some() {
            return Ok(None);
        }
        self.index.only_rows_of(&left.keys, left.rows)
    }

    /// The added columns of some rows; null where a row is [`UNKNOWN`]. Texts of a small table stay where they are,
    /// and the rows become numbers into them.
    pub(super) fn taken(&self, added: usize, rows: &[u32]) -> Result<Vec<ArrayRef>> {
        let added = self.rows.columns.iter().take(added);
        let any_unknown = rows.contains(&UNKNOWN);
        let is_known = |row: &u32| (*row != UNKNOWN).then_some(*row);
        if self.rows.rows > SMALL {
            let places: UInt32Array =
                if any_unknown { rows.iter().map(is_known).collect() } else { rows.to_vec().into() };
            return added.map(|column| taken(column, &places)).collect();
        }
        let known = |row: u32| row != UNKNOWN;
        let nulls = any_unknown.then(|| {
            let bits = Buffer::from_vec(columns::test(rows, known));
            NullBuffer::new(BooleanBuffer::new(bits, 0, rows.len()))
        });
        let codes = columns::map(rows, |row| if known(row) { row.cast_signed() } else { 0 });
        let codes = Int32Array::new(codes.into(), nulls);
        let column = |column: &ArrayRef| -> Result<ArrayRef> {
            if *column.data_type() != DataType::Utf8View || column.is_empty() {
                return taken(column, &codes);
            }
            Ok(Arc::new(gather::coded(codes.clone(), column.clone())))
        };
        added.map(column).collect()
    }

    /// The rows from `from` to `to` that were not matched.
    pub(super) fn unmatched(&self, from: usize, to: usize) -> Vec<u32> {
        let rows = from as u32..to.min(self.rows.rows) as u32;
        rows.filter(|row| !self.matched.is_marked(*row)).collect()
    }
}

/// What the sink made of the other table.
pub(super) enum BuildInput {
    InMemory(Box<BuildSide>),
    /// It does not fit: its rows, partitioned by their keys, each with its place.
    Partitioned(Vec<Run>),
}

/// The sink of the other table.
pub(super) struct BuildSink {
    spec: Arc<JoinSpec>,
    batches: Vec<Batch>,
    writer: Option<PartitionWriter>,
    reservation: Reservation,
    budget: Budget,
    spill: Spill,
    threads: Threads,
}

impl BuildSink {
    pub(super) fn sink(spec: &Arc<JoinSpec>, context: &Context) -> Sink<CompactBatches, BuildSink> {
        let commit = BuildSink {
            spec: spec.clone(),
            batches: Vec::new(),
            writer: None,
            reservation: context.budget.reservation(),
            budget: context.budget.clone(),
            spill: context.spill.clone(),
            threads: context.threads().clone(),
        };
        Sink { worker: Arc::new(CompactBatches), commit }
    }

    fn partition(&mut self, batches: Vec<Batch>) -> Result<()> {
        let writer = match &mut self.writer {
            Some(writer) => writer,
            none => none.insert(PartitionWriter::new(self.spec.kinds(), &self.spill, &self.threads)?),
        };
        for batch in batches {
            let (keys, _) = self.spec.of_side(&batch);
            writer.push_next(&batch, &keys)?;
        }
        Ok(())
    }
}

impl Commit for BuildSink {
    type Part = Batch;
    type Output = BuildInput;

    fn commit(&mut self, batch: Batch, _: &mut MorselOutput) -> Result<bool> {
        if batch.rows == 0 {
            return Ok(true);
        }
        if self.writer.is_some() {
            self.partition(vec![batch])?;
            return Ok(true);
        }
        let fits = self.reservation.try_add(batch.memory());
        self.batches.push(batch);
        if !fits {
            let batches = std::mem::take(&mut self.batches);
            self.partition(batches)?;
            self.reservation.hold(0)?;
            memory::give_back();
        }
        Ok(true)
    }

    fn finish(mut self, _: &mut MorselOutput) -> Result<BuildInput> {
        let batches = std::mem::take(&mut self.batches);
        let gathered = if self.writer.is_some() {
            None
        } else {
            let reservation = std::mem::replace(&mut self.reservation, self.budget.reservation());
            match BuildSide::new(batches, &self.spec, reservation)? {
                Ok(side) => Some(BuildInput::InMemory(Box::new(side))),
                Err(batches) => {
                    self.partition(batches)?;
                    None
                }
            }
        };
        match (gathered, self.writer.take()) {
            (Some(side), _) => Ok(side),
            (None, Some(writer)) => Ok(BuildInput::Partitioned(writer.finish()?)),
            (None, None) => Err(Error::new(ErrorKind::Internal, "A join has no other table.")),
        }
    }
}
