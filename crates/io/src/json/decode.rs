//! Records into columns, value by value, without a tree of values between.

use std::borrow::Cow;
use std::fmt;

use arrow_array::ArrayRef;
use churn_core::scalar::array_of;
use churn_core::{Scalar, Type};
use churn_expr::pattern;
use churn_kernels::calendar::{self, DAY};
use hashbrown::HashMap;
use serde::de::{DeserializeSeed, Deserializer, Error as _, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde_json::Value;

use super::source::JsonOptions;
use super::{lists, long};

/// The columns of a block, as they grow.
pub(super) struct JsonColumns<'a> {
    options: &'a JsonOptions,
    kinds: &'a [Type],
    /// The column of each field, by path; columns that are not needed have none.
    by_name: &'a HashMap<String, Option<usize>>,
    values: Vec<Vec<Scalar>>,
    rows: usize,
    /// Row, field and value of what does not fit.
    pub(super) bad: Vec<(usize, String, String)>,
    path: String,
    /// Whether a number of the record may be too long for an int.
    has_long: bool,
}

impl<'a> JsonColumns<'a> {
    pub(super) fn new(
        options: &'a JsonOptions,
        kinds: &'a [Type],
        by_name: &'a HashMap<String, Option<usize>>,
    ) -> JsonColumns<'a> {
        let values = vec![Vec::new(); kinds.len()];
        JsonColumns {
            options,
            kinds,
            by_name,
            values,
            rows: 0,
            bad: Vec::new(),
            path: String::new(),
            has_long: false,
        }
    }

    /// Adds a record.
    ///
    /// # Errors
    /// It is no JSON, or no record.
    pub(super) fn push(&mut self, text: &[u8]) -> serde_json::Result<()> {
        let bad = self.bad.len();
        self.has_long = false;
        self.parse(text)?;
        if self.has_long
            && let Cow::Owned(text) = long::quoted(text)
        {
            self.bad.truncate(bad);
            self.parse(&text)?;
        }
        self.rows += 1;
        for column in &mut self.values {
            column.resize(self.rows, Scalar::Null);
        }
        Ok(())
    }

    fn parse(&mut self, text: &[u8]) -> serde_json::Result<()> {
        let mut parser = serde_json::Deserializer::from_slice(text);
        self.path.clear();
        (&mut parser).deserialize_any(Record(self))?;
        parser.end()
    }

    pub(super) fn rows(&self) -> usize {
        self.rows
    }

    /// The columns.
    pub(super) fn arrays(&self) -> Vec<ArrayRef> {
        let columns = self.values.iter().zip(self.kinds);
        columns.map(|(values, kind)| array_of(&values.iter().collect::<Vec<_>>(), kind)).collect()
    }

    fn set(&mut self, column: usize, value: Scalar) {
        if let Some(values) = self.values.get_mut(column) {
            values.truncate(self.rows);
            values.push(value);
        }
    }

    /// Puts a list of records into the columns within the field; false if it has none.
    fn put_records(&mut self, records: &[Value]) -> bool {
        let by_name = self.by_name;
        let is_within = |name: &str| name.strip_prefix(&self.path).is_some_and(|rest| rest.starts_with('.'));
        let mut within: Vec<(&String, Option<usize>)> =
            by_name.iter().filter(|(name, _)| is_within(name)).map(|(name, place)| (name, *place)).collect();
        if within.is_empty() {
            return false;
        }
        within.sort_unstable();
        let mut fields = lists::of_fields(&self.path, records);
        for (name, place) in within {
            let values = match fields.iter().position(|(path, _)| path == name) {
                Some(at) => fields.swap_remove(at).1,
                // As long as the others, so that they open together.
                None => vec![Value::Null; records.len()],
            };
            let Some((place, kind)) = place.and_then(|place| Some((place, self.kinds.get(place)?))) else {
                continue;
            };
            let list = Value::Array(values);
            if lists::is_bare(&list) && !matches!(kind, Type::List(_)) {
                continue;
            }
            match of_value(&list, kind, self.options) {
                Some(list) => self.set(place, list),
                None => {
                    self.path.clone_from(name);
                    self.bad(&list.to_string());
                }
            }
        }
        for (path, values) in fields.into_iter().filter(|(_, values)| !values.iter().all(lists::is_bare)) {
            self.path = path;
            self.bad(&Value::Array(values).to_string());
        }
        true
    }

    /// Whether types = (…) names the field.
    fn is_declared(&self) -> bool {
        self.options.types.iter().any(|(name, _)| *name == self.path)
    }

    fn bad(&mut self, value: &str) {
        let value: String = value.chars().take(60).collect();
        self.bad.push((self.rows, self.path.clone(), value));
    }
}

