//! Conditions with an order, `<` to `>=`: the rows of a group that satisfy them, without looking at all.
//!
//! The values of a column are replaced by their rank, turned so that every condition reads *at least*. A group's
//! rows stand in the order of the first condition's ranks, so that those that satisfy it are at its end; among
//! them, a tree of maxima over the ranks of the second finds those that satisfy both.

use arrow_array::{Array, ArrayRef};
use arrow_row::{OwnedRow, RowConverter, SortField};
use churn_core::{Result, Type};
use churn_expr::ast::Binary;
use churn_kernels::known::{known, known_part};

use super::index::Index;
use crate::keys::normal;
use crate::operators::sort::{is_word, words_of};

/// Children of a node of the tree.
const FAN: usize = 16;

/// The conditions of a join over the other table's rows.
pub(super) struct Bands {
    conditions: Vec<Band>,
    tops: Tops,
}

/// One condition: the rank that each row has, and the values behind the ranks.
struct Band {
    op: Binary,
    values: BandOrder,
    ranks: Vec<u32>,
}

/// Different values in order.
enum BandOrder {
    Words(Vec<u64>),
    Rows(RowConverter, Vec<OwnedRow>),
}

impl BandOrder {
    /// The values of a column, and the rank of each row; rows without a value have any.
    fn new(column: &ArrayRef, kind: &Type) -> Result<(BandOrder, Vec<u32>)> {
        let column = normal(column)?;
        if is_word(kind) {
            let words = words_of(&column);
            let mut values: Vec<u64> =
                words.iter().enumerate().filter(|(row, _)| column.is_valid(*row)).map(|(_, w)| *w).collect();
            values.sort_unstable();
            values.dedup();
            let ranks = words.iter().map(|w| values.partition_point(|v| v < w) as u32).collect();
            return Ok((BandOrder::Words(values), ranks));
        }
        let converter =
            RowConverter::new(vec![SortField::new(kind.arrow())]).map_err(churn_core::arrow_error)?;
        let rows =
            converter.convert_columns(std::slice::from_ref(&column)).map_err(churn_core::arrow_error)?;
        let mut values: Vec<OwnedRow> = rows
            .iter()
            .enumerate()
            .filter(|(row, _)| column.is_valid(*row))
            .map(|(_, row)| row.owned())
            .collect();
        values.sort_unstable();
        values.dedup();
        let ranks = rows.iter().map(|r| values.partition_point(|v| v.row() < r) as u32).collect();
        Ok((BandOrder::Rows(converter, values), ranks))
    }

    /// For each value of a column how many of the values are less, and how many are not greater.
    fn places(&self, column: &ArrayRef) -> Result<Vec<(u64, u64)>> {
        let column = normal(column)?;
        Ok(match self {
            BandOrder::Words(values) => words_of(&column)
                .iter()
                .map(|w| {
                    (values.partition_point(|v| v < w) as u64, values.partition_point(|v| v <= w) as u64)
                })
                .collect(),
            BandOrder::Rows(converter, values) => {
                let rows = converter.convert_columns(&[column]).map_err(churn_core::arrow_error)?;
                let place = |test: &dyn Fn(&OwnedRow) -> bool| values.partition_point(test) as u64;
                rows.iter().map(|r| (place(&|v| v.row() < r), place(&|v| v.row() <= r))).collect()
            }
        })
    }
}

impl Bands {
    /// The conditions, with the other table's columns; `None` if there are none.
    pub(super) fn new(conditions: &[(Binary, Type)], columns: &[ArrayRef]) -> Result<Option<Bands>> {
        let condition = |((op, kind), column): (&(Binary, Type), &ArrayRef)| {
            let (values, mut ranks) = BandOrder::new(column, kind)?;
            // `left >= other` asks for small values: turned over, for large ranks.
            if matches!(op, Binary::Greater | Binary::GreaterEqual) {
                ranks.iter_mut().for_each(|rank| *rank = u32::MAX - *rank);
            }
            Ok(Band { op: *op, values, ranks })
        };
        let conditions: Vec<Band> = conditions.iter().zip(columns).map(condition).collect::<Result<_>>()?;
        Ok((!conditions.is_empty()).then_some(Bands { conditions, tops: Tops::default() }))
    }

    /// Puts the rows of a group in the order of the first condition; equal ones stay in order.
    pub(super) fn sort(&self, rows: &mut [u32]) {
        rows.sort_unstable_by_key(|row| (self.rank(0, *row), *row));
    }

    /// Makes the tree over the rows of an index.
    pub(super) fn build(&mut self, index: &Index) {
        if self.conditions.len() > 1 {
            self.tops = Tops::new(index.rows().iter().map(|row| self.rank(1, *row)).collect());
        }
    }

