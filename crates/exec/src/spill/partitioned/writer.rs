//! Rows by the hash of their keys, and their files.

use arrow_array::{ArrayRef, UInt32Array};
use churn_core::parallel::Threads;
use churn_core::widen::bytes_alone;
use churn_core::{Batch, Result, Type};
use churn_kernels::known::{known, known_part};
use churn_kernels::sorting;

use super::position_column;
use crate::keys::KeyTable;
use crate::runtime::materialized::concat;
use crate::spill::{PIECE, Run, RunWriter, Spill};

/// Partitions that rows are partitioned to.
const PARTITIONS: usize = 64;

/// Rows that wait for a file until they are written together, at most.
const WAITING: usize = 1 << 11;

/// Rows on their way to files.
pub(crate) struct PartitionWriter {
    kinds: Vec<Type>,
    /// How often rows with these keys were partitioned before.
    level: u32,
    /// Rows that are not partitioned yet, their keys behind their columns, and their places.
    rows: Vec<Batch>,
    numbers: Vec<u64>,
    bytes: usize,
    files: Vec<PartitionFile>,
    /// The position of the next row, where rows come one behind the other.
    next: u64,
    /// Threads that may write them.
    threads: Threads,
}

/// Rows that are partitioned together, and bytes of them: so many that each file gets some.
const TOGETHER: usize = 1 << 14;
const TOGETHER_BYTES: usize = 4 << 20;

/// Rows of a partition are few if they are a smaller part than one of so many.
const SHARE: usize = 4 * PARTITIONS;

/// Rows in the order of their partitions.
pub(crate) struct PartitionedRows {
    rows: Batch,
    /// Where the rows of each partition start, and their end.
    starts: Vec<u32>,
    /// The place that each row had before.
    places: Vec<u32>,
}

impl PartitionedRows {
    /// Partitions rows with these keys of these types, which were partitioned so often before.
    pub(super) fn new(
        batch: &Batch,
        keys: &[ArrayRef],
        kinds: &[Type],
        level: u32,
    ) -> Result<PartitionedRows> {
        let mut table = KeyTable::new(kinds.to_vec());
        let mut groups = Vec::with_capacity(batch.rows);
        table.numbers(keys, batch.rows, &mut groups)?;
        let mut file_of = vec![0u8; table.len()];
        for (file, (_, groups)) in (0u8..).zip(table.partition_at(PARTITIONS, level)?) {
            for group in groups {
                file_of.get_mut(group as usize).into_iter().for_each(|slot| *slot = file);
            }
        }
        let files: Vec<u8> = groups.iter().map(|group| known(&file_of, *group as usize)).collect();
        let (starts, places) = sorting::by_number(&files, PARTITIONS);
        let rows = batch.take(&UInt32Array::from(places.clone()))?;
        Ok(PartitionedRows { rows, starts, places })
    }

    /// How many there are.
    pub(super) fn len(&self) -> usize {
        self.places.len()
    }

    /// The rows of a partition, with the places that they had; none if it has none.
    fn of(&self, partition: usize) -> Result<Option<(Batch, &[u32])>> {
        let (from, to) = (known(&self.starts, partition), known(&self.starts, partition + 1));
        let rows = (to - from) as usize;
        if rows == 0 {
            return Ok(None);
        }
        // Few rows, which wait long for others, would hold all.
        let own = if rows * SHARE < self.len() {
            self.rows.take(&UInt32Array::from_iter_values(from..to))?.compacted()
        } else {
            self.rows.slice(from as usize, rows)
        };
        Ok(Some((own, known_part(&self.places, from as usize..to as usize))))
    }
}

/// A file of them, and what waits to be written to it.
struct PartitionFile {
    writer: RunWriter,
    waiting: Vec<Batch>,
    rows: usize,
    bytes: usize,
}

impl PartitionFile {
    fn new(spill: &Spill) -> Result<PartitionFile> {
        Ok(PartitionFile { writer: spill.writer()?, waiting: Vec::new(), rows: 0, bytes: 0 })
    }

    fn push(&mut self, batch: Batch) -> Result<()> {
        self.rows += batch.rows;
        // They are a part of all that was partitioned together.
        self.bytes += batch.columns.iter().map(bytes_alone).sum::<usize>();
        self.waiting.push(batch);
        if self.rows >= WAITING || self.bytes >= PIECE / 2 { self.settle() } else { Ok(()) }
    }

    fn settle(&mut self) -> Result<()> {
        (self.rows, self.bytes) = (0, 0);
        concat(std::mem::take(&mut self.waiting))?.into_iter().try_for_each(|batch| self.writer.write(batch))
    }

    fn finish(mut self) -> Result<Run> {
        self.settle()?;
        self.writer.finish()
    }
}

impl PartitionWriter {
    pub(crate) fn new(kinds: Vec<Type>, spill: &Spill, threads: &Threads) -> Result<PartitionWriter> {
        PartitionWriter::at_level(kinds, 0, spill, threads)
    }