/// A record, or a record within one.
struct Record<'c, 'a>(&'c mut JsonColumns<'a>);

impl<'de> Visitor<'de> for Record<'_, '_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a record: names and values in braces")
    }

    fn visit_map<M: MapAccess<'de>>(self, mut fields: M) -> Result<(), M::Error> {
        let columns = self.0;
        let prefix = columns.path.len();
        loop {
            columns.path.truncate(prefix);
            if fields.next_key_seed(KeySeed(&mut columns.path))?.is_none() {
                break;
            }
            let place = columns.by_name.get(columns.path.as_str()).copied();
            match place {
                // Known, and not needed.
                Some(None) => drop(fields.next_value::<IgnoredAny>()?),
                place => {
                    fields.next_value_seed(CellSeed { columns: &mut *columns, place: place.flatten() })?
                }
            }
        }
        Ok(())
    }
}

/// Appends a name to a path.
struct KeySeed<'p>(&'p mut String);

impl<'de> DeserializeSeed<'de> for KeySeed<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, name: D) -> Result<(), D::Error> {
        name.deserialize_str(self)
    }
}

impl Visitor<'_> for KeySeed<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a name")
    }

    fn visit_str<E>(self, name: &str) -> Result<(), E> {
        self.0.push_str(name);
        Ok(())
    }
}

/// The value of a field; without a place it must be a record.
struct CellSeed<'c, 'a> {
    columns: &'c mut JsonColumns<'a>,
    place: Option<usize>,
}

impl<'de> DeserializeSeed<'de> for CellSeed<'_, '_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, value: D) -> Result<(), D::Error> {
        value.deserialize_any(self)
    }
}

impl CellSeed<'_, '_> {
    fn put(self, value: Option<Scalar>, shown: impl FnOnce() -> String) {
        match (self.place, value) {
            (Some(place), Some(value)) => self.columns.set(place, value),
            _ => self.columns.bad(&shown()),
        }
    }

    fn kind(&self) -> Option<&Type> {
        self.place.and_then(|place| self.columns.kinds.get(place))
    }
}

impl<'de> Visitor<'de> for CellSeed<'_, '_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value")
    }

    fn visit_unit<E>(self) -> Result<(), E> {
        Ok(())
    }

    fn visit_bool<E>(self, value: bool) -> Result<(), E> {
        let scalar = self.kind().and_then(|kind| of_bool(value, kind));
        self.put(scalar, || value.to_string());
        Ok(())
    }

    fn visit_i64<E>(self, value: i64) -> Result<(), E> {
        let scalar = self.kind().and_then(|kind| of_int(value, kind));
        self.put(scalar, || value.to_string());
        Ok(())
    }

    fn visit_u64<E: serde::de::Error>(self, value: u64) -> Result<(), E> {
        match i64::try_from(value) {
            Ok(value) => self.visit_i64(value),
            Err(_) => {
                self.columns.has_long = true;
                self.visit_f64(value as f64)
            }
        }
    }

    fn visit_f64<E>(self, value: f64) -> Result<(), E> {
        self.columns.has_long |= long::may_be_long(value);
        let scalar = self.kind().and_then(|kind| of_float(value, kind));
        self.put(scalar, || value.to_string());
        Ok(())
    }

    fn visit_str<E>(self, value: &str) -> Result<(), E> {
        if self.place.is_some() && self.columns.options.means_null(value) {
            return Ok(());
        }
        let scalar = match (long::digits(value), self.kind()) {
            // Its digits would be lost in a column that was taken for floats by the records looked at.
            (Some(_), Some(Type::Float)) if !self.columns.is_declared() => None,
            (_, kind) => kind.and_then(|kind| of_text(value, kind, self.columns.options)),
        };
        self.put(scalar, || long::digits(value).unwrap_or(value).to_owned());
        Ok(())
    }

    fn visit_map<M: MapAccess<'de>>(self, fields: M) -> Result<(), M::Error> {
        let columns = self.columns;
        columns.path.push('.');
        let end = columns.path.len() - 1;
        Record(&mut *columns).visit_map(fields)?;
        columns.path.truncate(end);
        Ok(())
    }

    fn visit_seq<S: SeqAccess<'de>>(self, mut items: S) -> Result<(), S::Error> {
        let mut values = Vec::new();
        while let Some(item) = items.next_element::<Value>()? {
            self.columns.has_long |= has_long(&item);
            values.push(item);
        }
        let are_records = lists::are_records(&values);
        if (are_records || self.place.is_none() && values.iter().all(lists::is_bare))
            && self.columns.put_records(&values)
        {
            return Ok(());
        }
        let Some(Type::List(item)) = self.kind().cloned() else {
            let text = serde_json::to_string(&values).map_err(S::Error::custom)?;
            let scalar = (self.kind() == Some(&Type::Text)).then(|| Scalar::Text(text.clone()));
            self.put(scalar, || text);
            return Ok(());
        };
        let options = self.columns.options;
        let list: Option<Vec<Scalar>> = values.iter().map(|value| of_value(value, &item, options)).collect();
        self.put(list.map(|list| Scalar::List(list, *item)), || Value::from(values).to_string());
        Ok(())
    }
}

