//! The objects that an address means: those that fit a pattern, or are below a folder.

use churn_core::{Error, ErrorKind, Result, cancel};
use futures_util::TryStreamExt;
use glob::{MatchOptions, Pattern};
use object_store::path::Path;

use super::bucket::Place;
use super::failures::told;
use super::waiting::Waiting;
use crate::store::{aside, refused};

/// Objects that are listed at most, so that a list without an end is not waited for.
const MOST: usize = 1_000_000;

/// As in patterns of files: `*` and `?` stand for no slash.
const MATCHING: MatchOptions = MatchOptions {
    case_sensitive: true,
    require_literal_separator: true,
    require_literal_leading_dot: false,
};

/// The addresses, in order of name.
pub(super) fn list(address: &str) -> Result<Vec<String>> {
    let is_pattern = address.contains(['*', '?', '[']);
    if !is_pattern && !address.ends_with('/') {
        return Ok(vec![address.to_owned()]);
    }
    let unlisted = |why: String| Error::new(ErrorKind::Input, format!("{address} cannot be listed: {why}."));
    if let Some(why) = refused("read from") {
        return Err(unlisted(why));
    }
    let pattern = match is_pattern {
        true => Some(Pattern::new(address).map_err(|error| {
            Error::new(ErrorKind::Input, format!("{address} is not a pattern of names: {}.", error.msg))
        })?),
        false => None,
    };
    let own = address.to_owned();
    let listed = aside::once(move || below(&own)).map_err(|e| match cancel::is_asked() {
        true => cancel::stopped(),
        false => unlisted(e.to_string()).caused_by_io(&e),
    })?;
    if listed.len() > MOST {
        return Err(unlisted(format!("it has more than {MOST} objects")));
    }
    let fits = |name: &String| match &pattern {
        Some(pattern) => pattern.matches_with(name, MATCHING),
        None => !is_hidden(name.strip_prefix(address).unwrap_or(name)),
    };
    let mut found: Vec<String> = listed.into_iter().filter(fits).collect();
    found.sort();
    match found.is_empty() {
        true if is_pattern => Err(Error::new(ErrorKind::Input, format!("No object fits {address}."))),
        true => Err(Error::new(ErrorKind::Input, format!("The folder {address} holds no objects."))),
        false => Ok(found),
    }
}

/// Whether a name, or a folder that it is in, is one that is not data.
fn is_hidden(name: &str) -> bool {
    name.split('/').any(|part| part.starts_with(['.', '_']))
}

/// The addresses of all objects below the folder that stands before a pattern; those that only stand for a folder are left out.
fn below(address: &str) -> std::io::Result<Vec<String>> {
    let place = Place::of(address)?;
    let plain = place.key.split(['*', '?', '[']).next().unwrap_or_default();
    let folder = plain.rsplit_once('/').map(|(folder, _)| Path::parse(folder)).transpose();
    let folder = folder.map_err(|_| std::io::Error::other("a part of it is empty, or is . or .."))?;
    let waiting = Waiting::new()?;
    let mut objects = place.bucket.store.list(folder.as_ref());
    let mut found: Vec<(String, u64)> = Vec::new();
    while let Some(object) =
        waiting.wait_for(objects.try_next())?.map_err(|e| told(&e, &place))?.filter(|_| found.len() <= MOST)
    {
        found.push((format!("{}{}", place.before, object.location), object.size));
    }
    found.sort();
    let is_folder = |number: usize, name: &str, size: u64| {
        let next = found.get(number + 1).map(|(next, _)| next.as_str()).unwrap_or_default();
        size == 0 && next.strip_prefix(name).is_some_and(|rest| rest.starts_with('/'))
    };
    let data = found.iter().enumerate().filter(|(number, (name, size))| !is_folder(*number, name, *size));
    Ok(data.map(|(_, (name, _))| name.clone()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("2026/milk.csv", false)]
    #[case("2026/_temporary/milk.csv", true)]
    #[case(".milk.csv", true)]
    fn what_is_no_data_is_hidden(#[case] name: &str, #[case] expected: bool) {
        assert_eq!(is_hidden(name), expected);
    }

    #[rstest]
    #[case("s3://dairy/milk.csv")]
    #[case("gs://dairy/2026/milk.parquet")]
    fn one_object_is_not_looked_up(#[case] address: &str) {
        assert_eq!(list(address).unwrap(), [address]);
    }
}