    /// Files of rows that were partitioned so often before.
    pub(super) fn at_level(
        kinds: Vec<Type>,
        level: u32,
        spill: &Spill,
        threads: &Threads,
    ) -> Result<PartitionWriter> {
        let files = (0..PARTITIONS).map(|_| PartitionFile::new(spill)).collect::<Result<_>>()?;
        let threads = threads.clone();
        Ok(PartitionWriter {
            kinds,
            level,
            rows: Vec::new(),
            numbers: Vec::new(),
            bytes: 0,
            files,
            next: 0,
            threads,
        })
    }

    /// Partitions rows by these keys; `numbers` has the place of each.
    pub(crate) fn push(&mut self, batch: &Batch, keys: &[ArrayRef], numbers: &[u64]) -> Result<()> {
        self.bytes += batch.memory();
        let columns = batch.columns.iter().chain(keys).cloned().collect();
        self.rows.push(Batch { columns, rows: batch.rows });
        self.numbers.extend_from_slice(numbers);
        if self.numbers.len() >= TOGETHER || self.bytes >= TOGETHER_BYTES { self.settle() } else { Ok(()) }
    }

    /// The same, of rows that come behind all others.
    pub(crate) fn push_next(&mut self, batch: &Batch, keys: &[ArrayRef]) -> Result<()> {
        let first = self.next;
        self.next += batch.rows as u64;
        self.push(batch, keys, &(first..self.next).collect::<Vec<u64>>())
    }

    fn settle(&mut self) -> Result<()> {
        self.bytes = 0;
        let numbers = std::mem::take(&mut self.numbers);
        for mut batch in concat(std::mem::take(&mut self.rows))? {
            let keys = batch.columns.split_off(batch.columns.len().saturating_sub(self.kinds.len()));
            let rows = PartitionedRows::new(&batch, &keys, &self.kinds, self.level)?;
            self.add(&rows, |place| known(&numbers, place as usize))?;
        }
        Ok(())
    }

    /// Writes rows that are partitioned, and come behind all others.
    pub(super) fn add_next(&mut self, rows: &PartitionedRows) -> Result<()> {
        let first = self.next;
        self.next += rows.len() as u64;
        self.add(rows, |place| first + u64::from(place))
    }

    /// Writes rows that are partitioned; `position` tells the position of each by its place among them.
    fn add(&mut self, rows: &PartitionedRows, position: impl Fn(u32) -> u64 + Sync) -> Result<()> {
        let add = |(number, file): (usize, &mut PartitionFile)| match rows.of(number)? {
            Some((mut batch, places)) => {
                batch.columns.insert(0, position_column(places.iter().map(|place| position(*place))));
                file.push(batch)
            }
            None => Ok(()),
        };
        self.threads.each(self.files.iter_mut().enumerate(), add).map(drop)
    }

    /// Ends the files; gives one run for each partition, whose first column has the positions of its rows.
    pub(crate) fn finish(mut self) -> Result<Vec<Run>> {
        self.settle()?;
        self.files.into_iter().map(PartitionFile::finish).collect()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;
    use std::sync::Arc;

    use arrow_array::cast::AsArray;
    use arrow_array::types::Int64Type;
    use arrow_array::{Int64Array, StringViewArray};
    use proptest::prelude::*;

    use super::*;
    use crate::spill::partitioned::positions;

    fn text(row: i64) -> String {
        format!("a text of more than twelve bytes {row}")
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 16, ..ProptestConfig::default() })]

        /// However rows come, each is in one file with its position, in order, and all rows of a key are in the same file.
        #[test]
        fn each_row_is_in_the_file_of_its_key(
            // Many rows of few keys, so that other files get few; and rows of many.
            parts in prop::collection::vec((0usize..900, 1i64..2_000), 1..6),
            threads in 1usize..4,
        ) {
            let (spill, threads) = (Spill::new(None), Threads::new(threads));
            let mut writer = PartitionWriter::new(vec![Type::Int], &spill, &threads)?;
            let mut keys: Vec<i64> = Vec::new();
            for (rows, different) in parts {
                let first = keys.len() as i64;
                keys.extend((0..rows as i64).map(|row| row * row % different));
                let own: ArrayRef = Arc::new(Int64Array::from(keys[first as usize..].to_vec()));
                let texts: StringViewArray = (first..first + rows as i64).map(|row| Some(text(row))).collect();
                let batch = Batch { columns: vec![own.clone(), Arc::new(texts)], rows };
                let rows = PartitionedRows::new(&batch, &[own], &[Type::Int], 0)?;
                writer.add(&rows, |place| first as u64 + u64::from(place))?;
            }
            let (mut files, mut seen) = (BTreeMap::new(), vec![0; keys.len()]);
            for (number, run) in writer.finish()?.into_iter().enumerate() {
                let mut last = -1;
                for batch in run.reader()?.into_iter().flatten() {
                    let batch = batch?;
                    let (own, texts) = (batch.columns[1].as_primitive::<Int64Type>(), batch.columns[2].as_string_view());
                    for (row, position) in positions(&batch.columns[0])?.iter().enumerate() {
                        prop_assert!(*position > last);
                        last = *position;
                        seen[*position as usize] += 1;
                        prop_assert_eq!(own.value(row), keys[*position as usize]);
                        prop_assert_eq!(texts.value(row), text(*position));
                        prop_assert_eq!(*files.entry(own.value(row)).or_insert(number), number);
                    }
                }
            }
            prop_assert!(seen.iter().all(|times| *times == 1));
        }
    }
}
