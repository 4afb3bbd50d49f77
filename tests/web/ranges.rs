//! Parts of columnar files that are fetched by ranges, and places of large texts.

use std::fmt::Write as _;
use std::fs;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use bytes::Bytes;
use churn::{Flow, RunOptions};
use parquet::file::reader::{FileReader, SerializedFileReader};
use rstest::rstest;

use crate::server::{Reply, Server, parts};

/// Deliveries with a note that no two share, as a file of a format; its rows are in order of `n`.
fn file(name: &str, rows: usize) -> Vec<u8> {
    let mut text = String::from("n,farm,litres,note\n");
    let mut state = 7u64;
    for n in 0..rows {
        state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
        writeln!(text, "{n},F{:03},{},{state:x}{:x}", state % 97, state >> 50, state.rotate_left(17))
            .unwrap();
    }
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), text).unwrap();
    Flow::recipe(&format!("read 't.csv'\nwrite '{name}'")).in_folder(folder.path()).run().unwrap();
    fs::read(folder.path().join(name)).unwrap()
}

/// The bytes of the chunks of some columns, and those of the footer with its index of pages.
fn taken(file: &[u8], columns: &[&str]) -> (usize, usize) {
    let reader = SerializedFileReader::new(Bytes::from(file.to_vec())).unwrap();
    let groups = reader.metadata().row_groups();
    let chunks = groups.iter().flat_map(|group| group.columns());
    let end = chunks.clone().map(|chunk| chunk.byte_range().0 + chunk.byte_range().1).max().unwrap();
    let needed = chunks.filter(|chunk| columns.contains(&chunk.column_path().string().as_str()));
    (needed.map(|chunk| chunk.byte_range().1 as usize).sum(), file.len() - end as usize)
}

#[rstest]
#[case::one_column("total: s = sum(litres)", &["litres"])]
#[case::two("group by farm: s = sum(litres)", &["farm", "litres"])]
#[case::a_condition("filter litres > 100\ntotal: c = count()", &["litres"])]
#[case::all("select n, farm, litres, note\ntotal: a = max(n), b = max(farm), c = max(litres), d = max(note)",
        &["n", "farm", "litres", "note"])]
fn only_what_is_needed_is_fetched(#[case] steps: &str, #[case] columns: &[&str]) {
    let file = file("milk.parquet", 400_000);
    let (needed, footer) = taken(&file, columns);
    let server = Server::of(file);
    let flow = Flow::recipe(&format!("read '{}/milk.parquet'\n{steps}", server.address));
    let run = flow.run_with(&RunOptions::new().threads(2)).unwrap();
    let most = needed * 11 / 10 + footer;
    assert!(server.sent() <= most, "{} of {needed} and {footer}", server.sent());
    // The ledger tells what came.
    let ledger = run.ledger().to_string();
    let told = format!("in {} requests", server.asked());
    assert!(ledger.contains("fetched") && ledger.contains(&told), "{ledger}");
    let plan = flow.plan().unwrap().to_string();
    assert!(plan.contains("fetches "), "{plan}");
}

/// What the rows after those that are being read need is asked for meanwhile, by one thread too.
#[test]
fn what_comes_next_is_fetched_ahead() {
    let file = file("milk.parquet", 600_000);
    let (seen, together) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicBool::new(false)));
    let met = together.clone();
    let server = Server::start(move |request, before| {
        let now = seen.fetch_add(1, Ordering::SeqCst);
        // The end, and then the first rows; the next answer waits for the question after it.
        let start = Instant::now();
        while before == 2 && seen.load(Ordering::SeqCst) == now + 1 && start.elapsed().as_secs() < 5 {
            std::thread::sleep(Duration::from_millis(5));
        }
        met.fetch_or(before == 2 && seen.load(Ordering::SeqCst) > now + 1, Ordering::SeqCst);
        parts(request, &file)
    });
    let recipe = format!("read '{}/milk.parquet'\nselect n\nfilter n mod 2 = 0", server.address);
    let table = Flow::recipe(&recipe).run_with(&RunOptions::new().threads(1)).unwrap();
    assert_eq!(table.len(), 300_000);
    assert!(server.asked() > 3 && together.load(Ordering::SeqCst), "{}", server.asked());
}

/// Row groups and pages that hold no row of the answer are not fetched.
#[test]
fn statistics_save_bytes() {
    let file = file("milk.parquet", 400_000);
    let (needed, footer) = taken(&file, &["n", "note"]);
    let server = Server::of(file);
    let recipe = format!("read '{}/milk.parquet'\nfilter n < 1000\nselect note", server.address);
    assert_eq!(Flow::recipe(&recipe).run().unwrap().len(), 1000);
    assert!(server.sent() < needed / 4 + footer, "{} of {needed} and {footer}", server.sent());
}

/// The answer is that of the file on disk, by any number of threads and any budget, and what cannot be read by parts is copied.
#[rstest]
fn the_same_bytes_come_of_a_file_and_of_an_address(
    #[values("milk.parquet", "milk.arrow", "milk.avro", "milk.csv", "milk.ndjson")] name: &str,
    #[values(true, false)] sends_parts: bool,
    #[values(1, 4)] threads: usize,
) {
    let body = file(name, 30_000);
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join(name), &body).unwrap();
    let server = Server::start(move |request, _| match sends_parts {
        true => parts(request, &body),
        false => Reply { status: 200, body: body.clone(), ..Reply::default() },
    });
    let text = |place: &str, to: &str| {
        let recipe = format!(
            "read '{place}'\ngroup by farm: s = sum(litres / 7), c = count(), last = max(note)\nwrite '{to}'"
        );
        let options = RunOptions::new().threads(threads).memory(64 << 20);
        Flow::recipe(&recipe).in_folder(folder.path()).run_with(&options).unwrap();
        fs::read(folder.path().join(to)).unwrap()
    };
    let expected = text(name, "file.csv");
    assert_eq!(text(&format!("{}/{name}", server.address), "web.csv"), expected);
}

