//! Columns as the loops over their rows see them.

use arrow_array::cast::AsArray;
use arrow_array::types::{Date32Type, Float64Type, Int64Type};
use arrow_array::{Array, ArrayRef, StringViewArray};
use arrow_buffer::NullBuffer;
use arrow_schema::DataType;
use churn_kernels::calendar;
use churn_kernels::known::known;

/// A column as the loop over rows sees it.
pub(super) struct WrittenColumn<'a> {
    pub(super) nulls: Option<&'a NullBuffer>,
    pub(super) values: ColumnValues<'a>,
}

pub(super) enum ColumnValues<'a> {
    Texts(&'a StringViewArray),
    Floats(&'a [f64]),
    Ints(&'a [i64]),
    Days(&'a [i32], Days),
    Others(&'a ArrayRef),
}

/// The texts of all days from the first to the last of a column, where they are not many more than its rows.
#[derive(Default)]
pub(super) struct Days {
    pub(super) first: i32,
    pub(super) texts: Vec<u128>,
}

impl Days {
    fn new(days: &[i32]) -> Days {
        let (Some(first), Some(last)) = (days.iter().min(), days.iter().max()) else {
            return Days::default();
        };
        if i64::from(*last) - i64::from(*first) > days.len() as i64 / 2 {
            return Days::default();
        }
        let texts = (*first..=*last).map(|day| calendar::date_text(day).unwrap_or(0)).collect();
        Days { first: *first, texts }
    }
}

/// The value of a row.
#[inline]
pub(super) fn at<T: Copy + Default>(values: &[T], row: usize) -> T {
    known(values, row)
}

impl<'a> WrittenColumn<'a> {
    pub(super) fn new(array: &'a ArrayRef) -> WrittenColumn<'a> {
        let values = if let Some(texts) = array.as_string_view_opt() {
            ColumnValues::Texts(texts)
        } else if let Some(floats) = array.as_primitive_opt::<Float64Type>() {
            ColumnValues::Floats(floats.values())
        } else if let Some(ints) = array.as_primitive_opt::<Int64Type>() {
            ColumnValues::Ints(ints.values())
        } else if let Some(days) = array.as_primitive_opt::<Date32Type>() {
            ColumnValues::Days(days.values(), Days::new(days.values()))
        } else {
            ColumnValues::Others(array)
        };
        WrittenColumn { nulls: array.nulls(), values }
    }

    /// Whether its values are numbers with decimals.
    pub(super) fn is_fraction(&self) -> bool {
        match &self.values {
            ColumnValues::Floats(_) => true,
            ColumnValues::Others(array) => matches!(array.data_type(), DataType::Decimal128(..)),
            _ => false,
        }
    }
}
