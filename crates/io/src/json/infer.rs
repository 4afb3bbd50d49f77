//! Column types from what records look like, in the order in which fields first appear.

use churn_core::Type;
use churn_expr::pattern;
use churn_kernels::calendar;
use serde_json::Value;

use super::direct::{Fields, JsonPlace, Plain, RecordReader, RecordShape};
use super::source::JsonOptions;
use super::{lists, long};

/// What the values of a field look like.
#[derive(Clone, Debug, Default)]
struct Look {
    values: usize,
    bool: usize,
    /// Whole numbers that are too long for an int.
    long: usize,
    int: usize,
    float: usize,
    date: usize,
    time: usize,
    timestamp: usize,
    by_pattern: usize,
    lists: usize,
    /// Lists without a value.
    bare: usize,
    items: Option<Box<Look>>,
}

/// The fields of records, by path.
#[derive(Default)]
pub(super) struct Looks {
    fields: Vec<(String, Look)>,
    shape: RecordShape,
    /// The fields of plain records.
    plain: Vec<PlainField>,
    /// What the last plain record has.
    pending: Vec<(usize, SeenKind)>,
}

/// A field of plain records.
struct PlainField {
    path: String,
    /// Where it stands among all fields, once it had a value.
    place: Option<usize>,
}

/// A value of a plain record.
enum SeenKind {
    Null,
    Bool,
    Int,
    Float,
    /// A text, and what it may be.
    Text(Option<TextLook>),
}

/// What a text may be.
struct TextLook {
    is_date: bool,
    is_time: bool,
    is_timestamp: bool,
    is_by_pattern: bool,
}

impl TextLook {
    /// None of a text that means null.
    fn of(text: &str, options: &JsonOptions) -> Option<TextLook> {
        if options.means_null(text) {
            return None;
        }
        let bytes = text.trim().as_bytes();
        let is_date = calendar::parse_date(bytes).is_some();
        let is = |wanted: &String| pattern::parse(wanted, text, &pattern::dated_type(wanted)).is_some();
        Some(TextLook {
            is_date,
            is_time: calendar::parse_time(bytes).is_some(),
            is_timestamp: is_date || calendar::parse_timestamp(bytes).is_some(),
            is_by_pattern: options.dates.as_ref().is_some_and(is),
        })
    }
}

/// Takes the values of a plain record.
struct PlainLooks<'l> {
    plain: &'l mut Vec<PlainField>,
    pending: &'l mut Vec<(usize, SeenKind)>,
    options: &'l JsonOptions,
}

impl Fields for PlainLooks<'_> {
    fn place(&mut self, path: &str) -> JsonPlace {
        self.plain.push(PlainField { path: path.to_owned(), place: None });
        JsonPlace::Field(self.plain.len() - 1)
    }

    fn text(&mut self, field: usize, text: &str) -> Plain<()> {
        self.pending.push((field, SeenKind::Text(TextLook::of(text, self.options))));
        Ok(())
    }

    fn int(&mut self, field: usize, _: i64) -> Plain<()> {
        self.pending.push((field, SeenKind::Int));
        Ok(())
    }

    fn float(&mut self, field: usize, _: f64) -> Plain<()> {
        self.pending.push((field, SeenKind::Float));
        Ok(())
    }

    fn bool(&mut self, field: usize, _: bool) -> Plain<()> {
        self.pending.push((field, SeenKind::Bool));
        Ok(())
    }

    fn null(&mut self, field: usize) -> Plain<()> {
        self.pending.push((field, SeenKind::Null));
        Ok(())
    }

    fn again(&mut self) {
        self.pending.clear();
    }
}

impl Looks {
    /// Looks at the text of a record; another value is left for the run to find.
    ///
    /// # Errors
    /// It is no JSON.
    pub(super) fn see(&mut self, text: &[u8], options: &JsonOptions) -> serde_json::Result<()> {
        if !self.see_plain(text, options) {
            self.see_within("", &serde_json::from_slice(&long::quoted(text))?, options);
        }
        Ok(())
    }

    /// Looks at a record of plain shape; false, and nothing is seen, if it is none.
    fn see_plain(&mut self, text: &[u8], options: &JsonOptions) -> bool {
        self.pending.clear();
        let mut fields = PlainLooks { plain: &mut self.plain, pending: &mut self.pending, options };
        let end = RecordReader { text, shape: &mut self.shape, fields: &mut fields }.record(0);
        let is_all = |end: usize| text.get(end..).is_some_and(|rest| rest.trim_ascii().is_empty());
        let is_plain = end.is_ok_and(is_all);
        for (field, seen) in std::mem::take(&mut self.pending).into_iter().filter(|_| is_plain) {
            let Some(PlainField { path, place }) = self.plain.get_mut(field) else { continue };
            let place = *place.get_or_insert_with(|| place_of(&mut self.fields, path));
            if let Some((_, look)) = self.fields.get_mut(place) {
                look.see_plain(&seen);
            }
        }
        is_plain
    }

    fn see_within(&mut self, prefix: &str, value: &Value, options: &JsonOptions) {
        let Value::Object(fields) = value else { return };
        for (key, value) in fields {
            let name = format!("{prefix}{key}");
            if let Value::Object(_) = value {
                self.see_within(&format!("{name}."), value, options);
                continue;
            }
            match value {
                Value::Array(items) if lists::are_records(items) => {
                    for (path, values) in lists::of_fields(&name, items) {
                        self.field(&path).see(&Value::Array(values), options);
                    }
                }
                value => self.field(&name).see(value, options),
            }
        }
    }

