//! A worker's side of a sort: the rows of a morsel with their keys, near those that they will stand with.
//!
//! Rows are partitioned to ranges of their keys, or put in order among themselves where they do not spread over the ranges:
//! those that come to stand together in the end are near each other in every part, and gathering them goes through
//! each part once from front to back.

use std::sync::{Arc, OnceLock};

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, BinaryViewArray};
use arrow_row::RowConverter;
use arrow_schema::DataType;
use churn_core::widen::widen;
use churn_core::{Batch, Result};
use churn_io::format::LineEncoder;
use churn_kernels::known::known;
use churn_kernels::lines;

use super::bounds::{RangeBounds, RangePartitions, TELLING};
use super::order::Order;
use super::sort_keys::SortKeys;
use super::table::{Keyed, Layout, SortTable};
use crate::runtime::budget::Budget;
use crate::runtime::gathered::gathered;
use crate::runtime::morsel_output::MorselOutput;
use crate::runtime::sink::{Local, Worker};

/// What a sort carries of its rows, and gives in their new order.
pub(crate) enum Carried {
    /// All columns.
    All,
    /// The columns before this place.
    Before(usize),
    /// Lines of text that the source gives, in this place: the rows are written, and nothing else becomes of them.
    Lines(usize),
    /// Lines of text of these columns.
    Encoded(Arc<dyn LineEncoder>, Vec<usize>),
}

impl Carried {
    fn are_lines(&self) -> bool {
        matches!(self, Carried::Lines(_) | Carried::Encoded(..))
    }

    /// What is carried of a batch.
    fn of(&self, mut batch: Batch) -> Result<Batch> {
        let lines: Option<ArrayRef> = match self {
            Carried::All => return Ok(without_dictionaries(batch)?.compacted()),
            Carried::Before(place) => {
                batch.columns.truncate(*place);
                return Ok(without_dictionaries(batch)?.compacted());
            }
            Carried::Lines(place) => batch.columns.get(*place).cloned(),
            Carried::Encoded(encoder, places) => {
                let columns = batch.columns_at(places);
                Some(Arc::new(encoder.lines(&Batch { columns, rows: batch.rows }, None)?))
            }
        };
        Ok(Batch { columns: lines.into_iter().collect(), rows: batch.rows })
    }
}

/// Bytes of the rows of a part from which on it is closed: what is made of them meanwhile stays near.
const PART_BYTES: u64 = 8 << 20;

/// A worker's side.
pub(crate) struct SortWorkers {
    order: Order,
    converter: Option<RowConverter>,
    carried: Carried,
    /// The bounds of the ranges that rows are partitioned to, once some rows have told them.
    bounds: OnceLock<Arc<RangeBounds>>,
    /// Bytes of the rows of a part from which on it is closed. The order of rows does not depend on parts.
    part_bytes: usize,
}

impl SortWorkers {
    pub(crate) fn new(order: Order, carried: Carried, budget: &Budget) -> Result<SortWorkers> {
        let converter = if order.is_of_words() { None } else { Some(order.converter()?) };
        let part_bytes = budget.share().min(PART_BYTES) as usize;
        Ok(SortWorkers { order, converter, carried, bounds: OnceLock::new(), part_bytes })
    }

    /// What is sorted by.
    pub(crate) fn order(&self) -> &Order {
        &self.order
    }

    /// The keys of so many rows, from the key columns of some batches.
    pub(crate) fn keys(&self, batches: &[Vec<ArrayRef>], rows: usize) -> Result<SortKeys> {
        SortKeys::new(batches, &self.order, self.converter.as_ref(), rows)
    }

    /// The ranges of some rows, if they spread over them.
    fn partitioned(&self, keys: &SortKeys, rows: usize) -> Option<(Arc<RangeBounds>, RangePartitions)> {
        if rows < TELLING {
            return None;
        }
        let bounds = self.bounds.get_or_init(|| Arc::new(RangeBounds::new(keys, rows)));
        Some((bounds.clone(), bounds.partitioned(keys, rows)?))
    }
}

impl Worker for SortWorkers {
    type Part = Keyed;
    type Local<'a> = LocalPart<'a>;

    const GATHERS: bool = true;

    fn local(&self) -> Result<LocalPart<'_>> {
        Ok(LocalPart::new(self))
    }
}

/// The rows of a morsel that are in no part yet.
pub(crate) struct LocalPart<'a> {
    workers: &'a SortWorkers,
    bytes: usize,
    batches: Vec<Batch>,
    /// The key columns of each batch.
    keys: Vec<Vec<ArrayRef>>,
}

