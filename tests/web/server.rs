//! A server that answers as servers do: well, late, not at all, in pieces, with another file.

use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::ops::Range;
use std::sync::{Arc, Mutex};

/// What is asked of the server.
#[derive(Clone, Debug, Default)]
pub struct Request {
    pub path: String,
    /// The part that is asked for, as it stands in the request: `bytes=7-`, `bytes=7-9`, `bytes=-100`.
    pub range: Option<String>,
    pub if_range: Option<String>,
}

impl Request {
    /// The range of a body of so many bytes that is asked for.
    pub fn within(&self, length: usize) -> Option<Range<usize>> {
        let (first, last) = self.range.as_ref()?.strip_prefix("bytes=")?.split_once('-')?;
        let number = |text: &str| text.parse::<usize>().ok();
        match (number(first), number(last)) {
            (Some(first), last) => Some(first..last.map_or(length, |last| length.min(last + 1))),
            (None, Some(last)) => Some(length.saturating_sub(last)..length),
            (None, None) => None,
        }
    }
}

/// What it answers, and after how many bytes of the body it hangs up.
#[derive(Clone, Debug, Default)]
pub struct Reply {
    pub status: u16,
    pub headers: Vec<String>,
    pub body: Vec<u8>,
    pub hangs_up_after: Option<usize>,
}

pub struct Server {
    pub address: String,
    pub requests: Arc<Mutex<Vec<Request>>>,
    /// Bytes of all bodies that were sent.
    pub sent: Arc<Mutex<usize>>,
}

impl Server {
    /// Answers each request by a function of it and of how many came before.
    pub fn start(answer: impl Fn(&Request, usize) -> Reply + Send + Sync + 'static) -> Server {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("http://{}", listener.local_addr().unwrap());
        let (requests, sent): (Arc<Mutex<Vec<Request>>>, Arc<Mutex<usize>>) = Default::default();
        let (seen, bytes, answer) = (requests.clone(), sent.clone(), Arc::new(answer));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (seen, bytes, answer) = (seen.clone(), bytes.clone(), answer.clone());
                std::thread::spawn(move || serve(stream, &seen, &bytes, &*answer));
            }
        });
        Server { address, requests, sent }
    }

    /// Always the same bytes, of which it can send a part.
    pub fn of(body: Vec<u8>) -> Server {
        Server::start(move |request, _| parts(request, &body))
    }

    pub fn asked(&self) -> usize {
        self.requests.lock().unwrap().len()
    }

    pub fn sent(&self) -> usize {
        *self.sent.lock().unwrap()
    }
}

fn serve(
    mut stream: TcpStream,
    seen: &Mutex<Vec<Request>>,
    bytes: &Mutex<usize>,
    answer: &dyn Fn(&Request, usize) -> Reply,
) {
    let mut lines = BufReader::new(stream.try_clone().unwrap()).lines();
    let Some(Ok(first)) = lines.next() else { return };
    let mut request = Request { path: first.split(' ').nth(1).unwrap().to_owned(), ..Request::default() };
    for line in lines.map_while(Result::ok).take_while(|line| !line.is_empty()) {
        let (name, value) = line.split_once(": ").unwrap();
        match name.to_ascii_lowercase().as_str() {
            "range" => request.range = Some(value.to_owned()),
            "if-range" => request.if_range = Some(value.to_owned()),
            _ => {}
        }
    }
    let before = {
        let mut seen = seen.lock().unwrap();
        seen.push(request.clone());
        seen.len() - 1
    };
    let Reply { status, headers, body, hangs_up_after } = answer(&request, before);
    let headers: String = headers.iter().map(|header| format!("{header}\r\n")).collect();
    let length = if headers.contains("Content-Length") || headers.contains("chunked") {
        String::new()
    } else {
        format!("Content-Length: {}\r\n", body.len())
    };
    let head = format!("HTTP/1.1 {status} x\r\n{headers}{length}Connection: close\r\n\r\n");
    let sent = &body[..hangs_up_after.unwrap_or(body.len()).min(body.len())];
    *bytes.lock().unwrap() += sent.len();
    // Whoever asks may go away before the end.
    let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(sent));
}

/// The answer of a server that sends parts of a file whose tag is "7".
pub fn parts(request: &Request, body: &[u8]) -> Reply {
    let mut headers = vec!["Accept-Ranges: bytes".to_owned(), "ETag: \"7\"".to_owned()];
    let is_same = request.if_range.as_deref().is_none_or(|tag| tag == "\"7\"");
    match request.within(body.len()).filter(|range| is_same && !range.is_empty()) {
        Some(range) => {
            headers.push(format!("Content-Range: bytes {}-{}/{}", range.start, range.end - 1, body.len()));
            Reply { status: 206, headers, body: body[range].to_vec(), hangs_up_after: None }
        }
        None => Reply { status: 200, headers, body: body.to_vec(), hangs_up_after: None },
    }
}
