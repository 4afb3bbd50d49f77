//! The correlations of pairs of number columns.
//!
//! Of many columns there are many pairs: 125,000 of 500. So there is one state for each pair, not one for each worker:
//! workers hand over the columns as floats, and on the ordered side all threads take rows of them, each some pairs.
//! Time: each pair of each row. Memory: 104 bytes a pair.

use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use arrow_array::{Array, Float64Array};
use churn_core::parallel::Threads;
use churn_core::{Batch, Error, ErrorKind, Events, Result, Type};
use churn_expr::{Bound, Node, cast};
use churn_kernels::moments::Moments;

/// Pairs that a thread takes together.
const TOGETHER: usize = 1 << 10;

/// The pairs that are asked for.
pub struct ColumnPairs {
    /// The columns that are in a pair, as floats.
    columns: Vec<Bound>,
    /// Their places among those columns.
    places: Vec<(usize, usize)>,
}

impl ColumnPairs {
    /// Pairs of columns of numbers, by their places in the table and their types.
    ///
    /// # Errors
    /// A column is not of numbers.
    pub fn new(pairs: &[(usize, usize)], kinds: &[Type]) -> Result<ColumnPairs> {
        let mut used: Vec<usize> = pairs.iter().flat_map(|(a, b)| [*a, *b]).collect();
        used.sort_unstable();
        used.dedup();
        let lost = || Error::new(ErrorKind::Internal, "A pair is of columns that hold no numbers.");
        let float = |place: &usize| {
            let kind = kinds.get(*place).cloned().ok_or_else(lost)?;
            let column = Bound { node: Node::Column(*place as u32), kind };
            cast::silently(column, &Type::Float).ok_or_else(lost)
        };
        let place = |column: &usize| used.binary_search(column).map_err(|_| lost());
        Ok(ColumnPairs {
            columns: used.iter().map(float).collect::<Result<_>>()?,
            places: pairs.iter().map(|(a, b)| Ok((place(a)?, place(b)?))).collect::<Result<_>>()?,
        })
    }

    /// Whether there are none.
    pub(super) fn is_empty(&self) -> bool {
        self.places.is_empty()
    }

    /// The columns of a batch that are in a pair, as floats.
    pub(super) fn columns_of(&self, batch: &Batch) -> Result<Vec<Float64Array>> {
        let float = |column: &Bound| {
            let floats = column.evaluate_array(batch, &mut Events::default())?;
            Ok(floats.as_primitive::<Float64Type>().clone())
        };
        self.columns.iter().map(float).collect()
    }

    /// A state for each pair.
    pub(super) fn states(&self) -> Vec<Moments> {
        vec![Moments::default(); self.places.len()]
    }

    /// Adds rows of the columns, on these threads: each pair sees the rows in order.
    pub(super) fn update(
        &self,
        states: &mut [Moments],
        rows: &[Vec<Float64Array>],
        threads: &Threads,
    ) -> Result<()> {
        let parts = states.chunks_mut(TOGETHER).zip(self.places.chunks(TOGETHER));
        let parts: Vec<_> = parts.collect();
        threads
            .each(parts.into_iter(), |(states, places)| {
                for columns in rows {
                    for (state, (a, b)) in states.iter_mut().zip(places) {
                        if let Some((a, b)) = columns.get(*a).zip(columns.get(*b)) {
                            add(state, a, b);
                        }
                    }
                }
                Ok(())
            })
            .map(drop)
    }
}

/// Adds the rows in which both have a value.
fn add(state: &mut Moments, a: &Float64Array, b: &Float64Array) {
    let both = a.values().iter().zip(b.values());
    match arrow_buffer::NullBuffer::union(a.nulls(), b.nulls()).filter(|nulls| nulls.null_count() > 0) {
        None => both.for_each(|(x, y)| state.add(*x, *y)),
        Some(nulls) => {
            both.zip(nulls.iter()).filter(|(_, valid)| *valid).for_each(|((x, y), _)| state.add(*x, *y));
        }
    }
}
