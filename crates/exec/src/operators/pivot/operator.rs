//! Long to wide: the groups of a pivot, one column for each combination of key values.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use arrow_array::cast::AsArray;
use arrow_array::types::Int64Type;
use arrow_array::{Array, ArrayRef, BooleanArray, UInt32Array};
use churn_core::scalar::array_of;
use churn_core::{Batch, Error, ErrorKind, Result, Scalar, Type, taken};
use churn_expr::compare::order_of;
use churn_plan::Wanted;

use crate::keys::{KeyTable, UNKNOWN};
use crate::runtime::materialized::concat;
use crate::spill::partitioned::{PartitionOperator, Transformed};

/// A pivot's last part, its columns placed.
pub(crate) struct PivotOperator {
    pub(crate) by: Vec<usize>,
    pub(crate) by_kinds: Vec<Type>,
    pub(crate) keys: Vec<usize>,
    pub(crate) key_kinds: Vec<Type>,
    pub(crate) key_names: Vec<String>,
    pub(crate) by_names: Vec<String>,
    pub(crate) combinations: Vec<Vec<Scalar>>,
    pub(crate) cells: Vec<Cell>,
    pub(crate) count: Option<usize>,
    pub(crate) of_keys: Option<usize>,
    /// Rows of combinations that have no column, counted for the ledger.
    pub(crate) left_out: Arc<AtomicUsize>,
    pub(crate) text: String,
}

/// A column that values go to.
pub struct Cell {
    pub(crate) combination: usize,
    pub(crate) value: usize,
    pub(crate) only: Option<String>,
    pub(crate) fill: Option<Scalar>,
    pub(crate) kind: Type,
}

impl Cell {
    /// The wide column: of each group the value of its long row.
    fn of(&self, values: &ArrayRef, rows: &[u32]) -> Result<ArrayRef> {
        let fill = self.fill.clone().unwrap_or(Scalar::Null).to_array(&self.kind, 1);
        let places: Vec<(usize, usize)> =
            rows.iter().map(|row| if *row == UNKNOWN { (1, 0) } else { (0, *row as usize) }).collect();
        let sources: [&dyn Array; 2] = [values, &fill];
        arrow_select::interleave::interleave(&sources, &places).map_err(churn_core::arrow_error)
    }
}

/// Doubled cells that are shown.
const SHOWN: usize = 5;

impl PartitionOperator for PivotOperator {
    /// The first of the groups of each `by` becomes the wide row.
    fn rows(&self, batches: Vec<Batch>) -> Result<Vec<Transformed>> {
        let counts: Vec<usize> = batches.iter().map(|batch| batch.rows).collect();
        match concat(batches)?.pop() {
            Some(long) => self.pivoted(&long, &counts),
            None => Ok(Vec::new()),
        }
    }
}

impl PivotOperator {
    /// The wide rows of long ones, apart for each batch of so many rows that they came in.
    fn pivoted(&self, long: &Batch, batches: &[usize]) -> Result<Vec<Transformed>> {
        let combination = self.combinations_of(long)?;
        let mut table = KeyTable::new(self.by_kinds.clone());
        let mut groups = Vec::new();
        table.numbers(&long.columns_at(&self.by), long.rows, &mut groups)?;
        // The long row of each group and combination.
        let count = self.combinations.len() + 1;
        let mut rows = vec![vec![UNKNOWN; table.len()]; count];
        for (row, (group, combination)) in groups.iter().zip(&combination).enumerate() {
            if let Some(slot) = rows.get_mut(*combination as usize).and_then(|r| r.get_mut(*group as usize)) {
                *slot = row as u32;
            } else if let Some(counts) = self.count.and_then(|c| long.columns.get(c)) {
                let rows = counts.as_primitive::<Int64Type>().value(row);
                self.left_out.fetch_add(rows as usize, Ordering::Relaxed);
            }
        }
        let mut seen = vec![false; table.len()];
        let mut is_first = |(group, combination): (&u32, &u32)| {
            let seen = seen.get_mut(*group as usize).filter(|_| *combination != UNKNOWN);
            seen.is_some_and(|seen| !std::mem::replace(seen, true))
        };
        let first: Vec<bool> = groups.iter().zip(&combination).map(&mut is_first).collect();
        let order: Vec<u32> =
            groups.iter().zip(&first).filter(|(_, first)| **first).map(|(group, _)| *group).collect();
        let firsts: UInt32Array =
            first.iter().enumerate().filter(|(_, f)| **f).map(|(row, _)| Some(row as u32)).collect();
        let mut wide = Vec::new();
        for column in long.columns_at(&self.by) {
            wide.push(taken(&column, &firsts)?);
        }
        let lost = || Error::new(ErrorKind::Internal, "A pivot lacks a column.");
        let mut values: HashMap<usize, ArrayRef> = HashMap::new();
        for cell in &self.cells {
            if let Entry::Vacant(entry) = values.entry(cell.value) {
                let column = churn_core::widen::widen(long.columns.get(cell.value).ok_or_else(lost)?)?;
                entry.insert(match &cell.only {
                    Some(name) => self.only(name, long, &column, &combination)?,
                    None => column,
                });
            }
        }
        for cell in &self.cells {
            let rows = rows.get(cell.combination).map(Vec::as_slice).unwrap_or_default();
            let rows: Vec<u32> =
                order.iter().map(|group| rows.get(*group as usize).copied().unwrap_or(UNKNOWN)).collect();
            let values = values.get(&cell.value).ok_or_else(lost)?;
            wide.push(cell.of(values, &rows)?);
        }
        let wide = Batch { columns: wide, rows: order.len() };
        let (mut from, mut row) = (0, 0);
        let part = |rows: &usize| {
            let marks: Vec<bool> = first.iter().skip(row).take(*rows).copied().collect();
            row += rows;
            let count = marks.iter().filter(|m| **m).count();
            from += count;
            (wide.slice(from - count, count), Some(BooleanArray::from(marks)))
        };
        Ok(batches.iter().map(part).collect())
    }

