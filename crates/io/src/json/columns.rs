//! The columns of a block of records, as they grow.

use std::sync::Arc;

use arrow_array::ArrayRef;
use arrow_array::builder::{BooleanBuilder, PrimitiveBuilder, StringViewBuilder};
use arrow_array::types::{Date32Type, Float64Type, Int64Type};
use churn_core::scalar::array_of;
use churn_core::{Scalar, Type};

/// A column of which each record has at most one value; of several the last one counts.
///
/// Values of the row that is being read are kept aside until the row ends, so that a later one can take their place.
pub(super) struct Column<'a> {
    kind: &'a Type,
    values: Values,
    /// The value of the row that is being read.
    pending: Cell,
}

/// A value of the row that is being read.
#[derive(Default)]
enum Cell {
    #[default]
    Null,
    Int(i64),
    Float(f64),
    Day(i32),
    Bool(bool),
    /// The text is in the buffer of the column.
    Text,
    Other(Scalar),
}

enum Values {
    Ints(PrimitiveBuilder<Int64Type>),
    Floats(PrimitiveBuilder<Float64Type>),
    Days(PrimitiveBuilder<Date32Type>),
    Bools(BooleanBuilder),
    Texts(StringViewBuilder, String),
    Other(Vec<Scalar>),
}

impl<'a> Column<'a> {
    pub(super) fn new(kind: &'a Type) -> Column<'a> {
        let values = match kind {
            Type::Int => Values::Ints(PrimitiveBuilder::new()),
            Type::Float => Values::Floats(PrimitiveBuilder::new()),
            Type::Date => Values::Days(PrimitiveBuilder::new()),
            Type::Bool => Values::Bools(BooleanBuilder::new()),
            Type::Text => Values::Texts(StringViewBuilder::new(), String::new()),
            _ => Values::Other(Vec::new()),
        };
        Column { kind, values, pending: Cell::Null }
    }

    pub(super) fn kind(&self) -> &'a Type {
        self.kind
    }

    /// Sets the value of the row to a whole number; false if the column takes none as it is.
    #[inline]
    pub(super) fn set_int(&mut self, value: i64) -> bool {
        self.pending = match &self.values {
            Values::Ints(_) => Cell::Int(value),
            Values::Floats(_) => Cell::Float(value as f64),
            _ => return false,
        };
        true
    }

    /// Sets the value of the row to a float; false if the column takes none as it is.
    #[inline]
    pub(super) fn set_float(&mut self, value: f64) -> bool {
        let is = matches!(self.values, Values::Floats(_));
        if is {
            self.pending = Cell::Float(value);
        }
        is
    }

    /// Sets the value of the row to a text; false if the column takes none as it is.
    #[inline]
    pub(super) fn set_text(&mut self, value: &str) -> bool {
        let Values::Texts(_, buffer) = &mut self.values else { return false };
        buffer.clear();
        buffer.push_str(value);
        self.pending = Cell::Text;
        true
    }

    /// Sets the value of the row, which is of the column's type.
    pub(super) fn set(&mut self, value: Scalar) {
        self.pending = match (value, &mut self.values) {
            (Scalar::Int(value), Values::Ints(_)) => Cell::Int(value),
            (Scalar::Float(value), Values::Floats(_)) => Cell::Float(value),
            (Scalar::Date(day), Values::Days(_)) => Cell::Day(day),
            (Scalar::Bool(value), Values::Bools(_)) => Cell::Bool(value),
            (Scalar::Text(text), Values::Texts(_, buffer)) => {
                *buffer = text;
                Cell::Text
            }
            (value, Values::Other(_)) => Cell::Other(value),
            _ => Cell::Null,
        };
    }

    /// Forgets the value of the row.
    pub(super) fn clear(&mut self) {
        self.pending = Cell::Null;
    }

    /// Ends the row.
    #[inline]
    pub(super) fn end_row(&mut self) {
        let cell = std::mem::take(&mut self.pending);
        match &mut self.values {
            Values::Ints(values) => match cell {
                Cell::Int(value) => values.append_value(value),
                _ => values.append_null(),
            },
            Values::Floats(values) => match cell {
                Cell::Float(value) => values.append_value(value),
                _ => values.append_null(),
            },
            Values::Days(values) => match cell {
                Cell::Day(value) => values.append_value(value),
                _ => values.append_null(),
            },
            Values::Bools(values) => match cell {
                Cell::Bool(value) => values.append_value(value),
                _ => values.append_null(),
            },
            Values::Texts(values, buffer) => match cell {
                Cell::Text => values.append_value(&*buffer),
                _ => values.append_null(),
            },
            Values::Other(values) => values.push(match cell {
                Cell::Other(value) => value,
                _ => Scalar::Null,
            }),
        }
    }

    /// All rows.
    pub(super) fn finish(self) -> ArrayRef {
        match self.values {
            Values::Ints(mut values) => Arc::new(values.finish()),
            Values::Floats(mut values) => Arc::new(values.finish()),
            Values::Days(mut values) => Arc::new(values.finish()),
            Values::Bools(mut values) => Arc::new(values.finish()),
            Values::Texts(mut values, _) => Arc::new(values.finish()),
            Values::Other(values) => array_of(&values.iter().collect::<Vec<_>>(), self.kind),
        }
    }
}
