//! A bucket, and the place in it that an address means.

use std::io::{Error, ErrorKind, Result};
use std::net::{SocketAddr, TcpStream};
use std::sync::LazyLock;
use std::time::Duration;

use object_store::path::Path;
use object_store::{BackoffConfig, ObjectStore, RetryConfig};

use super::{az, gs, s3};

/// A kind of object store.
pub(super) struct Kind {
    /// What its addresses begin with.
    pub(super) scheme: &'static str,
    /// Opens a bucket by its name; no request is sent.
    pub(super) open: fn(&str) -> Result<Bucket>,
    /// What to do where no keys were found, for a message.
    pub(super) keys: &'static str,
    /// Whether the last bytes of an object can be asked for without its size.
    pub(super) gives_ends: bool,
}

/// The kinds; the line to add for a new one.
pub(super) const KINDS: [&Kind; 3] = [&s3::KIND, &gs::KIND, &az::KIND];

/// A bucket.
#[derive(Debug)]
pub(super) struct Bucket {
    pub(super) store: Box<dyn ObjectStore>,
    /// Whether requests are signed with keys.
    pub(super) has_keys: bool,
}

/// What an address means.
pub(super) struct Place {
    pub(super) kind: &'static Kind,
    /// The scheme and the bucket's name, as the address has them.
    pub(super) before: String,
    pub(super) bucket: Bucket,
    /// The name of an object, or a pattern.
    pub(super) key: String,
}

impl Place {
    /// The place of an address.
    ///
    /// # Errors
    /// It names no bucket; what the environment says of the store does not go together.
    pub(super) fn of(address: &str) -> Result<Place> {
        let wrong = |what: &str| Error::new(ErrorKind::InvalidInput, what.to_owned());
        let (scheme, rest) = address.split_once("://").ok_or_else(|| wrong("it is no address"))?;
        let kind = KINDS.into_iter().find(|kind| scheme.eq_ignore_ascii_case(kind.scheme));
        let kind = kind.ok_or_else(|| wrong("it is no address"))?;
        let (name, key) = rest.split_once('/').unwrap_or((rest, ""));
        if name.is_empty() {
            return Err(wrong("it names no bucket"));
        }
        let before = format!("{scheme}://{name}/");
        Ok(Place { kind, before, bucket: (kind.open)(name)?, key: key.to_owned() })
    }

    /// The object.
    ///
    /// # Errors
    /// The address names none, or by a name that no object may have.
    pub(super) fn object(&self) -> Result<Path> {
        let wrong = |what: String| Error::new(ErrorKind::InvalidInput, what);
        if self.key.is_empty() || self.key.ends_with('/') {
            return Err(wrong("it names no object".to_owned()));
        }
        Path::parse(&self.key)
            .map_err(|_| wrong("a part of its object's name is empty, or a point or two".to_owned()))
    }
}

/// How a request is repeated that may succeed later.
pub(super) fn retries() -> RetryConfig {
    let backoff = BackoffConfig {
        init_backoff: Duration::from_millis(200),
        max_backoff: Duration::from_secs(10),
        base: 2.0,
    };
    RetryConfig { backoff, max_retries: 4, retry_timeout: Duration::from_secs(120) }
}

/// Whether an environment variable is set, and not empty.
pub(super) fn variable(name: &str) -> Option<String> {
    std::env::var(name).ok().filter(|value| !value.is_empty())
}

/// Whether a variable is set to yes.
pub(super) fn is_yes(name: &str) -> bool {
    variable(name).is_some_and(|value| ["1", "true", "yes"].contains(&value.to_ascii_lowercase().as_str()))
}

/// Whether this machine is one of a cloud, which gives its programs keys: a server of them answers at once, and only there.
pub(super) fn is_in_cloud() -> bool {
    static ANSWERS: LazyLock<bool> = LazyLock::new(|| {
        let address = SocketAddr::from(([169, 254, 169, 254], 80));
        TcpStream::connect_timeout(&address, Duration::from_millis(300)).is_ok()
    });
    !is_yes("AWS_EC2_METADATA_DISABLED") && *ANSWERS
}

/// The error of settings that do not go together.
pub(super) fn unfit(error: &object_store::Error) -> Error {
    let mut innermost: &dyn std::error::Error = error;
    while let Some(source) = innermost.source() {
        innermost = source;
    }
    Error::new(ErrorKind::InvalidInput, format!("the settings of its store do not go together ({innermost})"))
}
