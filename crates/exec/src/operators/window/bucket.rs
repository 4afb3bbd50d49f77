//! The rows of some partitions: put together from blocks, and worked out.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::UInt32Type;
use arrow_array::{ArrayRef, UInt32Array};
use churn_core::{Batch, OrFault, Result};
use churn_kernels::known::{known, known_part, known_place};
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
    /// A piece each time that rows were added: the columns that the window reads, and behind them the number of each row's
    /// partition.
    pieces: Vec<Batch>,
}

impl Bucket {
    /// One without rows.
    pub(super) fn new(window: &Window) -> Bucket {
        Bucket { table: KeyTable::of_many(window.kinds.clone()), pieces: Vec::new() }
    }

    /// How many rows there are.
    pub(super) fn rows(&self) -> usize {
        self.pieces.iter().map(|piece| piece.rows).sum()
    }

    /// Bytes in use, about: of pieces that are parts of a larger array only their own.
    pub(super) fn memory(&self) -> usize {
        self.pieces.iter().map(|piece| piece.rows * 8 * piece.columns.len()).sum()
    }

    /// Adds the rows of later blocks that belong to this bucket, the one with this number.
    pub(super) fn add(&mut self, blocks: &[Block], number: usize) -> Result<()> {
        let range =
            |block: &Block| known(&block.starts, number) as usize..known(&block.starts, number + 1) as usize;
        let mut pieces = Vec::with_capacity(blocks.len());
        let mut numbers = Vec::with_capacity(blocks.iter().map(|block| range(block).len()).sum());
        for block in blocks {
            let range = range(block);
            let Some(keys) = block.keys.get(number).filter(|_| !range.is_empty()) else { continue };
            let mut partitions = Vec::with_capacity(keys.len());
            self.table.absorb(keys, &mut partitions)?;
            let rows = known_part(&block.numbers, range.clone());
            numbers.extend(rows.iter().map(|row| known(&partitions, *row as usize)));
            pieces.push(block.read.slice(range.start, range.len()));
        }
        // With texts of its own: each array that is made of those of a bucket would else name the texts of all blocks.
        let piece = concat(pieces)?.pop().map(Batch::compacted);
        let mut piece = piece.unwrap_or(Batch { columns: Vec::new(), rows: 0 });
        piece.columns.push(Arc::new(UInt32Array::from(numbers)));
        self.pieces.push(piece);
        Ok(())
    }

    /// The rows as they came, by pieces: the columns that the window reads, and the keys of the partitions.
    pub(super) fn into_input(self) -> Result<Vec<Batch>> {
        let Bucket { table, mut pieces } = self;
        for piece in &mut pieces {
            let numbers = piece.columns.pop().or_fault("partitions of a bucket's rows")?;
            piece.columns.extend(table.arrays(numbers.as_primitive::<UInt32Type>().values())?);
        }
        Ok(pieces)
    }

    /// By pieces the columns that the window reads and that come out, and behind them the results of all calls.
    pub(super) fn worked_out(self, window: &Window) -> Result<Vec<Batch>> {
        let Bucket { table, mut pieces } = self;
        let mut columns = whole(pieces.iter().filter(|piece| piece.rows > 0).cloned().collect())?.columns;
        let numbers = columns.pop().or_fault("partitions of a bucket's rows")?;
        let (starts, mut places) =
            sorting::by_number(numbers.as_primitive::<UInt32Type>().values(), table.len());
        drop((table, numbers));
        // The memory of what does not come out is free for the results, which are as large as what came.
        let kept: Vec<usize> =
            window.read_and_kept().map(|place| known_place(&window.used, &place)).collect();
        pieces.iter_mut().for_each(|piece| piece.columns = piece.columns_at(&kept));
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
        drop(input);
        let (results, back) = (whole(results)?.compacted(), back(&places));
        let mut done = 0;
        for piece in pieces.iter_mut().filter(|piece| piece.rows > 0) {
            let own = match &back {
                Some(back) => results.take(&back.slice(done, piece.rows))?,
                None => results.slice(done, piece.rows),
            };
            piece.columns.extend(own.columns);
            done += piece.rows;
        }
        Ok(pieces)
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

#[cfg(test)]
mod tests {
    use arrow_array::{Int64Array, StringViewArray};
    use churn_core::Type;
    use churn_core::parallel::Threads;
    use churn_expr::windows::{Frame, Task};

    use super::super::WindowCall;
    use super::*;

    /// The text of the row before, by a number.
    fn texts_before() -> Window {
        let task = Task::Shift(-1);
        let call = WindowCall { task, args: vec![1], only: None, frame: Frame::Partition, kind: Type::Text };
        Window {
            width: 2,
            kept: vec![0, 1],
            rest: vec![0],
            used: vec![1],
            by: vec![0],
            kinds: vec![Type::Int],
            order: Vec::new(),
            calls: vec![call],
            text: "window".into(),
            threads: Threads::new(1),
        }
    }

    /// However many batches rows come in, their texts and those of the results stand in few buffers: each array that is made of
    /// others names the buffers of all of them.
    #[test]
    fn texts_stand_in_few_buffers() -> Result<()> {
        const ROWS: i64 = 600;
        let window = texts_before();
        let batch = |from: i64| {
            let numbers: Int64Array = (from..from + ROWS).map(|row| row % 97).collect();
            let texts =
                (from..from + ROWS).map(|row| Some(format!("a text of more than twelve bytes {row}")));
            let texts: StringViewArray = texts.collect();
            Batch { columns: vec![Arc::new(numbers) as ArrayRef, Arc::new(texts)], rows: ROWS as usize }
        };
        let block = |start: i64| {
            window.distributed((0..20).map(|i| batch(start + i * ROWS)).collect(), window.most_buckets())
        };
        let blocks = [block(0)?, block(20 * ROWS)?, block(40 * ROWS)?];
        let mut rows = 0;
        for number in 0..window.most_buckets() {
            let mut bucket = Bucket::new(&window);
            bucket.add(&blocks[..2], number)?;
            bucket.add(&blocks[2..], number)?;
            rows += bucket.rows();
            if bucket.rows() == 0 {
                continue;
            }
            for piece in bucket.worked_out(&window)? {
                let [texts, before] = piece.columns.as_slice() else { panic!("columns of {piece:?}") };
                let (texts, before) = (texts.as_string_view(), before.as_string_view());
                assert!(texts.data_buffers().len() <= 1, "{} buffers", texts.data_buffers().len());
                assert!(before.data_buffers().len() <= 2, "{} buffers", before.data_buffers().len());
            }
        }
        assert_eq!(rows, 60 * ROWS as usize);
        Ok(())
    }
}
