//! Values as the text of JSON: in its files, and lists in formats that have none.
//!
//! Dates and times are ISO 8601 texts; NaN and the infinities, which JSON lacks, are null.

use churn_core::Scalar;

/// A text in quotes.
pub(crate) fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

/// Appends a value as JSON.
pub(crate) fn write_value(value: &Scalar, out: &mut Vec<u8>) {
    match value {
        Scalar::Null => out.extend_from_slice(b"null"),
        Scalar::Float(v) if !v.is_finite() => out.extend_from_slice(b"null"),
        Scalar::Date(_) => {
            out.push(b'"');
            value.write_plain(out);
            out.push(b'"');
        }
        Scalar::Bool(_) | Scalar::Int(_) | Scalar::Float(_) | Scalar::Decimal(..) => value.write_plain(out),
        Scalar::List(items, _) => {
            out.push(b'[');
            for (i, item) in items.iter().enumerate() {
                if i > 0 {
                    out.push(b',');
                }
                write_value(item, out);
            }
            out.push(b']');
        }
        other => out.extend_from_slice(quoted(&other.plain()).as_bytes()),
    }
}