/// Connections that break off within a part are made again, and a server that never sends it whole is told.
#[test]
fn a_part_that_breaks_off_is_asked_for_again() {
    let body = file("milk.parquet", 60_000);
    let whole = body.len();
    let server = Server::start(move |request, before| Reply {
        hangs_up_after: (before % 3 == 1).then_some(100),
        ..parts(request, &body)
    });
    let recipe = format!("read '{}/milk.parquet'\ntotal: c = count(note)", server.address);
    assert_eq!(Flow::recipe(&recipe).run().unwrap().value(0, "c").unwrap().to_string(), "60000");
    assert!(server.sent() < whole, "{}", server.sent());
    let body = file("milk.parquet", 60_000);
    let server = Server::start(move |request, before| Reply {
        hangs_up_after: (before > 0).then_some(if before == 1 { 100 } else { 0 }),
        ..parts(request, &body)
    });
    let recipe = format!("read '{}/milk.parquet'\ntotal: c = count(note)", server.address);
    let error = Flow::recipe(&recipe).run().unwrap_err().to_string();
    assert!(error.contains("broke off after 100 of"), "{error}");
}

/// What is told of a file that is replaced while parts of it are read, and of a server that sends other parts.
#[rstest]
#[case::another_tag("it changed while it was read", "ETag: \"8\"", None)]
#[case::another_part("another part of it", "ETag: \"7\"", Some("Content-Range: bytes 0-9/100000"))]
#[case::no_range("another part of it", "ETag: \"7\"", Some("X: y"))]
fn another_file_is_told(#[case] told: &str, #[case] tag: &str, #[case] range: Option<&str>) {
    let body = file("milk.parquet", 60_000);
    let (tag, range) = (tag.to_owned(), range.map(str::to_owned));
    let server = Server::start(move |request, before| {
        let reply = parts(request, &body);
        match (before, &range) {
            (0, _) => reply,
            (_, Some(range)) => Reply { headers: vec![tag.clone(), range.clone()], ..reply },
            (_, None) => Reply { status: 200, headers: vec![tag.clone()], body: body.clone(), ..reply },
        }
    });
    let recipe = format!("read '{}/milk.parquet'\ntotal: c = count(note)", server.address);
    let error = Flow::recipe(&recipe).run().unwrap_err().to_string();
    assert!(error.contains(told) && error.contains("/milk.parquet cannot be read"), "{error}");
}

/// A server whose parts nothing holds together is asked for the whole; a page in place of a part is told.
#[rstest]
#[case::no_tag(vec![], true)]
#[case::only_a_weak_tag(vec!["ETag: W/\"7\""], true)]
#[case::the_time_of_change(vec!["Last-Modified: Sun, 29 Nov 2026 08:00:00 GMT"], false)]
fn parts_need_what_tells_the_version(#[case] headers: Vec<&str>, #[case] is_copied: bool) {
    let body = file("milk.parquet", 60_000);
    let whole = body.len();
    let headers: Vec<String> = headers.into_iter().map(str::to_owned).collect();
    let server = Server::start(move |request, _| {
        let mut reply = parts(&crate::server::Request { if_range: None, ..request.clone() }, &body);
        reply.headers.retain(|header| !header.starts_with("ETag"));
        reply.headers.extend(headers.clone());
        reply
    });
    let recipe = format!("read '{}/milk.parquet'\ntotal: c = count(litres)", server.address);
    Flow::recipe(&recipe).run().unwrap();
    assert_eq!(server.sent() > whole, is_copied, "{} of {whole}", server.sent());
}

#[test]
fn a_page_is_no_part() {
    let server = Server::start(|_, _| Reply {
        status: 206,
        headers: vec!["Content-Type: text/html".into(), "Content-Range: bytes 0-5/6".into()],
        body: b"<html>".to_vec(),
        ..Reply::default()
    });
    let recipe = format!("read '{}/milk.parquet'", server.address);
    let error = Flow::recipe(&recipe).plan().unwrap_err().to_string();
    assert!(error.contains("gives an HTML page"), "{error}");
}

/// A large text has the types that it has on disk: a value that shows them may stand far behind its start.
#[rstest]
#[case::csv("milk.csv", |n: usize, code: &str| format!("{n},{code},some words that make the row long enough\n"))]
#[case::ndjson("milk.ndjson",
    |n: usize, code: &str| format!("{{\"n\": {n}, \"code\": {code}, \"note\": \"words that make it long enough\"}}\n"))]
fn a_large_text_has_the_types_of_the_file(#[case] name: &str, #[case] row: fn(usize, &str) -> String) {
    let rows = 400_000;
    let last = if name.ends_with("csv") { "A7" } else { "\"A7\"" };
    let mut text = if name.ends_with("csv") { "n,code,note\n".to_owned() } else { String::new() };
    (0..rows).for_each(|n| text.push_str(&row(n, if n + 1 == rows { last } else { "7" })));
    assert!(text.len() > 17 << 20);
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join(name), &text).unwrap();
    let kinds = |place: &str| {
        let plan = Flow::recipe(&format!("read '{place}'")).in_folder(folder.path()).plan().unwrap();
        plan.columns().map(|(name, kind)| format!("{name} {kind}")).collect::<Vec<_>>()
    };
    let expected = kinds(name);
    assert_eq!(expected[1], "code text");
    let server = Server::of(text.into_bytes());
    assert_eq!(kinds(&format!("{}/{name}", server.address)), expected);
}
