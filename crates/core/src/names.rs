//! Names as the language writes them.

use std::fmt::{Display, Write as _};

/// Words that name a column only in double quotes.
pub const RESERVED: [&str; 21] = [
    "and", "or", "not", "in", "is", "like", "between", "div", "mod", "case", "when", "then", "else", "end",
    "each", "per", "where", "over", "null", "true", "false",
];

/// A name as it is written: in double quotes where it must be.
pub fn name(name: &str) -> String {
    let mut chars = name.chars();
    let plain = chars.next().is_some_and(|c| unicode_ident::is_xid_start(c) || c == '_')
        && chars.all(|c| unicode_ident::is_xid_continue(c) || c == '_')
        && !RESERVED.contains(&name.to_ascii_lowercase().as_str());
    if plain { name.to_owned() } else { format!("\"{}\"", name.replace('"', "\"\"")) }
}

/// A name as it is written where some words would be taken for something else.
pub fn name_apart_from(words: &[&str], text: &str) -> String {
    match words.iter().any(|word| word.eq_ignore_ascii_case(text)) {
        true => format!("\"{text}\""),
        false => name(text),
    }
}

/// Joins with commas.
pub fn comma<T: Display>(items: impl IntoIterator<Item = T>) -> String {
    let mut out = String::new();
    for (i, item) in items.into_iter().enumerate() {
        let _ = write!(out, "{}{item}", if i > 0 { ", " } else { "" });
    }
    out
}
