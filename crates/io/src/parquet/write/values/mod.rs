//! The values of a column of a row group: as numbers into a dictionary, or one behind the other, and their bounds.

mod fixed;
mod texts;

use arrow_array::Array;
use arrow_array::types::{
    Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_schema::{DataType, TimeUnit};
use parquet::file::statistics::Statistics;

use fixed::Fixed;
use texts::TextEncoder;

/// The least and the greatest value of a page, as the page index has them, and how many of its numbers are none.
pub(super) struct PageBounds {
    pub(super) least_and_greatest: Option<(Vec<u8>, Vec<u8>)>,
    pub(super) nans: Option<i64>,
}

/// What encoding a column needs of its type. Null values are passed over.
pub(super) trait ValueEncoder: Send {
    /// Appends the number of each value; a new one gets the next number.
    fn number(&mut self, array: &dyn Array, into: &mut Vec<u32>);
    /// No more values get numbers.
    fn end_numbers(&mut self);
    /// Appends the values as they are.
    fn plain(&mut self, array: &dyn Array, into: &mut Vec<u8>);
    /// How many values have numbers.
    fn len(&self) -> usize;
    /// Bytes of the values that have numbers.
    fn size(&self) -> usize;
    /// The values that have numbers, in order.
    fn dictionary(&self) -> Vec<u8>;
    /// The bounds of what was handed over since this was last asked.
    fn page(&mut self) -> PageBounds;
    /// Whether each page's bounds are no less, or no greater, than those of the page before it.
    fn order(&self) -> (bool, bool);
    /// The bounds of all pages.
    fn statistics(&self, nulls: u64) -> Statistics;
}

/// The values of a column of this type; `None` where they are left to the crate's own encoders.
pub(super) fn of(data: &DataType) -> Option<Box<dyn ValueEncoder>> {
    Some(match data {
        DataType::Int64 => Box::new(Fixed::<Int64Type>::default()),
        DataType::Float64 => Box::new(Fixed::<Float64Type>::default()),
        DataType::Date32 => Box::new(Fixed::<Date32Type>::default()),
        DataType::Time64(TimeUnit::Microsecond) => Box::new(Fixed::<Time64MicrosecondType>::default()),
        DataType::Timestamp(TimeUnit::Microsecond, _) => {
            Box::new(Fixed::<TimestampMicrosecondType>::default())
        }
        DataType::Utf8View => Box::new(TextEncoder::default()),
        _ => return None,
    })
}

/// Bounds of a page, of all pages before it, and whether they rise or fall from page to page.
struct MinMax<N> {
    page: Option<(N, N)>,
    all: Option<(N, N)>,
    last: Option<(N, N)>,
    falls: bool,
    rises: bool,
}

impl<N> Default for MinMax<N> {
    fn default() -> Self {
        MinMax { page: None, all: None, last: None, falls: false, rises: false }
    }
}

impl<N: Clone + PartialOrd> MinMax<N> {
    fn add(&mut self, least: N, greatest: N) {
        widen(&mut self.page, least, greatest);
    }

    /// The page's bounds; what comes next is another page's.
    fn end_page(&mut self) -> Option<(N, N)> {
        let (least, greatest) = self.page.take()?;
        if let Some((a, b)) = &self.last {
            self.falls |= least < *a || greatest < *b;
            self.rises |= least > *a || greatest > *b;
        }
        self.last = Some((least.clone(), greatest.clone()));
        widen(&mut self.all, least.clone(), greatest.clone());
        Some((least, greatest))
    }
}

fn widen<N: PartialOrd>(bounds: &mut Option<(N, N)>, least: N, greatest: N) {
    match bounds {
        Some((a, b)) => {
            if least < *a {
                *a = least;
            }
            if greatest > *b {
                *b = greatest;
            }
        }
        None => *bounds = Some((least, greatest)),
    }
}