    /// The number of each row's combination; [`UNKNOWN`] where it has no column.
    fn combinations_of(&self, long: &Batch) -> Result<Vec<u32>> {
        let mut table = KeyTable::new(self.key_kinds.clone());
        let known: Vec<ArrayRef> = (0..self.keys.len())
            .zip(&self.key_kinds)
            .map(|(key, kind)| {
                let values: Vec<&Scalar> = self.combinations.iter().filter_map(|c| c.get(key)).collect();
                array_of(&values, kind)
            })
            .collect();
        table.numbers(&known, self.combinations.len(), &mut Vec::new())?;
        let keys = long.columns_at(&self.keys);
        let mut numbers = Vec::new();
        if self.combinations.is_empty() {
            numbers.resize(long.rows, UNKNOWN);
        } else {
            table.find(&keys, long.rows, &mut numbers)?;
        }
        if let Some(of_keys) = self.of_keys.and_then(|place| long.columns.get(place)) {
            for (number, is_total) in numbers.iter_mut().zip(of_keys.as_boolean().values()) {
                if is_total {
                    *number = self.combinations.len() as u32;
                }
            }
        }
        Ok(numbers)
    }

    /// The one value of each list that has a column.
    fn only(&self, name: &str, long: &Batch, lists: &ArrayRef, combination: &[u32]) -> Result<ArrayRef> {
        let list = lists.as_list::<i32>();
        let is_doubled = |row: &usize| list.is_valid(*row) && list.value_length(*row) > 1;
        let rows = (0..long.rows).zip(combination).filter(|(_, c)| **c != UNKNOWN).map(|(row, _)| row);
        let doubled: Vec<usize> = rows.filter(is_doubled).take(SHOWN).collect();
        if doubled.is_empty() {
            let first = |row: usize| {
                (!list.is_null(row) && list.value_length(row) > 0).then(|| list.value_offsets()[row] as u32)
            };
            let firsts: UInt32Array = (0..list.len()).map(first).collect();
            return taken(list.values(), &firsts);
        }
        let what = format!("{} has several values for one cell.", churn_core::names::name(name));
        let mut error = Error::new(ErrorKind::Require, what).why("The first such cells:");
        for row in doubled {
            let keys = self.by_names.iter().zip(&self.by).chain(self.key_names.iter().zip(&self.keys));
            let at = keys.filter_map(|(name, place)| {
                let value = churn_core::widen::widen(long.columns.get(*place)?).ok()?;
                Some(format!("{} = {}", churn_core::names::name(name), Scalar::from_array(&value, row)))
            });
            let values = list.value(row);
            let more = if values.len() > SHOWN { ", …" } else { "" };
            let values = (0..values.len().min(SHOWN)).map(|i| Scalar::from_array(&values, i).to_string());
            error = error.why(format!(
                "  {}: {}{more}",
                churn_core::names::comma(at),
                churn_core::names::comma(values)
            ));
        }
        let name = churn_core::names::name(name);
        Err(error
            .next(format!("Say what becomes of them, one of: {name} = sum({name}), {name} = mean({name}), {name} = max({name}), {name} = array_agg({name}), n = count()"))
            .next("Or name in by what tells these rows apart.")
            .in_step(&self.text))
    }
}

/// The different values of some columns, in order, null last; `None` if there are too many.
pub(crate) fn combinations(
    batches: impl Iterator<Item = Result<Batch>>,
    kinds: &[Type],
    wanted: &Wanted,
) -> Result<Option<Vec<Vec<Scalar>>>> {
    let mut table = KeyTable::new(kinds.to_vec());
    let mut numbers = Vec::new();
    for batch in batches {
        let batch = batch?;
        let counts = wanted
            .except
            .and_then(|place| batch.columns.get(place))
            .map(|except| except.as_boolean().values().iter().map(|is_out| !is_out).collect::<Vec<bool>>());
        let batch = match counts {
            Some(counts) => batch.filter(&counts.into())?,
            None => batch,
        };
        numbers.clear();
        table.numbers(&batch.columns_at(&wanted.columns), batch.rows, &mut numbers)?;
        if table.len() > wanted.most {
            return Ok(None);
        }
    }
    let all: Vec<u32> = (0..table.len() as u32).collect();
    let columns = table.arrays(&all)?;
    let row = |row: usize| columns.iter().map(|column| Scalar::from_array(column, row)).collect();
    let mut found: Vec<Vec<Scalar>> = (0..table.len()).map(row).collect();
    found.sort_by(|a, b| {
        let orders = a.iter().zip(b).map(|(a, b)| order_of(a, b));
        orders.into_iter().find(|order| order.is_ne()).unwrap_or(std::cmp::Ordering::Equal)
    });
    Ok(Some(found))
}
