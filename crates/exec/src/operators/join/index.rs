//! Where the other table's rows of a key are.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Date32Type, Int64Type};
use arrow_array::{Array, ArrayRef};
use arrow_buffer::NullBuffer;
use churn_core::widen::widen;
use churn_core::{Result, Type, cancel};
use churn_kernels::known::{known, known_part};

use super::bands::Bands;
use crate::keys::{KeyTable, UNKNOWN, normal};

/// Rows by key, built once and looked up by all workers.
pub(super) struct Index {
    find: Find,
    groups: Groups,
}

/// How a key gets the number of its group.
enum Find {
    /// There are no keys: all rows are one group.
    All,
    /// Whole numbers that lie close: the group is the distance from the least of them.
    Dense {
        low: i64,
        groups: usize,
    },
    Table(Box<KeyTable>),
}

/// The rows of each group.
enum Groups {
    /// At most one: its row, or [`UNKNOWN`]; and whether it always has the group's number.
    One(Vec<u32>, bool),
    /// Those from `starts[group]` to `starts[group + 1]`.
    Many { starts: Vec<u32>, rows: Vec<u32> },
}

/// Which rows have a value in all of these columns; `None` if all have.
pub(super) fn present(columns: &[ArrayRef]) -> Option<NullBuffer> {
    let nulls = columns
        .iter()
        .fold(None, |nulls, column| NullBuffer::union(nulls.as_ref(), column.logical_nulls().as_ref()));
    nulls.filter(|n| n.null_count() > 0)
}

impl Index {
    /// The index of so many rows by these keys; rows that lack a value do not get in. With `bands`, the rows of a
    /// group are in their order.
    pub(super) fn new(
        keys: &[ArrayRef],
        kinds: &[Type],
        valid: Option<&NullBuffer>,
        rows: usize,
        bands: Option<&Bands>,
    ) -> Result<Index> {
        let (find, numbers, groups) = number_keys(keys, kinds, valid, rows)?;
        let is_valid = |row: usize| valid.is_none_or(|v| v.is_valid(row));
        let group_of = |row: usize| numbers.as_ref().map_or(0, |n| known(n, row)) as usize;
        cancel::check()?;
        let mut starts = vec![0u32; groups + 1];
        for row in (0..rows).filter(|row| is_valid(*row)) {
            if let Some(count) = starts.get_mut(group_of(row) + 1) {
                *count += 1;
            }
        }
        let is_unique = bands.is_none() && !matches!(find, Find::All) && starts.iter().all(|n| *n <= 1);
        if is_unique {
            let mut one = vec![UNKNOWN; groups];
            for row in (0..rows).filter(|row| is_valid(*row)) {
                if let Some(slot) = one.get_mut(group_of(row)) {
                    *slot = row as u32;
                }
            }
            let is_same = (0u32..).zip(&one).all(|(group, row)| group == *row);
            return Ok(Index { find, groups: Groups::One(one, is_same) });
        }
        cancel::check()?;
        let mut sum = 0;
        for start in &mut starts {
            sum += *start;
            *start = sum;
        }
        let mut next: Vec<u32> = starts.clone();
        let mut placed = vec![0u32; sum as usize];
        for row in (0..rows).filter(|row| is_valid(*row)) {
            if let Some(at) = next.get_mut(group_of(row)) {
                if let Some(slot) = placed.get_mut(*at as usize) {
                    *slot = row as u32;
                }
                *at += 1;
            }
        }
        if let Some(bands) = bands {
            let mut from = 0;
            for to in starts.iter().skip(1).map(|to| *to as usize) {
                bands.sort(placed.get_mut(from..to).unwrap_or_default());
                from = to;
            }
        }
        Ok(Index { find, groups: Groups::Many { starts, rows: placed } })
    }

