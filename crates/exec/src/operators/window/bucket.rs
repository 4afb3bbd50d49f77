//! The rows of some partitions: put together from blocks, and worked out.

use arrow_array::{ArrayRef, UInt32Array};
use churn_core::{Batch, OrFault, Result};
use churn_kernels::known::{known, known_part};
use churn_kernels::sorting;

use super::Window;
use super::distribute::Block;
use super::order::Ordered;
use super::tasks::WindowPartitions;
use crate::keys::KeyTable;
use crate::runtime::materialized::concat;

/// Rows of partitions that are worked on together, about.
const TOGETHER: usize = 1 << 13;

/// All rows of some partitions, in the order of the input.
pub(super) struct Bucket {
    table: KeyTable,
    /// The partition of each row.
    numbers: Vec<u32>,
    /// The columns that the window reads, in pieces.
    pieces: Vec<Batch>,
}

impl Bucket {
    /// One without rows.
    pub(super) fn new(window: &Window) -> Bucket {
        Bucket { table: KeyTable::of_many(window.kinds.clone()), numbers: Vec::new(), pieces: Vec::new() }
    }

    /// How many rows there are.
    pub(super) fn rows(&self) -> usize {
        self.numbers.len()
    }

    /// Bytes in use, about: of pieces that are parts of a larger array only their own.
    pub(super) fn memory(&self) -> usize {
        self.rows() * (4 + 8 * self.pieces.first().map_or(0, |piece| piece.columns.len()))
    }

    /// Adds the rows of later blocks that belong to this bucket, the one with this number.
    pub(super) fn add(&mut self, blocks: &[Block], number: usize) -> Result<()> {
        let mut pieces = Vec::with_capacity(blocks.len());
        for block in blocks {
            let range = known(&block.starts, number) as usize..known(&block.starts, number + 1) as usize;
            let Some(keys) = block.keys.get(number).filter(|_| !range.is_empty()) else { continue };
            let mut partitions = Vec::with_capacity(keys.len());
            self.table.absorb(keys, &mut partitions)?;
            let rows = known_part(&block.numbers, range.clone());
            self.numbers.extend(rows.iter().map(|row| known(&partitions, *row as usize)));
            pieces.push(block.read.slice(range.start, range.len()));
        }
        self.pieces.append(&mut concat(pieces)?);
        Ok(())
    }

    /// The rows as they came: the columns that the window reads, and the keys of the partitions.
    pub(super) fn into_input(self) -> Result<Batch> {
        let mut input = whole(self.pieces)?;
        input.columns.extend(self.table.arrays(&self.numbers)?);
        Ok(input)
    }

    /// The columns that the window reads and that come out, and behind them the results of all calls.
    pub(super) fn worked_out(self, window: &Window) -> Result<Batch> {
        let Bucket { table, numbers, pieces } = self;
        let (starts, mut places) = sorting::by_number(&numbers, table.len());
        drop((table, numbers));
        let Batch { columns, rows } = whole(pieces)?;
        // By the places that columns have in the input.
        let mut input: Vec<Option<ArrayRef>> = vec![None; window.width];
        for (place, column) in window.used.iter().zip(columns) {
            input.get_mut(*place).into_iter().for_each(|slot| *slot = Some(column.clone()));
        }
        let mut results = Vec::new();
        for PartitionChunk { places, ends } in chunks(&starts, &mut places) {
            let order = Ordered::new(&window.order, &input, places)?;
            let sorted = order.sorted(&ends);
            order.rows(&sorted, places);
            let partitions = WindowPartitions::new(places, &sorted, &ends, &order, &input);
            let result = |call| partitions.result(call).map_err(|e| e.in_step(&window.text));
            let columns = window.calls.iter().map(result).collect::<Result<_>>()?;
            results.push(Batch { columns, rows: places.len() });
        }
        let results = whole(results)?;
        let results = back(&places).map_or_else(|| Ok(results.clone()), |back| results.take(&back))?;
        let kept = |place: usize| input.get(place).cloned().flatten();
        let columns = window.read_and_kept().filter_map(kept).chain(results.columns).collect();
        Ok(Batch { columns, rows })
    }
}

/// Rows that come in pieces in one; there are some.
fn whole(pieces: Vec<Batch>) -> Result<Batch> {
    concat(pieces)?.pop().or_fault("rows of a bucket")
}

/// Where each row stands in an order; `None` where the rows stand as they came.
fn back(order: &[u32]) -> Option<UInt32Array> {
    if order.is_sorted() {
        return None;
    }
    let mut back = vec![0; order.len()];
    for (place, row) in (0u32..).zip(order) {
        back.get_mut(*row as usize).into_iter().for_each(|slot| *slot = place);
    }
    Some(UInt32Array::from(back))
}

/// Partitions that are worked on together.
struct PartitionChunk<'a> {
    places: &'a mut [u32],
    ends: Vec<u32>,
}

/// The rows of partitions that start there, in chunks.
fn chunks<'a>(starts: &[u32], mut places: &'a mut [u32]) -> Vec<PartitionChunk<'a>> {
    let mut chunks = Vec::new();
    let mut first = 0;
    while first + 1 < starts.len() {
        let at = |i: usize| known(starts, i);
        let mut next = first + 1;
        while next + 1 < starts.len() && (at(next + 1) - at(first)) as usize <= TOGETHER {
            next += 1;
        }
        let (own, rest) = places.split_at_mut((at(next) - at(first)) as usize);
        let ends = (first + 1..=next).map(|i| at(i) - at(first)).collect();
        chunks.push(PartitionChunk { places: own, ends });
        (places, first) = (rest, next);
    }
    chunks
}
