//! What an expression gives for a batch: a column, or one value for all its rows.

use arrow_array::cast::AsArray;
use arrow_array::types::{ArrowPrimitiveType, Float64Type, Int64Type, IntervalMonthDayNanoType};
use arrow_array::{Array, ArrayRef, BooleanArray, IntervalMonthDayNanoArray, StringViewArray};
use arrow_buffer::NullBuffer;
use churn_kernels::columns::Operand;

use super::{Interval, Scalar, Type};

/// A column of values, or the same value in every row.
#[derive(Clone, Debug)]
pub enum Column {
    /// A value for each row.
    Array(ArrayRef),
    /// One value, of this type, for all rows.
    Constant(Scalar, Type),
}

impl Column {
    /// The column with a value for each of `rows` rows.
    pub fn into_array(self, rows: usize) -> ArrayRef {
        match self {
            Column::Array(array) => array,
            Column::Constant(value, kind) => value.to_array(&kind, rows),
        }
    }

    /// The same, borrowed.
    pub fn array(&self, rows: usize) -> ArrayRef {
        self.clone().into_array(rows)
    }

    /// The one value, if it is the same in every row.
    pub fn constant(&self) -> Option<&Scalar> {
        match self {
            Column::Constant(value, _) => Some(value),
            Column::Array(_) => None,
        }
    }

    /// Which rows have a value; `None` if all have.
    pub fn nulls(&self, rows: usize) -> Option<NullBuffer> {
        match self {
            Column::Array(array) => array.logical_nulls(),
            Column::Constant(value, _) => value.is_null().then(|| NullBuffer::new_null(rows)),
        }
    }

    /// The values for an element-wise loop; nulls hold any value.
    pub fn operand<T: ArrowPrimitiveType>(
        &self,
        value: impl Fn(&Scalar) -> Option<T::Native>,
    ) -> Operand<'_, T::Native> {
        match self {
            Column::Array(array) => match array.as_primitive_opt::<T>() {
                Some(array) => Operand::Column(array.values()),
                None => Operand::Constant(T::Native::default()),
            },
            Column::Constant(scalar, _) => Operand::Constant(value(scalar).unwrap_or_default()),
        }
    }

    /// The values as whole numbers.
    pub fn ints(&self) -> Operand<'_, i64> {
        self.operand::<Int64Type>(|s| if let Scalar::Int(v) = s { Some(*v) } else { None })
    }

    /// The values as floats.
    pub fn floats(&self) -> Operand<'_, f64> {
        self.operand::<Float64Type>(|s| if let Scalar::Float(v) = s { Some(*v) } else { None })
    }

    /// The values as intervals.
    pub fn intervals(&self) -> Intervals<'_> {
        match self {
            Column::Array(array) => Intervals::Column(array.as_primitive_opt::<IntervalMonthDayNanoType>()),
            Column::Constant(Scalar::Interval(value), _) => Intervals::Constant(*value),
            Column::Constant(..) => Intervals::Column(None),
        }
    }

    /// The text in each row.
    pub fn texts(&self) -> Texts<'_> {
        match self {
            Column::Array(array) => match array.as_string_view_opt() {
                Some(array) => Texts::Column(array),
                None => Texts::Constant(None),
            },
            Column::Constant(Scalar::Text(text), _) => Texts::Constant(Some(text)),
            Column::Constant(..) => Texts::Constant(None),
        }
    }

    /// The truth in each row.
    pub fn bools(&self, rows: usize) -> BooleanArray {
        match self.array(rows).as_boolean_opt() {
            Some(array) => array.clone(),
            None => BooleanArray::new_null(rows),
        }
    }
}

/// Intervals by rows.
#[derive(Clone, Copy, Debug)]
pub enum Intervals<'a> {
    /// An interval for each row; none where there is no such column.
    Column(Option<&'a IntervalMonthDayNanoArray>),
    /// One interval for all rows.
    Constant(Interval),
}

impl Intervals<'_> {
    /// The interval in `row`; `None` if there is none.
    #[inline]
    pub fn get(&self, row: usize) -> Option<Interval> {
        match self {
            Intervals::Column(array) => {
                let array = (*array)?;
                let is_there = row < array.len() && array.is_valid(row);
                is_there.then(|| Interval::of_arrow(array.value(row)))
            }
            Intervals::Constant(value) => Some(*value),
        }
    }
}

/// Text by rows.
#[derive(Clone, Copy, Debug)]
pub enum Texts<'a> {
    /// A text for each row.
    Column(&'a StringViewArray),
    /// One text, or null, for all rows.
    Constant(Option<&'a str>),
}

impl<'a> Texts<'a> {
    /// The text in `row`; `None` if there is none.
    #[inline]
    pub fn get(&self, row: usize) -> Option<&'a str> {
        match self {
            Texts::Column(array) => (row < array.len() && array.is_valid(row)).then(|| array.value(row)),
            Texts::Constant(text) => *text,
        }
    }
}

/// Which rows have a value in both; `None` if all have.
pub fn both_valid(a: &Column, b: &Column, rows: usize) -> Option<NullBuffer> {
    NullBuffer::union(a.nulls(rows).as_ref(), b.nulls(rows).as_ref())
}