    /// The one row of each of so many keys, or [`UNKNOWN`]; `None` if one may have several.
    pub(super) fn only_rows_of(&self, keys: &[ArrayRef], count: usize) -> Result<Option<Vec<u32>>> {
        let Groups::One(rows, is_same) = &self.groups else { return Ok(None) };
        let mut groups = self.groups_of(keys, count)?;
        if !is_same {
            let row = |group: &u32| rows.get(*group as usize).copied().unwrap_or(UNKNOWN);
            groups.iter_mut().for_each(|group| *group = row(group));
        }
        Ok(Some(groups))
    }

    /// All rows, group by group.
    pub(super) fn rows(&self) -> &[u32] {
        match &self.groups {
            Groups::One(rows, _) | Groups::Many { rows, .. } => rows,
        }
    }

    /// Bytes in use.
    pub(super) fn memory(&self) -> usize {
        let table = if let Find::Table(table) = &self.find { table.memory() } else { 0 };
        table
            + match &self.groups {
                Groups::One(rows, _) => rows.capacity() * 4,
                Groups::Many { starts, rows } => (starts.capacity() + rows.capacity()) * 4,
            }
    }

    /// The group of each row's key; [`UNKNOWN`] where a part of it is null or no row has it.
    pub(super) fn groups_of(&self, keys: &[ArrayRef], rows: usize) -> Result<Vec<u32>> {
        let mut groups = Vec::with_capacity(rows);
        match &self.find {
            Find::All => groups.resize(rows, 0),
            Find::Dense { low, groups: count } => {
                let Some(key) = keys.first() else { return Ok(groups) };
                let key = widen(key)?;
                // A number below the least one wraps round to one that is too large.
                let group = |value: i64| {
                    let distance = value.wrapping_sub(*low).cast_unsigned();
                    if distance < *count as u64 { distance as u32 } else { UNKNOWN }
                };
                match (key.as_primitive_opt::<Int64Type>(), key.as_primitive_opt::<Date32Type>()) {
                    (Some(ints), _) => groups.extend(ints.values().iter().map(|v| group(*v))),
                    (_, Some(days)) => groups.extend(days.values().iter().map(|v| group(i64::from(*v)))),
                    _ => groups.resize(rows, UNKNOWN),
                }
            }
            Find::Table(table) => table.find(keys, rows, &mut groups)?,
        }
        if let Some(valid) = present(keys) {
            let lacking = groups.iter_mut().enumerate().filter(|(row, _)| valid.is_null(*row));
            lacking.for_each(|(_, group)| *group = UNKNOWN);
        }
        Ok(groups)
    }

    /// The rows of a group.
    #[inline]
    pub(super) fn rows_of(&self, group: u32) -> &[u32] {
        let group = group as usize;
        match &self.groups {
            Groups::One(rows, _) => match rows.get(group..group + 1) {
                Some([UNKNOWN]) | None => &[],
                Some(row) => row,
            },
            Groups::Many { rows, .. } => {
                let (from, to) = self.range_of(group as u32);
                known_part(rows, from..to)
            }
        }
    }

    /// Where the rows of a group are among all.
    pub(super) fn range_of(&self, group: u32) -> (usize, usize) {
        match &self.groups {
            Groups::One(..) => (group as usize, group as usize + 1),
            Groups::Many { starts, .. } => {
                let at = |i: usize| known(starts, i) as usize;
                if group == UNKNOWN { (0, 0) } else { (at(group as usize), at(group as usize + 1)) }
            }
        }
    }
}

/// Rows whose keys are numbered between two looks at whether the run is to stop.
const SOME: usize = 1 << 17;