    /// Bytes in use.
    pub(super) fn memory(&self) -> usize {
        let ranks: usize = self.conditions.iter().map(|c| c.ranks.capacity() * 12).sum();
        ranks + self.tops.levels.iter().map(|level| level.capacity() * 4).sum::<usize>()
    }

    fn rank(&self, condition: usize, row: u32) -> u32 {
        self.conditions.get(condition).map_or(0, |of| known(&of.ranks, row as usize))
    }

    /// For each condition the rank that each left row needs at least.
    pub(super) fn needs(&self, left: &[ArrayRef]) -> Result<Vec<Vec<u64>>> {
        let need = |(condition, column): (&Band, &ArrayRef)| {
            let places = condition.values.places(column)?;
            let turned = |count: u64| u64::from(u32::MAX) + 1 - count;
            let need = |(less, upto): (u64, u64)| match condition.op {
                Binary::GreaterEqual => turned(upto),
                Binary::Greater => turned(less),
                Binary::LessEqual => less,
                _ => upto,
            };
            Ok(places.into_iter().map(need).collect())
        };
        self.conditions.iter().zip(left).map(need).collect()
    }

    /// Appends the rows of a group that satisfy all conditions, in the order of the table.
    pub(super) fn rows(&self, index: &Index, group: u32, needs: &[u64], into: &mut Vec<u32>) {
        let (mut from, to) = index.range_of(group);
        let rows = known_part(index.rows(), from..to);
        let Some(first) = needs.first() else { return };
        from += rows.partition_point(|row| u64::from(self.rank(0, *row)) < *first);
        let row_at = |at: usize| known(index.rows(), at);
        match needs.get(1) {
            None => into.extend((from..to).map(row_at)),
            Some(need) => self.tops.walk(from, to, *need, &mut |at| into.push(row_at(at))),
        }
        for (condition, need) in needs.iter().enumerate().skip(2) {
            into.retain(|row| u64::from(self.rank(condition, *row)) >= *need);
        }
        into.sort_unstable();
    }

    /// Of the rows of a group that satisfy the one condition, the nearest; of equally near ones the last.
    pub(super) fn nearest(&self, index: &Index, group: u32, needs: &[u64]) -> Option<u32> {
        let (from, to) = index.range_of(group);
        let rows = index.rows().get(from..to)?;
        let near =
            rows.partition_point(|row| u64::from(self.rank(0, *row)) < needs.first().copied().unwrap_or(0));
        let rank = self.rank(0, *rows.get(near)?);
        let end = near + rows.get(near..)?.partition_point(|row| self.rank(0, *row) <= rank);
        rows.get(end.checked_sub(1)?).copied()
    }
}

/// A tree of maxima: at each level the greatest of so many values of the level below.
#[derive(Default)]
struct Tops {
    levels: Vec<Vec<u32>>,
}

impl Tops {
    fn new(values: Vec<u32>) -> Tops {
        let mut levels = vec![values];
        while let Some(last) = levels.last().filter(|level| level.len() > FAN) {
            levels.push(last.chunks(FAN).map(|c| c.iter().copied().max().unwrap_or(0)).collect());
        }
        Tops { levels }
    }

    /// Calls `f` with the places from `from` to `to` whose value is at least `need`, in order.
    fn walk(&self, from: usize, to: usize, need: u64, f: &mut dyn FnMut(usize)) {
        let Some(top) = self.levels.len().checked_sub(1) else { return };
        let nodes = self.levels.last().map_or(0, Vec::len);
        (0..nodes).for_each(|node| self.visit(top, node, (from, to), need, f));
    }

    fn visit(&self, level: usize, node: usize, range: (usize, usize), need: u64, f: &mut dyn FnMut(usize)) {
        let span = FAN.pow(level as u32);
        let Some(top) = self.levels.get(level).and_then(|l| l.get(node)) else { return };
        if u64::from(*top) < need || (node + 1) * span <= range.0 || node * span >= range.1 {
            return;
        }
        if level == 0 {
            f(node);
        } else {
            (node * FAN..(node + 1) * FAN).for_each(|below| self.visit(level - 1, below, range, need, f));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_tree_finds_what_a_loop_finds() {
        let values: Vec<u32> = (0..1000u32).map(|i| i.wrapping_mul(2_654_435_761) >> 20).collect();
        let tree = Tops::new(values.clone());
        for (from, to, need) in [(0, 1000, 0), (3, 999, 4000), (500, 501, 1), (20, 20, 0), (7, 600, 3500)] {
            let mut found = Vec::new();
            tree.walk(from, to, need, &mut |at| found.push(at));
            let expected: Vec<usize> =
                (from..to).filter(|at| values.get(*at).is_some_and(|v| u64::from(*v) >= need)).collect();
            assert_eq!(found, expected);
        }
    }
}