/// Whether a number within a value may be too long for an int.
fn has_long(value: &Value) -> bool {
    match value {
        Value::Number(number) => number.as_i64().is_none() && number.as_f64().is_some_and(long::may_be_long),
        Value::Array(items) => items.iter().any(has_long),
        Value::Object(fields) => fields.values().any(has_long),
        _ => false,
    }
}

fn of_bool(value: bool, kind: &Type) -> Option<Scalar> {
    match kind {
        Type::Bool => Some(Scalar::Bool(value)),
        Type::Text => Some(Scalar::Text(value.to_string())),
        _ => None,
    }
}

fn of_int(value: i64, kind: &Type) -> Option<Scalar> {
    match kind {
        Type::Int => Some(Scalar::Int(value)),
        Type::Float => Some(Scalar::Float(value as f64)),
        Type::Text => Some(Scalar::Text(value.to_string())),
        Type::Decimal(p, s) => {
            let digits = churn_kernels::number::parse_decimal(value.to_string().as_bytes(), *p, *s)?;
            Some(Scalar::Decimal(digits, *p, *s))
        }
        _ => None,
    }
}

fn of_float(value: f64, kind: &Type) -> Option<Scalar> {
    match kind {
        Type::Float => Some(Scalar::Float(value)),
        Type::Text => Some(Scalar::Text(value.to_string())),
        Type::Decimal(p, s) => {
            let digits = churn_kernels::number::parse_decimal(value.to_string().as_bytes(), *p, *s)?;
            Some(Scalar::Decimal(digits, *p, *s))
        }
        _ => None,
    }
}

fn of_text(value: &str, kind: &Type, options: &JsonOptions) -> Option<Scalar> {
    if let Some(digits) = long::digits(value) {
        return match kind {
            Type::Text => Some(Scalar::Text(digits.to_owned())),
            Type::Float => churn_kernels::number::parse_float(digits.as_bytes()).map(Scalar::Float),
            Type::Decimal(p, s) => {
                let value = churn_kernels::number::parse_decimal(digits.as_bytes(), *p, *s)?;
                Some(Scalar::Decimal(value, *p, *s))
            }
            _ => None,
        };
    }
    let bytes = value.trim().as_bytes();
    let by_pattern = options.dates.as_ref().and_then(|wanted| pattern::parse(wanted, value.trim(), kind));
    match kind {
        Type::Text => Some(Scalar::Text(value.to_owned())),
        Type::Date | Type::Time | Type::Timestamp if by_pattern.is_some() => by_pattern,
        Type::Date => calendar::parse_date(bytes).map(Scalar::Date),
        Type::Time => calendar::parse_time(bytes).map(Scalar::Time),
        Type::Timestamp => {
            let day = || calendar::parse_date(bytes).map(|d| i64::from(d) * DAY);
            calendar::parse_timestamp(bytes).or_else(day).map(Scalar::Timestamp)
        }
        _ => None,
    }
}

fn of_value(value: &Value, kind: &Type, options: &JsonOptions) -> Option<Scalar> {
    match value {
        Value::Null => Some(Scalar::Null),
        Value::Bool(v) => of_bool(*v, kind),
        Value::Number(n) => match n.as_i64() {
            Some(n) => of_int(n, kind),
            None => of_float(n.as_f64()?, kind),
        },
        Value::String(text) if options.means_null(text) => Some(Scalar::Null),
        Value::String(text) => of_text(text, kind, options),
        Value::Array(items) => match kind {
            Type::List(item) => {
                let values = items.iter().map(|v| of_value(v, item, options)).collect::<Option<Vec<_>>>()?;
                Some(Scalar::List(values, item.as_ref().clone()))
            }
            Type::Text => Some(Scalar::Text(value.to_string())),
            _ => None,
        },
        Value::Object(_) => (*kind == Type::Text).then(|| Scalar::Text(value.to_string())),
    }
}