/// How keys are found, the number of each row's key, and how many there are.
fn number_keys(
    keys: &[ArrayRef],
    kinds: &[Type],
    valid: Option<&NullBuffer>,
    rows: usize,
) -> Result<(Find, Option<Vec<u32>>, usize)> {
    if keys.is_empty() {
        return Ok((Find::All, None, 1));
    }
    if let ([key], [Type::Int | Type::Date]) = (keys, kinds)
        && let Some(dense) = dense(&widen(key)?, valid, rows)
    {
        return Ok(dense);
    }
    let mut table = KeyTable::new(kinds.to_vec());
    let mut numbers = Vec::with_capacity(rows);
    let keys = keys.iter().map(normal).collect::<Result<Vec<_>>>()?;
    for from in (0..rows).step_by(SOME) {
        cancel::check()?;
        let some = SOME.min(rows - from);
        let part: Vec<ArrayRef> = keys.iter().map(|key| key.slice(from, some)).collect();
        table.numbers(&part, some, &mut numbers)?;
    }
    let groups = table.len();
    Ok((Find::Table(Box::new(table)), Some(numbers), groups))
}

/// Numbers that lie so close that each can have a place of its own.
fn dense(key: &ArrayRef, valid: Option<&NullBuffer>, rows: usize) -> Option<(Find, Option<Vec<u32>>, usize)> {
    let values: Arc<[i64]> = match (key.as_primitive_opt::<Int64Type>(), key.as_primitive_opt::<Date32Type>())
    {
        (Some(ints), _) => ints.values().iter().copied().collect(),
        (_, Some(days)) => days.values().iter().map(|v| i64::from(*v)).collect(),
        _ => return None,
    };
    let present = || {
        let valid = |row: usize| valid.is_none_or(|v| v.is_valid(row));
        values.iter().enumerate().filter(move |(row, _)| valid(*row)).map(|(_, v)| *v)
    };
    let (low, high) = (present().min()?, present().max()?);
    let groups = usize::try_from(i128::from(high) - i128::from(low) + 1).ok()?;
    if groups > (rows * 4).max(1 << 16) {
        return None;
    }
    // Rows without a value have a number too, which nobody asks for.
    let number = |v: &i64| (v.wrapping_sub(low) as u32).min(groups as u32 - 1);
    Some((Find::Dense { low, groups }, Some(values.iter().map(number).collect()), groups))
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{Int64Array, StringViewArray};

    fn found(keys: ArrayRef, kind: Type, asked: ArrayRef) -> Result<Vec<Vec<u32>>> {
        let index = Index::new(
            std::slice::from_ref(&keys),
            &[kind],
            present(std::slice::from_ref(&keys)).as_ref(),
            keys.len(),
            None,
        )?;
        let groups = index.groups_of(std::slice::from_ref(&asked), asked.len())?;
        Ok(groups.iter().map(|group| index.rows_of(*group).to_vec()).collect())
    }

    #[test]
    fn close_numbers_far_numbers_and_texts_are_found_alike() -> Result<()> {
        let expected = [vec![1, 3], vec![], vec![0], vec![]];
        for factor in [1, 1_000_000_007] {
            let keys = Int64Array::from(vec![Some(5 * factor), Some(-2 * factor), None, Some(-2 * factor)]);
            let asked = Int64Array::from(vec![Some(-2 * factor), Some(3 * factor), Some(5 * factor), None]);
            assert_eq!(found(Arc::new(keys), Type::Int, Arc::new(asked))?, expected);
        }
        let keys = StringViewArray::from(vec![Some("five"), Some("two"), None, Some("two")]);
        let long = "three, written so long that it has no room";
        let asked = StringViewArray::from(vec![Some("two"), Some(long), Some("five"), None]);
        assert_eq!(found(Arc::new(keys), Type::Text, Arc::new(asked))?, expected);
        Ok(())
    }

    #[test]
    fn extremes_are_not_close() -> Result<()> {
        let keys: ArrayRef = Arc::new(Int64Array::from(vec![i64::MIN, i64::MAX]));
        let asked: ArrayRef = Arc::new(Int64Array::from(vec![i64::MAX, 0, i64::MIN]));
        assert_eq!(found(keys, Type::Int, asked)?, [vec![1], vec![], vec![0]]);
        Ok(())
    }
}
