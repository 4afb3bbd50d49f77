//! Parts of a file that a server sends by ranges.

use std::io::{Error, ErrorKind, Read, Result};
use std::ops::Range;

use ureq::Body;
use ureq::http::{Response, header};

use super::answer::{ATTEMPTS, Part, asked, mark, page, text};
use crate::store::StoredFile;

/// Bytes at the end of a file that are asked for first: of most columnar files what tells where their columns are.
const END: u64 = 1 << 14;

/// The file at an address; `None` if its server sends no parts of it, or nothing that tells when it changes.
pub(super) fn open(address: &str) -> Result<Option<StoredFile>> {
    let range = format!("bytes=-{END}");
    let response = asked(address, Some(Part { range: &range, mark: None }))?;
    if response.status() != 206 {
        return Ok(None);
    }
    if text(response.headers(), header::CONTENT_TYPE).is_some_and(|kind| kind.starts_with("text/html")) {
        return Err(page());
    }
    let (Some(mark), Some((sent, size))) = (mark(response.headers()), sent(&response)) else {
        return Ok(None);
    };
    if sent.end != size || size.checked_sub(sent.start).is_none_or(|length| length > END) {
        return Ok(None);
    }
    let mut end = Vec::new();
    if append(response, &mut end, size - sent.start).is_err() {
        // It is asked for again with what it belongs to.
        end.clear();
    }
    Ok(Some(file(address.to_owned(), mark, size).with_end(end)))
}

/// The version of a file that has a mark, of so many bytes.
pub(super) fn file(address: String, mark: String, size: u64) -> StoredFile {
    StoredFile::new(size, move |range| part(&address, &mark, &range, size))
}

/// The bytes of a range; where a connection breaks off, the rest of them is asked for, as often as that gets further.
fn part(address: &str, mark: &str, range: &Range<u64>, size: u64) -> Result<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut attempt = 1;
    loop {
        let rest = range.start + bytes.len() as u64..range.end;
        let wanted = format!("bytes={}-{}", rest.start, rest.end.saturating_sub(1));
        let response = asked(address, Some(Part { range: &wanted, mark: Some(mark) }))?;
        if sent(&response) != Some((rest, size)) {
            let what = "its server sends another part of it than it was asked for";
            return Err(Error::new(ErrorKind::InvalidData, what));
        }
        let had = bytes.len();
        match append(response, &mut bytes, range.end - range.start) {
            Ok(()) => return Ok(bytes),
            Err(error) if attempt >= ATTEMPTS => return Err(error),
            Err(_) => attempt = if bytes.len() > had { 1 } else { attempt + 1 },
        }
    }
}

/// The range that an answer holds, and the size of the file.
fn sent(response: &Response<Body>) -> Option<(Range<u64>, u64)> {
    let told = text(response.headers(), header::CONTENT_RANGE)?.trim().strip_prefix("bytes ")?;
    let (range, size) = told.split_once('/')?;
    let (first, last) = range.split_once('-')?;
    let end = last.trim().parse::<u64>().ok()?.checked_add(1)?;
    Some((first.trim().parse().ok()?..end, size.trim().parse().ok()?))
}

/// Appends the bytes of an answer to those before; there must be so many then.
fn append(response: Response<Body>, bytes: &mut Vec<u8>, length: u64) -> Result<()> {
    // No more than that is taken, whatever is sent.
    let left = length.saturating_sub(bytes.len() as u64);
    bytes.reserve(usize::try_from(left).unwrap_or(0).min(1 << 26));
    let read = response.into_body().into_reader().take(left).read_to_end(bytes);
    let broken = |why: String| format!("its server broke off after {} of {length} bytes{why}", bytes.len());
    match read {
        Ok(_) if bytes.len() as u64 == length => Ok(()),
        Ok(_) => Err(Error::new(ErrorKind::UnexpectedEof, broken(String::new()))),
        Err(error) => Err(Error::new(error.kind(), broken(format!(" ({error})")))),
    }
}
