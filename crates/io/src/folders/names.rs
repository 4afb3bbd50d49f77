//! Names of folders: `key=value`, and what a value in one means.

use std::path::Path;

use churn_core::{Scalar, Type};
use churn_kernels::known::known_part;

/// What stands for null in a folder's name.
const NULL: &str = "null";

/// The keys and values of the folders that a file is in.
pub(super) fn keys_of(file: &Path, base: &Path) -> Vec<(String, String)> {
    let within = file.strip_prefix(base).unwrap_or(file);
    let folders = within.parent().into_iter().flat_map(Path::components);
    let pair = |part: std::path::Component<'_>| {
        let (key, value) = part.as_os_str().to_str()?.split_once('=')?;
        (!key.is_empty()).then(|| (decoded(key), value.to_owned()))
    };
    folders.filter_map(pair).collect()
}

/// The name of a folder for a key and its value; what a name cannot hold is written `%2F`.
pub(crate) fn folder_name(key: &str, value: Option<&str>) -> String {
    let value = match value {
        None => NULL.to_owned(),
        // Not to be taken for null.
        Some(NULL) => "%6Eull".to_owned(),
        Some(value) => encoded(value),
    };
    format!("{}={value}", encoded(key))
}

/// Whether a folder's name gives a value of a key.
pub(crate) fn is_of_key(name: &str, key: &str) -> bool {
    name.strip_prefix(encoded(key).as_str()).is_some_and(|value| value.starts_with('='))
}

fn encoded(text: &str) -> String {
    let mut name = String::new();
    for c in text.chars() {
        match c {
            '/' | '\\' | '%' | '=' | ':' | '*' | '?' | '"' | '<' | '>' | '|' => {
                name.push_str(&format!("%{:02X}", u32::from(c)))
            }
            c if c.is_ascii_control() => name.push_str(&format!("%{:02X}", u32::from(c))),
            c => name.push(c),
        }
    }
    // A name of points alone means another folder.
    if name.chars().all(|c| c == '.') { name.replace('.', "%2E") } else { name }
}

fn decoded(text: &str) -> String {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, after)) = rest.split_first() {
        let hex = after.get(..2).and_then(|h| std::str::from_utf8(h).ok());
        match hex.and_then(|h| u8::from_str_radix(h, 16).ok()).filter(|_| *first == b'%') {
            Some(byte) => {
                bytes.push(byte);
                rest = known_part(after, 2..);
            }
            None => {
                bytes.push(*first);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// The first type that all values fit: int, date, else text.
pub(super) fn kind<'a>(values: impl Iterator<Item = &'a str> + Clone) -> Type {
    let mut known = values.filter(|v| *v != NULL).peekable();
    let is_int = |v: &str| churn_kernels::number::parse_int(v.as_bytes()).is_some_and(|n| n.to_string() == v);
    if known.peek().is_none() {
        return Type::Text;
    }
    if known.clone().all(is_int) {
        Type::Int
    } else if known.all(|v| churn_kernels::calendar::parse_date(v.as_bytes()).is_some()) {
        Type::Date
    } else {
        Type::Text
    }
}

pub(super) fn value(text: &str, kind: &Type) -> Scalar {
    match kind {
        _ if text == NULL => Scalar::Null,
        Type::Int => churn_kernels::number::parse_int(text.as_bytes()).map_or(Scalar::Null, Scalar::Int),
        Type::Date => churn_kernels::calendar::parse_date(text.as_bytes()).map_or(Scalar::Null, Scalar::Date),
        _ => Scalar::Text(decoded(text)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("farm", Some("F/1=ä"), "farm=F%2F1%3Dä")]
    #[case("farm", None, "farm=null")]
    #[case("farm", Some("null"), "farm=%6Eull")]
    #[case("a b", Some(".."), "a b=%2E%2E")]
    fn names_read_back(#[case] key: &str, #[case] text: Option<&str>, #[case] name: &str) {
        assert_eq!(folder_name(key, text), name);
        let keys = keys_of(&Path::new(name).join("part-1.csv"), Path::new(""));
        let read = keys.first().map(|(k, v)| (k.as_str(), value(v, &Type::Text)));
        assert_eq!(read, Some((key, text.map_or(Scalar::Null, |t| Scalar::Text(t.to_owned())))));
    }
}
