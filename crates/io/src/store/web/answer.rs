//! What a server answers: asked for again where that may help, taken up where it broke off.

use std::io::{Error, ErrorKind, Read, Result};
use std::time::Duration;

use ureq::Body;
use ureq::http::{HeaderMap, Response, header};

use super::agent::{AGENT, failure};
use super::parts;
use crate::store::resumed::{self, ATTEMPTS, Resumed};
use crate::store::{StoredStream, aside};

/// How long is waited before an answer is asked for the second time; each time after it twice as long.
const WAIT: Duration = Duration::from_millis(300);

/// The longest that a server may ask to be left alone.
const LONGEST_WAIT: Duration = Duration::from_secs(30);

/// Why there is no answer, and whether another attempt may help: at once, or after a while.
struct Refusal {
    error: Error,
    again: Option<Option<Duration>>,
}

/// The bytes at an address.
pub(super) fn open(address: &str) -> Result<StoredStream> {
    let address = address.to_owned();
    let response = asked(&address, None)?;
    let length = response.body().content_length();
    let mark = mark(response.headers()).filter(|_| sends_parts(response.headers()));
    let ask = mark.map(|mark| parts::asking(address, mark, length));
    let mut bytes = Resumed::whole(response.into_body().into_reader(), length, ask.clone());
    let mut first = Vec::new();
    (&mut bytes).take(512).read_to_end(&mut first)?;
    if is_page(&first) {
        return Err(page());
    }
    let stream = StoredStream::new(std::io::Cursor::new(first).chain(bytes));
    Ok(match ask.zip(length) {
        Some((ask, length)) => stream.with_parts(resumed::file(ask, length)),
        None => stream,
    })
}

/// The part of a file that is asked for.
#[derive(Clone, Copy)]
pub(super) struct Part<'a> {
    /// Its range, as a request has it.
    pub(super) range: &'a str,
    /// What tells that the file is still the same, once that is known.
    pub(super) mark: Option<&'a str>,
}

/// Asks for an address or a part of it; several times where that may help. Without a mark a server may send all of it.
pub(super) fn asked(address: &str, part: Option<Part<'_>>) -> Result<Response<Body>> {
    let mut wait = WAIT;
    for attempt in 1.. {
        let Refusal { error, again } = match once(address, part) {
            Ok(response) => return Ok(response),
            Err(refusal) => refusal,
        };
        let Some(asked_for) = again.filter(|_| attempt < ATTEMPTS) else { return Err(error) };
        aside::pause(asked_for.unwrap_or(wait).min(LONGEST_WAIT))?;
        wait *= 2;
    }
    Err(Error::other("no answer was asked for"))
}

fn once(address: &str, part: Option<Part<'_>>) -> std::result::Result<Response<Body>, Refusal> {
    let mut request = AGENT.get(address);
    if let Some(Part { range, mark }) = part {
        request = request.header(header::RANGE, range);
        request = mark.into_iter().fold(request, |request, mark| request.header(header::IF_RANGE, mark));
    }
    let response = request.call().map_err(refused)?;
    let status = response.status().as_u16();
    let never = |what: String| Refusal { error: Error::other(what), again: None };
    match (status, part) {
        (200, None | Some(Part { mark: None, .. })) | (206, Some(_)) => Ok(response),
        // The server sends all of it: it is another file now, or it sends no parts.
        (200, Some(_)) => {
            Err(never("it changed while it was read, or its server sends no parts of it".to_owned()))
        }
        (401 | 403, _) => Err(never(format!("its server gives no right to read it (status {status})"))),
        (404 | 410, _) => Err(never(format!("its server has nothing there (status {status})"))),
        (429 | 500 | 502 | 503 | 504, _) => {
            let wait = response.headers().get(header::RETRY_AFTER);
            let wait =
                wait.and_then(|value| value.to_str().ok()?.trim().parse().ok()).map(Duration::from_secs);
            let error = Error::other(format!(
                "its server cannot answer now (status {status}), also after {ATTEMPTS} attempts"
            ));
            Err(Refusal { error, again: Some(wait) })
        }
        _ => Err(never(format!("its server answers with the status {status}"))),
    }
}

fn refused(error: ureq::Error) -> Refusal {
    let (error, is_passing) = failure(&error);
    Refusal { error, again: is_passing.then_some(None) }
}

/// What tells that a file is still the same: a tag of its content, or the time at which it was changed.
pub(super) fn mark(headers: &HeaderMap) -> Option<String> {
    let tag = text(headers, header::ETAG).filter(|tag| !tag.starts_with("W/"));
    tag.or_else(|| text(headers, header::LAST_MODIFIED)).map(str::to_owned)
}

/// Whether a server says that it can send parts of a file.
fn sends_parts(headers: &HeaderMap) -> bool {
    text(headers, header::ACCEPT_RANGES).is_some_and(|unit| unit.eq_ignore_ascii_case("bytes"))
}

/// The text of a header.
pub(super) fn text(headers: &HeaderMap, name: header::HeaderName) -> Option<&str> {
    headers.get(name)?.to_str().ok()
}

/// The error of an address that gives something for people to read.
pub(super) fn page() -> Error {
    Error::new(ErrorKind::InvalidData, "this address gives an HTML page, not a file")
}

/// Whether bytes are the start of a page for people.
fn is_page(first: &[u8]) -> bool {
    let text = first.strip_prefix(b"\xef\xbb\xbf").unwrap_or(first).trim_ascii_start();
    let starts =
        |with: &str| text.get(..with.len()).is_some_and(|start| start.eq_ignore_ascii_case(with.as_bytes()));
    starts("<!doctype html") || starts("<html") || starts("<head")
}
