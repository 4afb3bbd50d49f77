//! Column types from what records look like, in the order in which fields first appear.

use churn_core::Type;
use churn_expr::pattern;
use serde_json::Value;

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
#[derive(Clone, Debug, Default)]
pub(super) struct Looks {
    fields: Vec<(String, Look)>,
}

impl Looks {
    /// Looks at a record; anything else is left for the run to find.
    pub(super) fn see(&mut self, value: &Value, options: &JsonOptions) {
        self.see_within("", value, options);
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
                        self.field(path).see(&Value::Array(values), options);
                    }
                }
                value => self.field(name).see(value, options),
            }
        }
    }

    fn field(&mut self, name: String) -> &mut Look {
        let place = self.fields.iter().position(|(n, _)| *n == name).unwrap_or(self.fields.len());
        if place == self.fields.len() {
            self.fields.push((name, Look::default()));
        }
        &mut self.fields[place].1
    }

    /// Columns that only null was seen of.
    pub(super) fn nulls(&self) -> Vec<String> {
        self.fields.iter().filter(|(_, look)| look.values == 0).map(|(name, _)| name.clone()).collect()
    }

    /// The columns; a field of nothing but null and empty lists is text, or left to the columns within.
    pub(super) fn columns(&self) -> Vec<(String, Type)> {
        let nested = |name: &str| {
            self.fields.iter().any(|(n, _)| n.strip_prefix(name).is_some_and(|r| r.starts_with('.')))
        };
        let says_nothing = |look: &Look| look.values == look.bare;
        let kept = self.fields.iter().filter(|(name, look)| !(says_nothing(look) && nested(name)));
        kept.map(|(name, look)| (name.clone(), look.kind())).collect()
    }
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
            Value::String(text) => {
                if options.means_null(text) {
                    return;
                }
                let bytes = text.trim().as_bytes();
                let is_date = churn_kernels::calendar::parse_date(bytes).is_some();
                self.date += usize::from(is_date);
                self.time += usize::from(churn_kernels::calendar::parse_time(bytes).is_some());
                let is_timestamp = churn_kernels::calendar::parse_timestamp(bytes).is_some();
                self.timestamp += usize::from(is_date || is_timestamp);
                if let Some(wanted) = &options.dates {
                    self.by_pattern +=
                        usize::from(pattern::parse(wanted, text, &pattern::dated_type(wanted)).is_some());
                }
            }
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

    fn kind(&self) -> Type {
        let all = |n: usize| n == self.values && n > 0;
        match self.values {
            _ if all(self.bool) => Type::Bool,
            _ if all(self.int) => Type::Int,
            _ if all(self.float) => Type::Float,
            _ if all(self.by_pattern) => Type::Timestamp,
            _ if all(self.date) => Type::Date,
            _ if all(self.time) => Type::Time,
            _ if all(self.timestamp) => Type::Timestamp,
            _ if all(self.lists) => {
                Type::List(Box::new(self.items.as_ref().map_or(Type::Text, |items| items.kind())))
            }
            _ => Type::Text,
        }
    }
}
