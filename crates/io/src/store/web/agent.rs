//! What sends requests, and what its failures are in words.

use std::io::{Error, ErrorKind};
use std::sync::LazyLock;
use std::time::Duration;

use ureq::Agent;
use ureq::tls::{RootCerts, TlsConfig};
use ureq::unversioned::resolver::DefaultResolver;
use ureq::unversioned::transport::{Connector, DefaultConnector};

use super::cancellable::CancellableConnector;

/// How long a server may take to be reached, to begin its answer, and to send nothing.
const CONNECT: Duration = Duration::from_secs(20);
const BEGIN: Duration = Duration::from_secs(60);
const SILENT: Duration = Duration::from_secs(60);

/// Connections to one server that are kept for the next request.
const IDLE: usize = 16;

/// Bytes that a connection is read by: they are copied out of a near cache.
const BUFFER: usize = 64 << 10;

/// Redirects that are followed.
const REDIRECTS: u32 = 10;

/// Connections with the certificates and the proxy that the system has.
pub(crate) static AGENT: LazyLock<Agent> = LazyLock::new(|| {
    let tls = TlsConfig::builder().root_certs(RootCerts::PlatformVerifier).build();
    let config = Agent::config_builder()
        .http_status_as_error(false)
        .max_redirects(REDIRECTS)
        .tls_config(tls)
        .timeout_connect(Some(CONNECT))
        .timeout_recv_response(Some(BEGIN))
        .timeout_per_read(Some(SILENT))
        .max_idle_connections_per_host(IDLE)
        .input_buffer_size(BUFFER)
        .user_agent(concat!("churn/", env!("CARGO_PKG_VERSION")))
        // What is compressed is told by its first bytes, as in files.
        .accept_encoding("identity")
        .build();
    let connector = DefaultConnector::default().chain(CancellableConnector);
    Agent::with_parts(config, connector, DefaultResolver::default())
});

/// Why a request was not answered, and whether another attempt may help.
pub(crate) fn failure(error: &ureq::Error) -> (Error, bool) {
    let (kind, what, is_passing) = match error {
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
    (Error::new(kind, what), is_passing)
}
