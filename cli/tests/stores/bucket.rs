//! A bucket that answers as object stores do, in the XML that S3 and others share, and that fails where a test wants it to.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};

/// A request, as far as a test looks at it.
#[derive(Clone, Debug)]
pub struct Request {
    /// The method and the target: `GET /dairy/milk.csv`.
    pub line: String,
    pub is_signed: bool,
}

/// What goes wrong with an answer.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Fault {
    None,
    /// Another status, with nothing but it.
    Status(u16),
    /// The connection ends after so many bytes of the body.
    HangUp(usize),
    /// The tag of the object is another one.
    OtherTag,
    /// The answer never comes.
    Stall,
}

#[derive(Debug, Default)]
struct Objects {
    whole: BTreeMap<String, Vec<u8>>,
    /// The parts of uploads that have not ended.
    parts: BTreeMap<(String, u32), Vec<u8>>,
}

/// The server.
pub struct Bucket {
    pub address: String,
    objects: Arc<Mutex<Objects>>,
    requests: Arc<Mutex<Vec<Request>>>,
}

type Faults = dyn Fn(&Request, usize) -> Fault + Send + Sync;

impl Bucket {
    /// A bucket `dairy`; what goes wrong is told by each request and the number of those before it.
    pub fn start(faults: impl Fn(&Request, usize) -> Fault + Send + Sync + 'static) -> Bucket {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("http://{}", listener.local_addr().unwrap());
        let bucket = Bucket { address, objects: Arc::default(), requests: Arc::default() };
        let (objects, requests, faults) = (bucket.objects.clone(), bucket.requests.clone(), Arc::new(faults));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (objects, requests, faults) = (objects.clone(), requests.clone(), faults.clone());
                std::thread::spawn(move || serve(stream, &objects, &requests, &*faults));
            }
        });
        bucket
    }

    pub fn put(&self, name: &str, bytes: &[u8]) {
        self.objects.lock().unwrap().whole.insert(name.to_owned(), bytes.to_vec());
    }

    pub fn get(&self, name: &str) -> Option<Vec<u8>> {
        self.objects.lock().unwrap().whole.get(name).cloned()
    }

    /// Parts of uploads that neither ended nor were given up.
    pub fn left_parts(&self) -> usize {
        self.objects.lock().unwrap().parts.len()
    }

    pub fn requests(&self) -> Vec<Request> {
        self.requests.lock().unwrap().clone()
    }
}

/// The status, further headers, and the body of an answer.
type Answer = (u16, String, Vec<u8>);

fn serve(mut stream: TcpStream, objects: &Mutex<Objects>, requests: &Mutex<Vec<Request>>, faults: &Faults) {
    let mut reader = BufReader::new(stream.try_clone().unwrap());
    let mut lines = reader.by_ref().lines();
    let Some(Ok(first)) = lines.next() else { return };
    let headers: Vec<(String, String)> = lines
        .map_while(Result::ok)
        .take_while(|line| !line.is_empty())
        .filter_map(|line| line.split_once(": ").map(|(n, v)| (n.to_ascii_lowercase(), v.to_owned())))
        .collect();
    let header = |name: &str| headers.iter().find(|(n, _)| n == name).map(|(_, value)| value.as_str());
    let length = header("content-length").and_then(|length| length.parse().ok()).unwrap_or(0);
    let mut body = Vec::new();
    reader.take(length).read_to_end(&mut body).unwrap();
    let line = first.rsplit_once(' ').unwrap().0.to_owned();
    let request = Request { line, is_signed: header("authorization").is_some() };
    let before = {
        let mut seen = requests.lock().unwrap();
        seen.push(request.clone());
        seen.len() - 1
    };
    let fault = faults(&request, before);
    if fault == Fault::Stall {
        std::thread::sleep(std::time::Duration::from_secs(100));
    }
    let (status, mut told, body) = match fault {
        Fault::Status(status) => (status, String::new(), Vec::new()),
        _ => answer(&request.line, header("range"), body, &mut objects.lock().unwrap()),
    };
    let wanted = header("if-match").is_none_or(|tag| tag == "\"7\"");
    told.push_str(if fault == Fault::OtherTag { "ETag: \"8\"\r\n" } else { "ETag: \"7\"\r\n" });
    let (status, body) = if wanted { (status, body) } else { (412, Vec::new()) };
    let head = format!(
        "HTTP/1.1 {status} x\r\nLast-Modified: Sun, 29 Nov 2026 08:00:00 GMT\r\n{told}Content-Length: {}\r\n\
         Connection: close\r\n\r\n",
        body.len()
    );
    let sent = match fault {
        Fault::HangUp(after) => &body[..after.min(body.len())],
        _ => &body[..],
    };
    let is_head = request.line.starts_with("HEAD");
    // Whoever asks may go away before the end.
    let _ =
        stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(if is_head { &[] } else { sent }));
}

