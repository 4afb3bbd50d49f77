//! Recipe files: a file that is none is told by its first bytes, in one message.

use std::io::Read;
use std::path::Path;

use churn_core::error::nearest;
use churn_core::{Error, ErrorKind, Result};
use churn_io::format::Formats;
use churn_io::place;

use crate::steps;

/// The longest recipe, in bytes.
const LONGEST: u64 = 16 << 20;

/// Whether a file is a recipe by its name.
pub(crate) fn is_named_as_recipe(path: &Path) -> bool {
    path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("churn"))
}

/// Reads the text of a recipe file.
///
/// # Errors
/// The file cannot be read; it holds something else than a recipe.
pub(crate) fn read_file(path: &Path) -> Result<String> {
    read_text(path, "recipe", no_recipe)
}

/// Reads the text of a file that holds a query.
///
/// # Errors
/// The file cannot be read; it holds something else than text.
#[cfg(feature = "sql")]
pub(crate) fn read_query(path: &Path) -> Result<String> {
    read_text(path, "query", |_, first| no_text(first))
}

/// Reads a text of some kind; `is_none` tells by the path and the first bytes what the file is if it is none.
fn read_text(path: &Path, kind: &str, is_none: fn(&Path, &[u8]) -> Option<String>) -> Result<String> {
    let failed = |why: String| {
        Error::new(ErrorKind::Input, format!("The {kind} {} cannot be read: {why}.", path.display()))
    };
    let file = std::fs::File::open(path).map_err(|e| failed(e.to_string()))?;
    let mut bytes = Vec::new();
    let mut limited = file.take(LONGEST + 1);
    // The first bytes tell what it is, however much follows.
    (&mut limited).take(1 << 16).read_to_end(&mut bytes).map_err(|e| failed(e.to_string()))?;
    if let Some(what) = is_none(path, &bytes) {
        return Err(Error::new(ErrorKind::Input, format!("{} is no {kind}: {what}.", path.display()))
            .next(format!("To look at data: churn show {}", path.display()))
            .next(format!("To run steps over it: churn do {} 'filter …' 'group by …'", path.display())));
    }
    limited.read_to_end(&mut bytes).map_err(|e| failed(e.to_string()))?;
    if bytes.len() as u64 > LONGEST {
        return Err(failed("it is longer than 16 MB".into()));
    }
    String::from_utf8(bytes).map_err(|_| failed("it is not UTF-8".into()))
}

/// What a file is that is no text, by its first bytes; `None` if it may be one.
fn no_text(first: &[u8]) -> Option<String> {
    if let Some(format) = Formats::default().of_bytes(first) {
        return Some(format!("it holds {format} data"));
    }
    place::has_control_bytes(first).then(|| "it is not text".into())
}

/// What a file is that is no recipe, by its first bytes; `None` if it may be one.
fn no_recipe(path: &Path, first: &[u8]) -> Option<String> {
    if let Some(what) = no_text(first) {
        return Some(what);
    }
    let text = String::from_utf8_lossy(first);
    let is_content = |line: &&str| !line.is_empty() && !line.starts_with('#');
    let line = text.trim_start_matches('\u{feff}').lines().map(str::trim_start).find(is_content)?;
    let end = line.find(|c: char| !(c.is_alphanumeric() || c == '_')).unwrap_or(line.len());
    let word = line.get(..end).unwrap_or_default().to_ascii_lowercase();
    let keywords = || steps::CATALOGUE.iter().map(|kind| kind.keyword).chain(["given", "define", "table"]);
    let is_keyword = keywords().any(|keyword| keyword == word);
    // A mistyped word is told as such, unless the name of the file says that it holds data.
    let may_be_mistyped = Formats::default().of(path).is_none() && nearest(&word, keywords()).is_some();
    if is_keyword || may_be_mistyped {
        return None;
    }
    let line = line.trim_end();
    let end = if line.chars().count() > 40 { "…" } else { "" };
    let shown: String = line.chars().take(40).collect::<String>() + end;
    Some(format!("its first line starts with {shown}, which is no step"))
}
