//! Parts of a file that a server sends by ranges.

use std::io::{Error, ErrorKind, Read, Result};
use std::ops::Range;
use std::sync::Arc;

use ureq::Body;
use ureq::http::{Response, header};

use super::answer::{Part, asked, mark, page, text};
use crate::store::StoredFile;
use crate::store::resumed::{self, Ask};

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
    let mut answer = response.into_body().into_reader();
    if answer.read_exact(&mut end).is_err() {
        // It is asked for again with what it belongs to.
        end.clear();
    }
    // The connection is used again once the end of the answer was seen.
    let _ = answer.read(&mut [0]);
    Ok(Some(resumed::file(asking(address.to_owned(), mark, Some(size)), size).with_end(end)))
}

/// What asks for ranges of the version of a file that has a mark, of so many bytes if that is known; else for all from a place on.
pub(super) fn asking(address: String, mark: String, size: Option<u64>) -> Arc<Ask> {
    Arc::new(move |range: Range<u64>| {
        let Range { start, end } = range;
        let last = size.map(|_| end.saturating_sub(1).to_string()).unwrap_or_default();
        let wanted = format!("bytes={start}-{last}");
        let response = asked(&address, Some(Part { range: &wanted, mark: Some(&mark) }))?;
        let is_sent = |(sent, whole): (Range<u64>, u64)| match size {
            Some(size) => sent == (start..end) && whole == size,
            None => sent == (start..whole),
        };
        if sent(&response).is_some_and(is_sent) {
            return Ok(response.into_body().into_reader());
        }
        let what = "its server sends another part of it than it was asked for";
        Err(Error::new(ErrorKind::InvalidData, what))
    })
}

/// The range that an answer holds, and the size of the file.
fn sent(response: &Response<Body>) -> Option<(Range<u64>, u64)> {
    let told = text(response.headers(), header::CONTENT_RANGE)?.trim().strip_prefix("bytes ")?;
    let (range, size) = told.split_once('/')?;
    let (first, last) = range.split_once('-')?;
    let end = last.trim().parse::<u64>().ok()?.checked_add(1)?;
    Some((first.trim().parse().ok()?..end, size.trim().parse().ok()?))
}
