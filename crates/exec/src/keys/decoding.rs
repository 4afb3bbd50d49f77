//! Keys as columns again.

use std::sync::Arc;

use arrow_array::ArrayRef;
use arrow_array::builder::{PrimitiveBuilder, StringViewBuilder};
use arrow_array::types::{Date32Type, Float64Type, Int64Type};
use churn_core::{Scalar, Type, scalar};

use super::encoding;

/// Builds the columns of keys.
pub(super) struct Decoder<'a> {
    columns: Vec<KeyColumn<'a>>,
}

/// A column that is built.
enum KeyColumn<'a> {
    Texts(StringViewBuilder),
    Days(PrimitiveBuilder<Date32Type>),
    Ints(PrimitiveBuilder<Int64Type>),
    Floats(PrimitiveBuilder<Float64Type>),
    Other(Vec<Scalar>, &'a Type),
}

impl<'a> Decoder<'a> {
    /// For so many keys of these types.
    pub(super) fn new(kinds: &'a [Type], keys: usize) -> Decoder<'a> {
        let column = |kind: &'a Type| match kind {
            Type::Text => KeyColumn::Texts(StringViewBuilder::with_capacity(keys)),
            Type::Date => KeyColumn::Days(PrimitiveBuilder::with_capacity(keys)),
            Type::Int => KeyColumn::Ints(PrimitiveBuilder::with_capacity(keys)),
            Type::Float => KeyColumn::Floats(PrimitiveBuilder::with_capacity(keys)),
            other => KeyColumn::Other(Vec::with_capacity(keys), other),
        };
        Decoder { columns: kinds.iter().map(column).collect() }
    }

    /// Appends a key.
    pub(super) fn push(&mut self, mut key: &[u8]) {
        for column in &mut self.columns {
            let part = encoding::part(&mut key);
            match column {
                KeyColumn::Texts(texts) => match part.map(std::str::from_utf8) {
                    Some(Ok(text)) => texts.append_value(text),
                    // The bytes were a text's: this is never met.
                    Some(Err(_)) => texts.append_value(String::from_utf8_lossy(part.unwrap_or_default())),
                    None => texts.append_null(),
                },
                KeyColumn::Days(days) => days.append_option(part.map(|part| encoding::whole(part) as i32)),
                KeyColumn::Ints(ints) => ints.append_option(part.map(encoding::whole)),
                KeyColumn::Floats(floats) => floats.append_option(part.map(encoding::float)),
                KeyColumn::Other(values, kind) => values.push(encoding::scalar(part, kind)),
            }
        }
    }

    /// The columns, in order.
    pub(super) fn finish(self) -> Vec<ArrayRef> {
        let column = |column| -> ArrayRef {
            match column {
                KeyColumn::Texts(mut texts) => Arc::new(texts.finish()),
                KeyColumn::Days(mut days) => Arc::new(days.finish()),
                KeyColumn::Ints(mut ints) => Arc::new(ints.finish()),
                KeyColumn::Floats(mut floats) => Arc::new(floats.finish()),
                KeyColumn::Other(values, kind) => scalar::array_of(&values.iter().collect::<Vec<_>>(), kind),
            }
        };
        self.columns.into_iter().map(column).collect()
    }
}