fn answer(line: &str, range: Option<&str>, body: Vec<u8>, objects: &mut Objects) -> Answer {
    let (method, target) = line.split_once(' ').unwrap();
    let (path, query) = target.split_once('?').unwrap_or((target, ""));
    let path = decoded(path);
    let name = path.trim_start_matches('/').strip_prefix("dairy").unwrap_or_default().trim_start_matches('/');
    let part = query.split('&').find_map(|pair| pair.strip_prefix("partNumber="));
    let plain = |text: String| (200, String::new(), text.into_bytes());
    match (method, part) {
        ("PUT", Some(part)) => {
            objects.parts.insert((name.to_owned(), part.parse().unwrap()), body);
            plain(String::new())
        }
        ("PUT", None) => {
            objects.whole.insert(name.to_owned(), body);
            plain(String::new())
        }
        ("POST", _) if query.starts_with("uploads") => {
            let told = format!("<Bucket>dairy</Bucket><Key>{name}</Key><UploadId>1</UploadId>");
            plain(format!("<InitiateMultipartUploadResult>{told}</InitiateMultipartUploadResult>"))
        }
        ("POST", _) => {
            let all = objects.parts.iter().filter(|((of, _), _)| of == name);
            let whole = all.flat_map(|(_, bytes)| bytes.clone()).collect();
            objects.whole.insert(name.to_owned(), whole);
            objects.parts.clear();
            let told = "<Location>x</Location><Bucket>dairy</Bucket><Key>x</Key><ETag>\"7\"</ETag>";
            plain(format!("<CompleteMultipartUploadResult>{told}</CompleteMultipartUploadResult>"))
        }
        ("DELETE", _) => {
            objects.parts.clear();
            (204, String::new(), Vec::new())
        }
        _ if query.contains("list-type") => plain(list(query, objects)),
        _ => match objects.whole.get(name) {
            Some(whole) => part_of(whole, range),
            None => (404, String::new(), b"<Error><Code>NoSuchKey</Code></Error>".to_vec()),
        },
    }
}

/// A text of an address as it is meant.
fn decoded(text: &str) -> String {
    let mut parts = text.split('%');
    let first = parts.next().unwrap().to_owned();
    parts.fold(first, |text, part| {
        let byte = u8::from_str_radix(&part[..2], 16).unwrap();
        format!("{text}{}{}", char::from(byte), &part[2..])
    })
}

fn part_of(whole: &[u8], range: Option<&str>) -> Answer {
    let Some((first, last)) = range.and_then(|range| range.strip_prefix("bytes=")?.split_once('-')) else {
        return (200, String::new(), whole.to_vec());
    };
    let number = |text: &str| text.parse::<usize>().ok();
    let (start, end) = match (number(first), number(last)) {
        (Some(first), last) => (first, last.map_or(whole.len(), |last| whole.len().min(last + 1))),
        (None, last) => (whole.len().saturating_sub(last.unwrap()), whole.len()),
    };
    if start >= end {
        return (416, String::new(), Vec::new());
    }
    let told = format!("Content-Range: bytes {start}-{}/{}\r\n", end - 1, whole.len());
    (206, told, whole[start..end].to_vec())
}

/// Two objects a page.
fn list(query: &str, objects: &Objects) -> String {
    let value = |name: &str| query.split('&').find_map(|pair| pair.strip_prefix(name)).unwrap_or_default();
    let prefix = decoded(value("prefix="));
    let from = value("continuation-token=").parse::<usize>().unwrap_or(0);
    let all: Vec<_> = objects.whole.iter().filter(|(name, _)| name.starts_with(&prefix)).collect();
    let page = all.iter().skip(from).take(2).map(|(name, bytes)| {
        format!(
            "<Contents><Key>{name}</Key><LastModified>2026-11-29T08:00:00.000Z</LastModified>\
             <ETag>\"7\"</ETag><Size>{}</Size></Contents>",
            bytes.len()
        )
    });
    let page: String = page.collect();
    let next = match from + 2 < all.len() {
        true => format!("<NextContinuationToken>{}</NextContinuationToken>", from + 2),
        false => String::new(),
    };
    format!("<ListBucketResult>{page}{next}</ListBucketResult>")
}
