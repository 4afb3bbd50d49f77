//! A server for the tour: the files of a folder, to this machine only, as long as the process runs.

use std::io::{BufRead, BufReader, Result, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};

/// Starts it; gives its address.
pub(crate) fn start(folder: &Path) -> Result<String> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let address = format!("http://{}", listener.local_addr()?);
    let folder = folder.canonicalize()?;
    std::thread::Builder::new().name("server".into()).spawn(move || {
        for stream in listener.incoming().flatten() {
            // Whoever asks may go away before the end.
            let _ = answer(stream, &folder);
        }
    })?;
    Ok(address)
}

/// Answers one request with a file of the folder.
fn answer(stream: TcpStream, folder: &Path) -> Result<()> {
    let mut lines = BufReader::new(stream.try_clone()?).lines();
    let first = lines.next().transpose()?.unwrap_or_default();
    for line in lines {
        if line?.is_empty() {
            break;
        }
    }
    let name = first.split(' ').nth(1).unwrap_or_default().trim_start_matches('/');
    let file = asked_for(name, folder).and_then(|path| std::fs::read(path).ok());
    let (status, body) = file.map_or(("404 Not Found", Vec::new()), |body| ("200 OK", body));
    let mut stream = stream;
    write!(stream, "HTTP/1.1 {status}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", body.len())?;
    stream.write_all(&body)
}

/// The file of a name, which leads nowhere else.
fn asked_for(name: &str, folder: &Path) -> Option<PathBuf> {
    let is_plain = !name.is_empty() && !name.starts_with('.') && !name.contains(['/', '\\']);
    is_plain.then(|| folder.join(name))
}
