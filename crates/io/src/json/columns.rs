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
pub(super) struct JsonColumn<'a> {
    kind: &'a Type,
    values: JsonValues,
    /// The value of the row that is being read.
    pending: JsonCell,
}

/// A value of the row that is being read.
#[derive(Default)]
enum JsonCell {
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

enum JsonValues {
    Ints(PrimitiveBuilder<Int64Type>),
    Floats(PrimitiveBuilder<Float64Type>),
    Days(PrimitiveBuilder<Date32Type>),
    Bools(BooleanBuilder),
    Texts(StringViewBuilder, String),
    Other(Vec<Scalar>),
}

impl<'a> JsonColumn<'a> {
    pub(super) fn new(kind: &'a Type) -> JsonColumn<'a> {
        let values = match kind {
            Type::Int => JsonValues::Ints(PrimitiveBuilder::new()),
            Type::Float => JsonValues::Floats(PrimitiveBuilder::new()),
            Type::Date => JsonValues::Days(PrimitiveBuilder::new()),
            Type::Bool => JsonValues::Bools(BooleanBuilder::new()),
            Type::Text => JsonValues::Texts(StringViewBuilder::new(), String::new()),
            _ => JsonValues::Other(Vec::new()),
        };
        JsonColumn { kind, values, pending: JsonCell::Null }
    }

    pub(super) fn kind(&self) -> &'a Type {
        self.kind
    }

    /// Sets the value of the row to a whole number; false if the column takes none as it is.
    #[inline]
    pub(super) fn set_int(&mut self, value: i64) -> bool {
        self.pending = match &self.values {
            JsonValues::Ints(_) => JsonCell::Int(value),
            JsonValues::Floats(_) => JsonCell::Float(value as f64),
            _ => return false,
        };
        true
    }

    /// Sets the value of the row to a float; false if the column takes none as it is.
    #[inline]
    pub(super) fn set_float(&mut self, value: f64) -> bool {
        let is = matches!(self.values, JsonValues::Floats(_));
        if is {
            self.pending = JsonCell::Float(value);
        }
        is
    }

    /// Sets the value of the row to a text; false if the column takes none as it is.
    #[inline]
    pub(super) fn set_text(&mut self, value: &str) -> bool {
        let JsonValues::Texts(_, buffer) = &mut self.values else { return false };
        buffer.clear();
        buffer.push_str(value);
        self.pending = JsonCell::Text;
        true
    }

    /// Sets the value of the row, which is of the column's type.
    pub(super) fn set(&mut self, value: Scalar) {
        self.pending = match (value, &mut self.values) {
            (Scalar::Int(value), JsonValues::Ints(_)) => JsonCell::Int(value),
            (Scalar::Float(value), JsonValues::Floats(_)) => JsonCell::Float(value),
            (Scalar::Date(day), JsonValues::Days(_)) => JsonCell::Day(day),
            (Scalar::Bool(value), JsonValues::Bools(_)) => JsonCell::Bool(value),
            (Scalar::Text(text), JsonValues::Texts(_, buffer)) => {
                *buffer = text;
                JsonCell::Text
            }
            (value, JsonValues::Other(_)) => JsonCell::Other(value),
            _ => JsonCell::Null,
        };
    }

    /// Forgets the value of the row.
    pub(super) fn clear(&mut self) {
        self.pending = JsonCell::Null;
    }

    /// Ends the row.
    #[inline]
    pub(super) fn end_row(&mut self) {
        let cell = std::mem::take(&mut self.pending);
        match &mut self.values {
            JsonValues::Ints(values) => match cell {
                JsonCell::Int(value) => values.append_value(value),
                _ => values.append_null(),
            },
            JsonValues::Floats(values) => match cell {
                JsonCell::Float(value) => values.append_value(value),
                _ => values.append_null(),
            },
            JsonValues::Days(values) => match cell {
                JsonCell::Day(value) => values.append_value(value),
                _ => values.append_null(),
            },
            JsonValues::Bools(values) => match cell {
                JsonCell::Bool(value) => values.append_value(value),
                _ => values.append_null(),
            },
            JsonValues::Texts(values, buffer) => match cell {
                JsonCell::Text => values.append_value(&*buffer),
                _ => values.append_null(),
            },
            JsonValues::Other(values) => values.push(match cell {
                JsonCell::Other(value) => value,
                _ => Scalar::Null,
            }),
        }
    }

    /// All rows.
    pub(super) fn finish(self) -> ArrayRef {
        match self.values {
            JsonValues::Ints(mut values) => Arc::new(values.finish()),
            JsonValues::Floats(mut values) => Arc::new(values.finish()),
            JsonValues::Days(mut values) => Arc::new(values.finish()),
            JsonValues::Bools(mut values) => Arc::new(values.finish()),
            JsonValues::Texts(mut values, _) => Arc::new(values.finish()),
            JsonValues::Other(values) => array_of(&values.iter().collect::<Vec<_>>(), self.kind),
        }
    }
}
