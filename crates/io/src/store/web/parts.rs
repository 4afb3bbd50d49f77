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
    let mut end = vec![0; usize::try_from(size - sent.start).map_err(Error::other)?];
    if fill(response, &mut end, &mut 0).is_err() {
        // It is asked for again with what it belongs to.
        end.clear();
    }
    Ok(Some(file(address.to_owned(), mark, size).with_end(end)))
}

/// The version of a file that has a mark, of so many bytes.
pub(super) fn file(address: String, mark: String, size: u64) -> StoredFile {
    StoredFile::new(size, move |at, into| part(&address, &mark, (at, size), into))
}

/// Reads the bytes from a place on; where a connection breaks off, the rest of them is asked for, as often as that gets further.
fn part(address: &str, mark: &str, (at, size): (u64, u64), into: &mut [u8]) -> Result<()> {
    let end = at + into.len() as u64;
    let (mut read, mut attempt) = (0, 1);
    loop {
        let rest = at + read as u64..end;
        let wanted = format!("bytes={}-{}", rest.start, rest.end.saturating_sub(1));
        let response = asked(address, Some(Part { range: &wanted, mark: Some(mark) }))?;
        if sent(&response) != Some((rest, size)) {
            let what = "its server sends another part of it than it was asked for";
            return Err(Error::new(ErrorKind::InvalidData, what));
        }
        let had = read;
        match fill(response, into, &mut read) {
            Ok(()) => return Ok(()),
            Err(error) if attempt >= ATTEMPTS => return Err(error),
            Err(_) => attempt = if read > had { 1 } else { attempt + 1 },
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

/// Reads an answer into what is left of a buffer, of which so many bytes were read before; no more of it, whatever is sent.
fn fill(response: Response<Body>, into: &mut [u8], read: &mut usize) -> Result<()> {
    let mut reader = response.into_body().into_reader();
    let length = into.len();
    while let Some(rest) = into.get_mut(*read..).filter(|rest| !rest.is_empty()) {
        let (kind, why) = match reader.read(rest) {
            Ok(0) => (ErrorKind::UnexpectedEof, String::new()),
            Ok(more) => {
                *read += more;
                continue;
            }
            Err(error) if error.kind() == ErrorKind::Interrupted => continue,
            Err(error) => (error.kind(), format!(" ({error})")),
        };
        return Err(Error::new(kind, format!("its server broke off after {read} of {length} bytes{why}")));
    }
    // The connection is used again once the end of the answer was seen.
    let _ = reader.read(&mut [0]);
    Ok(())
}
