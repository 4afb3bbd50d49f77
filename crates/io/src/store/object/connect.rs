//! Requests of the crate `object_store`, sent as those to the web are.

use std::io::{Error, ErrorKind, Read};
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::Bytes;
use http_body::{Body, Frame};
use http_body_util::BodyExt;
use object_store::ClientOptions;
use object_store::client::{
    HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpResponse, HttpResponseBody,
    HttpService,
};
use ureq::BodyReader;
use ureq::http::header::CONTENT_LENGTH;
use ureq::http::{Request, Response};

use crate::store::aside;
use crate::store::web::agent::{AGENT, failure};

/// Bytes of an answer that are handed on at once, while they are in a near cache.
const PIECE: usize = 1 << 16;

/// How long the server of a machine's keys may take: it is near, or not there.
const KEYS: Duration = Duration::from_secs(5);

/// Gives the client of the web.
#[derive(Debug)]
pub(super) struct Connector;

impl HttpConnector for Connector {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        Ok(HttpClient::new(Client))
    }
}

#[derive(Debug)]
struct Client;

#[async_trait::async_trait]
impl HttpService for Client {
    /// Sends a request by a thread of its own, so that whoever waits for the answer can stop waiting.
    async fn call(&self, request: HttpRequest) -> Result<HttpResponse, HttpError> {
        let (parts, body) = request.into_parts();
        let body = body.collect().await?.to_bytes();
        let is_for_keys = parts.uri.host().is_some_and(|host| host.starts_with("169.254."));
        let (send, answer) = tokio::sync::oneshot::channel();
        let ask = move || {
            let answer = if body.is_empty() && parts.method != "PUT" && parts.method != "POST" {
                sent(Request::from_parts(parts, ()), is_for_keys)
            } else {
                sent(Request::from_parts(parts, &body[..]), is_for_keys)
            };
            let _ = send.send(answer);
        };
        let lost = |error: std::io::Error| HttpError::new(HttpErrorKind::Unknown, error);
        aside::start(ask).map_err(lost)?;
        let answer = answer.await.map_err(|_| lost(Error::other("an answer was lost")))?;
        let (mut parts, body) = answer.map_err(|error| refused(&error))?.into_parts();
        let length = parts.headers.get(CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse().ok());
        let from = AnswerBody(Arc::new(Mutex::new(Some(body.into_reader()))));
        parts.extensions.insert(from.clone());
        let body = Incoming { from, left: length };
        Ok(Response::from_parts(parts, HttpResponseBody::new(body)))
    }
}

fn sent(
    request: Request<impl ureq::AsSendBody>,
    is_for_keys: bool,
) -> Result<Response<ureq::Body>, ureq::Error> {
    // A signature is for one place: the store's answer that it is another one is told.
    let config = AGENT.configure_request(request).max_redirects(0);
    let config = if is_for_keys { config.timeout_global(Some(KEYS)).proxy(None) } else { config };
    AGENT.run(config.build())
}

fn refused(error: &ureq::Error) -> HttpError {
    let (told, is_passing) = failure(error);
    let kind = match told.kind() {
        ErrorKind::TimedOut => HttpErrorKind::Timeout,
        _ if is_passing => HttpErrorKind::Connect,
        _ => HttpErrorKind::Unknown,
    };
    HttpError::new(kind, told)
}

/// The body of an answer, to be taken from its extensions by who would rather read it than be given pieces of it.
#[derive(Clone)]
pub(super) struct AnswerBody(Arc<Mutex<Option<BodyReader<'static>>>>);

impl AnswerBody {
    /// The body, unless it was taken before.
    pub(super) fn take(&self) -> Option<BodyReader<'static>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

/// The body of an answer, read by the thread that waits for it.
struct Incoming {
    from: AnswerBody,
    /// Bytes that are still to come, where the answer told.
    left: Option<u64>,
}

impl Incoming {
    /// The next bytes; none at the end.
    fn next(&mut self) -> std::io::Result<Vec<u8>> {
        let mut piece = vec![0; self.left.map_or(PIECE, |left| PIECE.min(left as usize))];
        let mut from = self.from.0.lock().unwrap_or_else(PoisonError::into_inner);
        let read = from.as_mut().map_or(Ok(0), |from| from.read(&mut piece))?;
        piece.truncate(read);
        if let Some(left) = &mut self.left {
            if piece.is_empty() && *left > 0 {
                return Err(Error::new(ErrorKind::UnexpectedEof, format!("{left} bytes of it did not come")));
            }
            *left = left.saturating_sub(piece.len() as u64);
        }
        Ok(piece)
    }
}

impl Body for Incoming {
    type Data = Bytes;
    type Error = HttpError;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        _: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, HttpError>>> {
        Poll::Ready(match self.next() {
            Ok(piece) if piece.is_empty() => None,
            Ok(piece) => Some(Ok(Frame::data(Bytes::from(piece)))),
            Err(error) => Some(Err(HttpError::new(HttpErrorKind::Interrupted, error))),
        })
    }
}
