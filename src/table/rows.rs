//! Rows into a user's own struct, through serde.

use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Field, Result, Scalar};
use serde::de::value::{MapDeserializer, SeqDeserializer};
use serde::de::{DeserializeOwned, Deserializer, Error as _, IntoDeserializer, Visitor};
use serde::forward_to_deserialize_any;

use super::Table;

impl Table {
    /// The rows as values of a struct whose fields are called like the columns.
    ///
    /// Nulls go into `Option`; dates, times and timestamps are ISO 8601 texts.
    ///
    /// # Errors
    /// A row does not fit: a missing column, a null where there must be a value, another type.
    ///
    /// ```
    /// #[derive(serde::Deserialize, PartialEq, Debug)]
    /// struct Price { grade: String, per_litre: Option<f64> }
    ///
    /// let prices = churn::Flow::steps("values grade, per_litre: ('A', 0.05), ('C', null)").run()?;
    /// let prices: Vec<Price> = prices.rows()?;
    /// assert_eq!(prices[0], Price { grade: "A".into(), per_litre: Some(0.05) });
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn rows<T: DeserializeOwned>(&self) -> Result<Vec<T>> {
        let mut rows = Vec::with_capacity(self.len());
        for batch in &self.batches {
            rows.extend(rows_of(batch, &self.fields, rows.len())?);
        }
        Ok(rows)
    }
}

/// The rows of a batch as values of a struct; so many rows came before.
pub(crate) fn rows_of<T: DeserializeOwned>(batch: &Batch, fields: &[Field], before: usize) -> Result<Vec<T>> {
    let columns = batch.columns.iter().map(widen).collect::<Result<Vec<_>>>()?;
    let read = |row: usize| {
        let cells = fields.iter().zip(&columns);
        let cells =
            cells.map(|(f, column)| (f.name.as_str(), CellDeserializer(Scalar::from_array(column, row))));
        T::deserialize(MapDeserializer::new(cells)).map_err(|e: serde::de::value::Error| {
            Error::new(ErrorKind::Type, format!("Row {} does not fit: {e}.", before + row + 1))
        })
    };
    (0..batch.rows).map(read).collect()
}

/// A value that serde reads.
struct CellDeserializer(Scalar);

impl<'de> IntoDeserializer<'de> for CellDeserializer {
    type Deserializer = CellDeserializer;

    fn into_deserializer(self) -> CellDeserializer {
        self
    }
}

impl<'de> Deserializer<'de> for CellDeserializer {
    type Error = serde::de::value::Error;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Self::Error> {
        match self.0 {
            Scalar::Null => visitor.visit_unit(),
            Scalar::Bool(v) => visitor.visit_bool(v),
            Scalar::Int(v) => visitor.visit_i64(v),
            Scalar::Float(v) => visitor.visit_f64(v),
            Scalar::Decimal(..) => {
                let text = self.0.plain();
                visitor.visit_f64(text.parse().map_err(Self::Error::custom)?)
            }
            Scalar::Text(v) => visitor.visit_string(v),
            Scalar::Binary(v) => visitor.visit_byte_buf(v),
            Scalar::List(items, _) => {
                visitor.visit_seq(SeqDeserializer::new(items.into_iter().map(CellDeserializer)))
            }
            other => visitor.visit_string(other.plain()),
        }
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Self::Error> {
        if self.0.is_null() { visitor.visit_none() } else { visitor.visit_some(self) }
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        visitor: V,
    ) -> Result<V::Value, Self::Error> {
        visitor.visit_newtype_struct(self)
    }

    /// A text is the choice of its name.
    fn deserialize_enum<V: Visitor<'de>>(
        self,
        _: &'static str,
        _: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Self::Error> {
        visitor.visit_enum(self.0.plain().into_deserializer())
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf unit unit_struct
        seq tuple tuple_struct map struct identifier ignored_any
    }
}
