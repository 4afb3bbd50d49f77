//! Lists of records: one list for each field.

use serde_json::Value;

/// Whether the values of a list are records: nothing but records and null is in it, and some record.
pub(super) fn are_records(items: &[Value]) -> bool {
    items.iter().any(Value::is_object) && items.iter().all(|item| item.is_object() || item.is_null())
}

/// Whether a value is null, or a list of nothing else.
pub(super) fn is_bare(value: &Value) -> bool {
    match value {
        Value::Null => true,
        Value::Array(items) => items.iter().all(is_bare),
        _ => false,
    }
}

/// The fields of a list of records, by path behind `prefix`, in order of first appearance: of each a list as long as
/// that of the records, null where a record lacks it. Lists of records within become lists of lists.
pub(super) fn of_fields(prefix: &str, records: &[Value]) -> Vec<(String, Vec<Value>)> {
    let mut fields: Vec<(String, Vec<Value>)> = Vec::new();
    for (place, record) in records.iter().enumerate() {
        see(prefix, record, &mut |path, value| {
            let known = fields.iter().position(|(name, _)| *name == path);
            let field = known.unwrap_or_else(|| {
                fields.push((path, vec![Value::Null; records.len()]));
                fields.len() - 1
            });
            if let Some(slot) = fields.get_mut(field).and_then(|(_, values)| values.get_mut(place)) {
                *slot = value;
            }
        });
    }
    fields
}

/// Tells each value of a record by its path.
fn see(prefix: &str, value: &Value, tell: &mut dyn FnMut(String, Value)) {
    let Value::Object(fields) = value else { return };
    for (key, value) in fields {
        let path = format!("{prefix}.{key}");
        match value {
            Value::Object(_) => see(&path, value, tell),
            Value::Array(items) if are_records(items) => {
                of_fields(&path, items)
                    .into_iter()
                    .for_each(|(path, values)| tell(path, Value::Array(values)));
            }
            value => tell(path, value.clone()),
        }
    }
}
