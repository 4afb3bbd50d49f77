//! Rows that a worker passes on without aggregating them: where a morsel has about as many groups as rows, a table of its
//! own would only be work that is done again when it is merged.
//!
//! Rows are partitioned by their keys' hashes, as groups are, and keep their order within a partition.

use arrow_array::{Array, ArrayRef, UInt32Array};
use churn_core::widen::widen;
use churn_core::{Result, taken};

use super::local::{Content, GroupPartition, Grouping, PartitionedGroups};
use crate::keys::{KeyList, KeyTable};

/// Rows that are partitioned together.
pub(super) const PASSED_ROWS: usize = 1 << 16;

/// Rows that wait to be partitioned.
pub(super) struct PassedRows {
    /// Knows the form of the keys; it has none.
    table: KeyTable,
    pub(super) rows: usize,
    /// The keys of each batch, and the arguments of each aggregate.
    batches: Vec<(KeyList, Vec<Vec<ArrayRef>>)>,
}

impl PassedRows {
    pub(super) fn new(grouping: &Grouping) -> PassedRows {
        PassedRows { table: KeyTable::of_many(grouping.kinds.clone()), rows: 0, batches: Vec::new() }
    }

    /// Adds the rows of a batch.
    pub(super) fn push(&mut self, keys: &[ArrayRef], rows: usize, values: Vec<Vec<ArrayRef>>) -> Result<()> {
        self.batches.push((self.table.of_rows(keys, rows)?, values));
        self.rows += rows;
        Ok(())
    }

    /// Partitions the rows to so many parts.
    pub(super) fn into_partitions(self, parts: usize) -> Result<PartitionedGroups> {
        let PassedRows { table, rows, batches } = self;
        let arguments: Vec<usize> =
            batches.first().map_or_else(Vec::new, |(_, values)| values.iter().map(Vec::len).collect());
        let (keys, values): (Vec<KeyList>, Vec<Vec<Vec<ArrayRef>>>) = batches.into_iter().unzip();
        let keys = table.joined(keys)?;
        let whole = |call: usize, argument: usize| {
            let of =
                |values: &Vec<Vec<ArrayRef>>| values.get(call).and_then(|call| call.get(argument)).map(widen);
            let parts = values.iter().filter_map(of).collect::<Result<Vec<_>>>()?;
            let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
            arrow_select::concat::concat(&parts).map_err(churn_core::arrow_error)
        };
        let values = arguments.iter().enumerate();
        let values = values.map(|(call, count)| (0..*count).map(|argument| whole(call, argument)).collect());
        let rows_passed = GroupPartition {
            numbers: (0..rows as u32).collect(),
            keys,
            content: Content::Values(values.collect::<Result<_>>()?),
        };
        let bytes = rows * (16 + 8 * arguments.iter().sum::<usize>());
        let parts = if rows == 0 { Vec::new() } else { partitioned(&table, rows_passed, parts)? };
        Ok(PartitionedGroups { parts, groups: rows, bytes, rows: Vec::new() })
    }
}

/// Partitions rows to so many parts by their keys.
pub(super) fn partitioned(
    table: &KeyTable,
    rows: GroupPartition,
    parts: usize,
) -> Result<Vec<Option<GroupPartition>>> {
    let GroupPartition { keys, numbers, content: Content::Values(values) } = rows else {
        return Ok(vec![Some(rows)]);
    };
    if parts == 1 {
        return Ok(vec![Some(GroupPartition { keys, numbers, content: Content::Values(values) })]);
    }
    let places = table.places_by_partition(&keys, parts);
    // All values are put in the order of the parts, of which each has a slice.
    let order = UInt32Array::from(places.concat());
    let moved = |values: &Vec<ArrayRef>| {
        values.iter().map(|values| taken(values, &order)).collect::<Result<Vec<_>>>()
    };
    let values = values.iter().map(moved).collect::<Result<Vec<_>>>()?;
    let mut start = 0;
    let part = |places: Vec<u32>| {
        let (from, count) = (start, places.len());
        start += count;
        let slice = |values: &Vec<ArrayRef>| values.iter().map(|values| values.slice(from, count)).collect();
        (count > 0).then(|| GroupPartition {
            keys: keys.at(&places),
            numbers: places.iter().filter_map(|place| numbers.get(*place as usize).copied()).collect(),
            content: Content::Values(values.iter().map(slice).collect()),
        })
    };
    Ok(places.into_iter().map(part).collect())
}