impl<'a> LocalPart<'a> {
    pub(super) fn new(workers: &'a SortWorkers) -> LocalPart<'a> {
        LocalPart { workers, bytes: 0, batches: Vec::new(), keys: Vec::new() }
    }

    /// Adds a batch with its key columns.
    pub(super) fn push_keyed(&mut self, batch: Batch, keys: Vec<ArrayRef>) -> Result<()> {
        if batch.rows > 0 {
            self.keys.push(keys);
            self.batches.push(self.workers.carried.of(batch)?);
            self.bytes += self.batches.last().map_or(0, Batch::memory);
        }
        Ok(())
    }

    /// Whether the rows are enough for a part.
    pub(super) fn is_large(&self) -> bool {
        self.bytes >= self.workers.part_bytes
    }

    /// The rows as a part.
    pub(super) fn part(self) -> Result<Keyed> {
        let rows = self.batches.iter().map(|b| b.rows).sum();
        let converter = self.workers.converter.as_ref();
        let keys = self.workers.keys(&self.keys, rows)?;
        drop(self.keys);
        let (order, ranges, keys, layout) = match self.workers.partitioned(&keys, rows) {
            Some((bounds, RangePartitions { ranges, order, starts })) => {
                (order, Some(ranges), keys, Layout::Partitioned { bounds, starts })
            }
            None => {
                let rows = Batch { columns: Vec::new(), rows };
                let table = SortTable::new(vec![Keyed { batch: rows, keys, layout: Layout::Sorted }]);
                let order: Vec<u32> = table.in_order(0).iter().map(|number| table.place(*number).1).collect();
                let keys = table.parts.into_iter().next().map(|part| part.keys);
                (order, None, keys.unwrap_or(SortKeys::Words(Vec::new())), Layout::Sorted)
            }
        };
        let batch = if self.workers.carried.are_lines() {
            lines_in(&self.batches, &order, ranges)
        } else {
            rows_in(&self.batches, &order)?
        };
        let keys = keys.taken(&order, converter)?;
        Ok(Keyed { batch, keys, layout })
    }
}

impl Local for LocalPart<'_> {
    type Part = Keyed;

    fn consume(&mut self, batch: Batch, work: &mut MorselOutput) -> Result<Option<Keyed>> {
        let keys = self.workers.order.columns(&batch, work)?;
        self.push_keyed(batch, keys)?;
        if !self.is_large() {
            return Ok(None);
        }
        std::mem::replace(self, LocalPart::new(self.workers)).part().map(Some)
    }

    fn seal(self) -> Result<Option<Keyed>> {
        self.part().map(Some)
    }
}

/// Lines in this order, which is that of their ranges if they have some.
fn lines_in(batches: &[Batch], order: &[u32], ranges: Option<Vec<u32>>) -> Batch {
    let ranges = ranges.unwrap_or_else(|| {
        let mut places = vec![0; order.len()];
        for (place, row) in (0u32..).zip(order) {
            if let Some(slot) = places.get_mut(*row as usize) {
                *slot = place;
            }
        }
        places
    });
    let count = ranges.iter().max().map_or(0, |last| *last as usize + 1);
    let lines = batches.iter().filter_map(|b| b.columns.first()?.as_binary_view_opt());
    let placed = lines::partitioned(&lines.collect::<Vec<&BinaryViewArray>>(), &ranges, count);
    Batch { rows: placed.len(), columns: vec![Arc::new(placed)] }
}

/// The rows of some batches in this order.
fn rows_in(batches: &[Batch], order: &[u32]) -> Result<Batch> {
    let starts: Vec<usize> = batches
        .iter()
        .scan(0, |at, b| {
            *at += b.rows;
            Some(*at - b.rows)
        })
        .collect();
    let place = |row: &u32| {
        let batch = starts.partition_point(|start| *start <= *row as usize) - 1;
        (batch as u32, *row - known(&starts, batch) as u32)
    };
    let places: Vec<(u32, u32)> = order.iter().map(place).collect();
    gathered(&batches.iter().collect::<Vec<_>>(), &places)
}

/// The batch with texts in place of numbers into dictionaries: rows of many parts are gathered, each with its own.
fn without_dictionaries(batch: Batch) -> Result<Batch> {
    let columns = batch.columns.iter().map(|column| match column.data_type() {
        DataType::Dictionary(..) => widen(column),
        _ => Ok(column.clone()),
    });
    Ok(Batch { columns: columns.collect::<Result<_>>()?, rows: batch.rows })
}
