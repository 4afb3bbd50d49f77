//! Rows of some batches in another order: gathered as they are taken, by whoever takes them.

use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, downcast_primitive};
use arrow_schema::DataType;
use churn_core::widen::alike;
use churn_core::{Batch, Error, ErrorKind, Result};
use churn_io::source::{Capability, Decoded, Guess, Morsel, RowTest, Scan};
use churn_kernels::gather::{self, Place};
use churn_kernels::known::known_part;

use crate::runtime::budget::Reservation;

/// Rows that are gathered together.
const ROWS: usize = 1 << 14;

/// The columns of some batches that rows are gathered from: of each column the array of each batch, all of one type.
pub(crate) struct GatherSources(Vec<Vec<ArrayRef>>);

/// The rows of some batches at some places.
pub(crate) fn gathered(batches: &[&Batch], places: &[Place]) -> Result<Batch> {
    GatherSources::new(batches)?.rows(places)
}

impl GatherSources {
    /// The columns of these batches. The cost is one step for each array.
    pub(crate) fn new(batches: &[&Batch]) -> Result<GatherSources> {
        let width = batches.iter().map(|b| b.columns.len()).max().unwrap_or(0);
        let column = |i: usize| {
            let mut parts: Vec<ArrayRef> = batches.iter().filter_map(|b| b.columns.get(i).cloned()).collect();
            alike(&mut parts).map(|()| parts)
        };
        (0..width).map(column).collect::<Result<_>>().map(GatherSources)
    }

    /// The rows at these places, each a batch and a row of it.
    pub(crate) fn rows(&self, places: &[Place]) -> Result<Batch> {
        let columns = self.0.iter().map(|parts| column(parts, places)).collect::<Result<_>>()?;
        Ok(Batch { columns, rows: places.len() })
    }
}

/// The values of a column at some places.
fn column(parts: &[ArrayRef], places: &[Place]) -> Result<ArrayRef> {
    let empty = || Error::new(ErrorKind::Internal, "A batch lacks a column.");
    let kind = parts.first().ok_or_else(empty)?.data_type();
    macro_rules! primitive {
        ($t:ty) => {{
            let parts: Vec<_> = parts.iter().map(|p| p.as_primitive::<$t>()).collect();
            Ok(Arc::new(gather::primitives(&parts, places)))
        }};
    }
    downcast_primitive! {
        kind => (primitive),
        DataType::LargeBinary if parts.iter().all(|p| p.null_count() == 0) => {
            let parts: Vec<_> = parts.iter().map(|p| p.as_binary::<i64>()).collect();
            Ok(Arc::new(gather::bytes(&parts, places)))
        }
        DataType::Utf8View => {
            let parts: Vec<_> = parts.iter().map(|p| p.as_string_view()).collect();
            Ok(Arc::new(gather::texts(&parts, places)))
        }
        _ => {
            let parts: Vec<&dyn Array> = parts.iter().map(|p| p.as_ref()).collect();
            let places: Vec<(usize, usize)> = places.iter().map(|(p, r)| (*p as usize, *r as usize)).collect();
            arrow_select::interleave::interleave(&parts, &places).map_err(churn_core::arrow_error)
        }
    }
}

/// All rows of some batches, each at its place in an order.
pub(crate) struct GatheredScan {
    rows: Arc<GatheredRows>,
    /// How many rows were given.
    given: Mutex<usize>,
    _reservation: Reservation,
}

struct GatheredRows {
    sources: GatherSources,
    places: Vec<Place>,
}

impl GatheredScan {
    /// The rows of the batches at these places, which are a batch and a row of it each.
    pub(crate) fn new(
        batches: &[Batch],
        places: Vec<Place>,
        reservation: Reservation,
    ) -> Result<GatheredScan> {
        let sources = GatherSources::new(&batches.iter().collect::<Vec<_>>())?;
        let rows = Arc::new(GatheredRows { sources, places });
        Ok(GatheredScan { rows, given: Mutex::new(0), _reservation: reservation })
    }
}

impl Scan for GatheredScan {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut given = self.given.lock().unwrap_or_else(PoisonError::into_inner);
        let range = *given..(*given + ROWS).min(self.rows.places.len());
        *given = range.end;
        let slice = || Box::new(GatheredSlice { rows: self.rows.clone(), range: range.clone() });
        Ok((!range.is_empty()).then(|| slice() as Box<dyn Morsel>))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        let given = *self.given.lock().unwrap_or_else(PoisonError::into_inner);
        (given as u64, Some(self.rows.places.len() as u64))
    }
}

/// Some rows, not yet gathered; none once they were.
struct GatheredSlice {
    rows: Arc<GatheredRows>,
    range: Range<usize>,
}

impl Morsel for GatheredSlice {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let range = std::mem::replace(&mut self.range, 0..0);
        if range.is_empty() {
            return Ok(None);
        }
        Decoded::tested(self.rows.sources.rows(known_part(&self.rows.places, range))?, test).map(Some)
    }
}