    fn field(&mut self, name: &str) -> &mut Look {
        let place = place_of(&mut self.fields, name);
        &mut self.fields[place].1
    }

    /// Columns that only null was seen of.
    pub(super) fn nulls(&self) -> Vec<String> {
        self.fields.iter().filter(|(_, look)| look.values == 0).map(|(name, _)| name.clone()).collect()
    }

    /// The columns; a field of nothing but null has the type null, of nothing but empty lists text, or is left to the
    /// columns within.
    pub(super) fn columns(&self) -> Vec<(String, Type)> {
        let nested = |name: &str| {
            self.fields.iter().any(|(n, _)| n.strip_prefix(name).is_some_and(|r| r.starts_with('.')))
        };
        let says_nothing = |look: &Look| look.values == look.bare;
        let kept = self.fields.iter().filter(|(name, look)| !(says_nothing(look) && nested(name)));
        kept.map(|(name, look)| (name.clone(), look.kind())).collect()
    }
}

/// Where a field stands, behind all others if it is new.
fn place_of(fields: &mut Vec<(String, Look)>, name: &str) -> usize {
    let place = fields.iter().position(|(known, _)| known == name).unwrap_or(fields.len());
    if place == fields.len() {
        fields.push((name.to_owned(), Look::default()));
    }
    place
}

impl Look {
    fn see(&mut self, value: &Value, options: &JsonOptions) {
        match value {
            Value::Null => return,
            Value::Bool(_) => self.bool += 1,
            Value::Number(n) => {
                self.int += usize::from(n.is_i64());
                self.float += 1;
            }
            Value::String(text) if long::digits(text).is_some() => self.long += 1,
            Value::String(text) => return self.see_plain(&SeenKind::Text(TextLook::of(text, options))),
            Value::Array(items) => {
                self.lists += 1;
                self.bare += usize::from(lists::is_bare(value));
                let look = self.items.get_or_insert_default();
                items.iter().for_each(|item| look.see(item, options));
            }
            Value::Object(_) => {}
        }
        self.values += 1;
    }

    fn see_plain(&mut self, value: &SeenKind) {
        match value {
            SeenKind::Null | SeenKind::Text(None) => return,
            SeenKind::Bool => self.bool += 1,
            SeenKind::Int => {
                self.int += 1;
                self.float += 1;
            }
            SeenKind::Float => self.float += 1,
            SeenKind::Text(Some(look)) => {
                self.date += usize::from(look.is_date);
                self.time += usize::from(look.is_time);
                self.timestamp += usize::from(look.is_timestamp);
                self.by_pattern += usize::from(look.is_by_pattern);
            }
        }
        self.values += 1;
    }

    fn kind(&self) -> Type {
        let all = |n: usize| n == self.values && n > 0;
        match self.values {
            0 => Type::Null,
            _ if all(self.bool) => Type::Bool,
            _ if all(self.int) => Type::Int,
            _ if all(self.float) => Type::Float,
            _ if all(self.by_pattern) => Type::Timestamp,
            _ if all(self.date) => Type::Date,
            _ if all(self.time) => Type::Time,
            _ if all(self.timestamp) => Type::Timestamp,
            _ if all(self.lists) => {
                let items = self.items.as_ref().filter(|items| items.values > 0);
                Type::List(Box::new(items.map_or(Type::Text, |items| items.kind())))
            }
            _ => Type::Text,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use proptest::sample::select;

    fn some_record() -> impl Strategy<Value = String> {
        let name = select(vec!["i", "t", "r", "d", "\\u0069"]);
        let value = select(vec![
            "null",
            "true",
            "1",
            "-0",
            "1.5",
            "\"a\"",
            "\"a\\n\"",
            "\"2024-02-29\"",
            "\"2024-02-29T10:00\"",
            "\"-\"",
            "\"10:00\"",
            "{}",
            "{\"x\": 1}",
            "{\"x\": {\"y\": null}}",
            "[1]",
            "[]",
            "[{\"x\": 1}]",
            "12345678901234567890",
        ]);
        let fields = prop::collection::vec((name, value), 0..5);
        fields.prop_map(|fields| {
            let fields: Vec<String> =
                fields.iter().map(|(name, value)| format!("\"{name}\": {value}")).collect();
            format!("{{{}}}", fields.join(", "))
        })
    }

    proptest! {
        /// Fields, their order and types are those that the parser's values give.
        #[test]
        fn plain_records_look_as_parsed_ones(records in prop::collection::vec(some_record(), 1..6)) {
            let options = JsonOptions { missing: vec!["-".to_owned()], ..JsonOptions::default() };
            let (mut plain, mut parsed) = (Looks::default(), Looks::default());
            for record in &records {
                prop_assert!(plain.see(record.as_bytes(), &options).is_ok());
                let value: Value = serde_json::from_slice(&long::quoted(record.as_bytes())).unwrap_or_default();
                parsed.see_within("", &value, &options);
            }
            prop_assert_eq!(plain.columns(), parsed.columns());
            prop_assert_eq!(plain.nulls(), parsed.nulls());
        }
    }
}
