//! What a server answers: asked for again where that may help, taken up where it broke off.

use std::io::{Error, ErrorKind, Read, Result};
use std::sync::LazyLock;
use std::time::Duration;

use churn_core::cancel;
use ureq::http::{HeaderMap, Response, header};
use ureq::tls::{RootCerts, TlsConfig};
use ureq::{Agent, Body};

use super::pump::Pump;

/// How often an answer is asked for, and how long is waited before the second time; each time after it twice as long.
const ATTEMPTS: u32 = 4;
const WAIT: Duration = Duration::from_millis(300);

/// The longest that a server may ask to be left alone.
const LONGEST_WAIT: Duration = Duration::from_secs(30);

/// How long a server may take to be reached, to begin its answer, and to send nothing.
const CONNECT: Duration = Duration::from_secs(20);
const BEGIN: Duration = Duration::from_secs(60);
const SILENT: Duration = Duration::from_secs(60);

/// Redirects that are followed.
const REDIRECTS: u32 = 10;

/// Connections with the certificates and the proxy that the system has.
static AGENT: LazyLock<Agent> = LazyLock::new(|| {
    let tls = TlsConfig::builder().root_certs(RootCerts::PlatformVerifier).build();
    let config = Agent::config_builder()
        .http_status_as_error(false)
        .max_redirects(REDIRECTS)
        .tls_config(tls)
        .timeout_connect(Some(CONNECT))
        .timeout_recv_response(Some(BEGIN))
        .timeout_per_read(Some(SILENT))
        .user_agent(concat!("churn/", env!("CARGO_PKG_VERSION")))
        // What is compressed is told by its first bytes, as in files.
        .accept_encoding("identity")
        .build();
    config.new_agent()
});

/// Why there is no answer, and whether another attempt may help: at once, or after a while.
struct Refusal {
    error: Error,
    again: Option<Option<Duration>>,
}

/// The bytes at an address.
pub(super) fn open(address: &str) -> Result<Box<dyn Read + Send>> {
    let address = address.to_owned();
    let response = asked(&address, None)?;
    let mut answer = Answer {
        length: response.body().content_length(),
        mark: mark(response.headers()),
        address,
        from: Pump::start(response.into_body().into_reader())?,
        at: 0,
        resumed: 0,
    };
    let mut first = Vec::new();
    (&mut answer).take(512).read_to_end(&mut first)?;
    if is_page(&first) {
        return Err(Error::new(ErrorKind::InvalidData, "this address gives an HTML page, not a file"));
    }
    Ok(Box::new(std::io::Cursor::new(first).chain(answer)))
}

/// Asks for an address, from a place on if it was read to there; several times where that may help.
fn asked(address: &str, from: Option<(u64, &str)>) -> Result<Response<Body>> {
    let mut wait = WAIT;
    for attempt in 1.. {
        let Refusal { error, again } = match once(address, from) {
            Ok(response) => return Ok(response),
            Err(refusal) => refusal,
        };
        let Some(asked_for) = again.filter(|_| attempt < ATTEMPTS) else { return Err(error) };
        pause(asked_for.unwrap_or(wait).min(LONGEST_WAIT))?;
        wait *= 2;
    }
    Err(Error::other("no answer was asked for"))
}

fn pause(time: Duration) -> Result<()> {
    let start = std::time::Instant::now();
    while start.elapsed() < time {
        if cancel::is_asked() {
            return Err(Error::other("the run was stopped"));
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok(())
}

fn once(address: &str, from: Option<(u64, &str)>) -> std::result::Result<Response<Body>, Refusal> {
    let mut request = AGENT.get(address);
    if let Some((at, mark)) = from {
        request = request.header(header::RANGE, format!("bytes={at}-")).header(header::IF_RANGE, mark);
    }
    let response = request.call().map_err(refused)?;
    let status = response.status().as_u16();
    let never = |what: String| Refusal { error: Error::other(what), again: None };
    match (status, from) {
        (200, None) | (206, Some(_)) => Ok(response),
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
    let (kind, what, is_passing) = match &error {
        ureq::Error::HostNotFound => (ErrorKind::NotFound, "no server has this name".to_owned(), false),
        ureq::Error::TooManyRedirects => {
            (ErrorKind::InvalidData, format!("its server leads on more than {REDIRECTS} times"), false)
        }
        ureq::Error::Timeout(_) => {
            (ErrorKind::TimedOut, "its server does not answer in time".to_owned(), true)
        }
        ureq::Error::Io(error) => (error.kind(), format!("its server cannot be reached ({error})"), true),
        ureq::Error::ConnectionFailed => {
            (ErrorKind::ConnectionRefused, "its server cannot be reached".to_owned(), true)
        }
        ureq::Error::BadUri(_) | ureq::Error::Http(_) => {
            (ErrorKind::InvalidInput, "it is no address".to_owned(), false)
        }
        error => (ErrorKind::Other, format!("its server cannot be understood ({error})"), false),
    };
    Refusal { error: Error::new(kind, what), again: is_passing.then_some(None) }
}

/// What tells that a file is still the same, if its server can send a part of it.
fn mark(headers: &HeaderMap) -> Option<String> {
    let text = |name| headers.get(name)?.to_str().ok().map(str::to_owned);
    let sends_parts = text(header::ACCEPT_RANGES).is_some_and(|unit| unit.eq_ignore_ascii_case("bytes"));
    let tag = text(header::ETAG).filter(|tag| !tag.starts_with("W/"));
    tag.or_else(|| text(header::LAST_MODIFIED)).filter(|_| sends_parts)
}

/// Whether bytes are the start of a page for people.
fn is_page(first: &[u8]) -> bool {
    let text = first.strip_prefix(b"\xef\xbb\xbf").unwrap_or(first).trim_ascii_start();
    let starts =
        |with: &str| text.get(..with.len()).is_some_and(|start| start.eq_ignore_ascii_case(with.as_bytes()));
    starts("<!doctype html") || starts("<html") || starts("<head")
}

/// The bytes of an answer, from where it is.
struct Answer {
    address: String,
    from: Pump,
    /// Bytes that were read, and those of the whole, where that is told.
    at: u64,
    length: Option<u64>,
    mark: Option<String>,
    /// How often it was taken up without a byte since.
    resumed: u32,
}

impl Answer {
    /// Takes the answer up where it broke off.
    fn resume(&mut self, broken: Error) -> Result<()> {
        let told = |broken: Error, at: u64, length: Option<u64>| {
            let of = length.map(|length| format!(" of {length}")).unwrap_or_default();
            Error::new(broken.kind(), format!("its server broke off after {at}{of} bytes ({broken})"))
        };
        let Some(mark) = self.mark.clone().filter(|_| self.resumed < ATTEMPTS) else {
            return Err(told(broken, self.at, self.length));
        };
        if cancel::is_asked() {
            return Err(broken);
        }
        self.resumed += 1;
        let response = asked(&self.address, Some((self.at, &mark)))?;
        self.from = Pump::start(response.into_body().into_reader())?;
        Ok(())
    }
}

impl Read for Answer {
    fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        loop {
            let broken = match self.from.read(into) {
                Ok(0) if into.is_empty() || self.length.is_none_or(|length| self.at >= length) => {
                    return Ok(0);
                }
                Ok(0) => Error::new(ErrorKind::UnexpectedEof, "the connection was closed"),
                Ok(read) => {
                    (self.at, self.resumed) = (self.at + read as u64, 0);
                    return Ok(read);
                }
                Err(error) => error,
            };
            if cancel::is_asked() {
                return Err(broken);
            }
            self.resume(broken)?;
        }
    }
}
