//! Records into columns, value by value, without a tree of values between.

use std::borrow::Cow;
use std::fmt;

use arrow_array::ArrayRef;
use churn_core::{Scalar, Type};
use hashbrown::HashMap;
use serde::de::{DeserializeSeed, Deserializer, Error as _, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde_json::Value;

use super::columns::JsonColumn;
use super::direct::{RecordReader, RecordShape};
use super::fields::PlainFields;
use super::source::JsonOptions;
use super::values::{has_long, of_bool, of_float, of_int, of_text, of_value};
use super::{lists, long};

/// Where the columns of fields are, by path; those that are not needed have none.
pub(super) type Places = HashMap<String, Option<usize>>;

/// The columns of a block, as they grow.
pub(super) struct JsonColumns<'a> {
    options: &'a JsonOptions,
    kinds: &'a [Type],
    /// The column of each field, by path; columns that are not needed have none.
    by_name: &'a Places,
    columns: Vec<JsonColumn<'a>>,
    shape: RecordShape,
    rows: usize,
    /// Row, field and value of what does not fit.
    pub(super) bad: Vec<(usize, String, String)>,
    path: String,
    /// Whether a number of the record may be too long for an int.
    has_long: bool,
}

impl<'a> JsonColumns<'a> {
    pub(super) fn new(options: &'a JsonOptions, kinds: &'a [Type], by_name: &'a Places) -> JsonColumns<'a> {
        JsonColumns {
            options,
            kinds,
            by_name,
            columns: kinds.iter().map(JsonColumn::new).collect(),
            shape: RecordShape::default(),
            rows: 0,
            bad: Vec::new(),
            path: String::new(),
            has_long: false,
        }
    }

    /// Adds the record that starts at a place of a text if it is of plain shape; gives where it ends.
    pub(super) fn push_plain(&mut self, text: &[u8], at: usize) -> Option<usize> {
        let end = self.plain(text, at)?;
        self.end_row();
        Some(end)
    }

    /// Adds a record that is not of plain shape; false, and nothing is added, if it is no JSON or no record.
    pub(super) fn push_parsed(&mut self, text: &[u8]) -> bool {
        let bad = self.bad.len();
        let is_record = self.parse_any(text).is_ok();
        if is_record {
            self.end_row();
        } else {
            self.bad.truncate(bad);
            self.columns.iter_mut().for_each(JsonColumn::clear);
        }
        is_record
    }

    /// Reads a record of plain shape; its values are pending.
    fn plain(&mut self, text: &[u8], at: usize) -> Option<usize> {
        let mut fields =
            PlainFields { places: self.by_name, options: self.options, columns: &mut self.columns };
        let end = RecordReader { text, shape: &mut self.shape, fields: &mut fields }.record(at).ok();
        if end.is_none() {
            self.columns.iter_mut().for_each(JsonColumn::clear);
        }
        end
    }

    /// Adds a record.
    ///
    /// # Errors
    /// It is no JSON, or no record.
    pub(super) fn push(&mut self, text: &[u8]) -> serde_json::Result<()> {
        match self.plain(text, 0) {
            Some(end) if end == text.len() => {}
            _ => self.parse_any(text)?,
        }
        self.end_row();
        Ok(())
    }

    /// Reads a record of any shape; its values are pending.
    fn parse_any(&mut self, text: &[u8]) -> serde_json::Result<()> {
        self.columns.iter_mut().for_each(JsonColumn::clear);
        let bad = self.bad.len();
        self.has_long = false;
        self.parse(text)?;
        if self.has_long
            && let Cow::Owned(text) = long::quoted(text)
        {
            self.bad.truncate(bad);
            self.columns.iter_mut().for_each(JsonColumn::clear);
            self.parse(&text)?;
        }
        Ok(())
    }

    fn end_row(&mut self) {
        self.rows += 1;
        self.columns.iter_mut().for_each(JsonColumn::end_row);
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
    pub(super) fn finish(self) -> Vec<ArrayRef> {
        self.columns.into_iter().map(JsonColumn::finish).collect()
    }

    fn set(&mut self, column: usize, value: Scalar) {
        if let Some(column) = self.columns.get_mut(column) {
            column.set(value);
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

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::Array;
    use proptest::prelude::*;
    use proptest::sample::select;

    /// Values as they are written, among them some that are none.
    const VALUES: &[&str] = &[
        "null",
        "true",
        "false",
        "0",
        "-0",
        "7",
        "-12",
        "01",
        "1.5",
        "-0.25e3",
        "1e400",
        "1.",
        ".5",
        "1e",
        "0.1",
        "123456789012345678",
        "1234567890123456789",
        "9223372036854775808",
        "0.30000000000000004",
        "nul",
        "truee",
        "\"\"",
        "\"a\"",
        "\"2024-02-29\"",
        "\"2024-02-30\"",
        "\"a text of more than twelve bytes\"",
        "\"ä €\"",
        "\"a\\n\"",
        "\"a\\u0041\"",
        "\"a\tb\"",
        "\"-\"",
        "[1, 2]",
        "[]",
        "[\"a\"]",
        "{}",
        "{\"x\": 1}",
        "{ \"x\" : null , \"y\" : \"b\" }",
        "{\"x\": {\"z\": 2}}",
        "{\"w\": 1}",
        "[{\"x\": 1}]",
        "[[], {}, [{\"\\u0041\": [1.5e1, \"]\"]}], null ]",
        "{\"a\": {\"b\" : [ ] } , \"c\": [tru]}",
        "[1 2]",
        "[1,]",
        "{\"a\" 1}",
        "x",
        "",
    ];

    /// Names and white space of the fields of a record.
    fn some_shape() -> impl Strategy<Value = Vec<(&'static str, &'static str)>> {
        let name = select(vec!["i", "f", "t", "d", "b", "l", "r", "u", "n", "a b", "\\u0069", "ä"]);
        prop::collection::vec((name, select(vec!["", "", " ", "\n\t"])), 0..6)
    }

    /// Records of a few shapes.
    fn some_records() -> impl Strategy<Value = Vec<String>> {
        let end = select(vec!["}", "}", "}", "}", "}", "}", ",}", "", "}x"]);
        let record = (0usize..3, prop::collection::vec(select(VALUES.to_vec()), 6), end);
        (prop::collection::vec(some_shape(), 3), prop::collection::vec(record, 1..9)).prop_map(
            |(shapes, records)| {
                let written = |(shape, values, end): (usize, Vec<&str>, &str)| {
                    let field = |((name, blank), value): (&(&str, &str), &str)| {
                        format!("{blank}\"{name}\"{blank}:{blank}{value}{blank}")
                    };
                    let fields: Vec<String> = shapes[shape].iter().zip(values).map(field).collect();
                    format!("{{{}{end}", fields.join(","))
                };
                records.into_iter().map(written).collect()
            },
        )
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]

        /// What is read as a plain record is what the parser reads.
        #[test]
        fn plain_records_are_what_the_parser_reads(records in some_records()) {
            let kinds = [
                Type::Int, Type::Float, Type::Text, Type::Date, Type::Bool, Type::List(Box::new(Type::Int)),
                Type::Int, Type::Text, Type::Decimal(20, 2),
            ];
            let names = ["i", "f", "t", "d", "b", "l", "r.x", "r.y", "n"];
            let mut places: Places = names.iter().enumerate().map(|(i, name)| ((*name).to_owned(), Some(i))).collect();
            places.insert("u".to_owned(), None);
            places.insert("r.z".to_owned(), None);
            let options = JsonOptions { missing: vec!["-".to_owned()], ..JsonOptions::default() };
            let mut plain = JsonColumns::new(&options, &kinds, &places);
            let mut parsed = JsonColumns::new(&options, &kinds, &places);
            for record in &records {
                let ours = plain.push(record.as_bytes());
                let theirs = parsed.parse_any(record.as_bytes());
                prop_assert_eq!(ours.is_ok(), theirs.is_ok(), "{}: {:?} {:?}", record, ours, theirs);
                if theirs.is_err() {
                    plain.columns.iter_mut().for_each(JsonColumn::clear);
                    parsed.columns.iter_mut().for_each(JsonColumn::clear);
                    continue;
                }
                parsed.end_row();
            }
            prop_assert_eq!(&plain.bad, &parsed.bad);
            let (ours, theirs) = (plain.finish(), parsed.finish());
            for ((name, ours), theirs) in names.iter().zip(&ours).zip(&theirs) {
                prop_assert_eq!(ours.to_data(), theirs.to_data(), "{} of {:?}", name, records);
            }
        }
    }
}
