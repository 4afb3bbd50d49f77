//! Large texts, which are read by ranges where their server sends them.

use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock};

use churn::extend::{Catalogue, Store, StoredFile, StoredStream};
use churn::{Flow, RunOptions};
use rstest::rstest;

use crate::server::{Reply, Request, Server, parts};

/// More deliveries than are looked at as a whole: floats whose sums tell the order in which they were added, and notes with quotes
/// and line breaks.
static MILK: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let mut text = String::from("n,farm,litres,note\n");
    for n in 0..380_000_u64 {
        let odd = n.wrapping_mul(0x9e37_79b9_7f4a_7c15);
        let note = match odd >> 60 {
            0 => "\"cold,\nand \"\"late\"\"\"",
            1 => "\"\n\n\"",
            _ => "delivered as agreed in the morning",
        };
        writeln!(text, "{n},F{:03},{}.{:03},{note}", odd >> 57, odd >> 54 & 1023, odd >> 20 & 1023).unwrap();
    }
    assert!(text.len() > 17 << 20);
    text.into_bytes()
});

/// What a chain over a table writes, run in a folder.
fn written(folder: &Path, read: &str, steps: &str, options: &RunOptions) -> churn::Result<Vec<u8>> {
    let recipe = format!("read '{read}'\n{steps}\nwrite 'out.csv'");
    Flow::recipe(&recipe).in_folder(folder).run_with(options)?;
    Ok(fs::read(folder.join("out.csv")).unwrap())
}

/// The folder of the text as a file.
fn on_disk() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("milk.csv"), &*MILK).unwrap();
    folder
}

fn sent_in_parts(request: &Request, _: usize) -> Reply {
    parts(request, &MILK)
}

/// Each part breaks off after a while, and is taken up there.
fn broken_off(request: &Request, _: usize) -> Reply {
    Reply { hangs_up_after: Some(700_000), ..parts(request, &MILK) }
}

/// It says that it sends parts, and sends all of it whatever is asked for.
fn sent_as_a_whole(_: &Request, _: usize) -> Reply {
    parts(&Request::default(), &MILK)
}

#[rstest]
#[case::in_parts(sent_in_parts)]
#[case::broken_off(broken_off)]
#[case::as_a_whole(sent_as_a_whole)]
fn a_large_text_gives_what_the_file_gives(
    #[case] answer: fn(&Request, usize) -> Reply,
    #[values(
        "group by farm: litres = sum(litres), mean = mean(litres), last = last(n)",
        "filter litres > 1000 and note != 'x'\nselect n, note",
        "filter n mod 7 = 3\nsort litres desc, n\nfirst 1000"
    )]
    steps: &str,
) {
    let folder = on_disk();
    let expected = written(folder.path(), "milk.csv", steps, &RunOptions::new().threads(1)).unwrap();
    let server = Server::start(answer);
    let address = format!("{}/milk.csv", server.address);
    for options in [RunOptions::new().threads(1), RunOptions::new().threads(4).memory(64 << 20)] {
        assert!(written(folder.path(), &address, steps, &options).unwrap() == expected);
    }
}

/// Of what is read by ranges each byte comes once, but for those that the types are inferred from (1 MB), and those of ranges whose
/// start was taken for one within quotes, or the other way round.
#[test]
fn what_is_read_by_ranges_is_fetched_once() {
    let server = Server::start(sent_in_parts);
    let flow =
        Flow::recipe(&format!("read '{}/milk.csv'\ntotal: n = count(), s = sum(litres)", server.address));
    let run = flow.run_with(&RunOptions::new().threads(2)).unwrap();
    let ledger = run.ledger().to_string();
    let fetched = ledger.split("fetched ").nth(1).and_then(|told| told.split(" MB").next()).unwrap();
    let fetched = (fetched.parse::<f64>().unwrap() * 1e6) as usize;
    assert!(
        (MILK.len()..MILK.len() + (4 << 20)).contains(&(fetched + 100_000)),
        "{fetched} of {}",
        MILK.len()
    );
    let requests = server.requests.lock().unwrap().clone();
    assert!(requests.iter().skip(1).all(|request| request.if_range.as_deref() == Some("\"7\"")));
    assert!(ledger.contains(&format!("in {} requests", requests.len())), "{ledger}");
}

/// The line of what is wrong is told as of a file.
#[test]
fn the_place_of_a_bad_cell_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let mut text = MILK.clone();
    let at = text.len() * 3 / 4;
    let end = at + memchr(&text[at..], b"\n37").unwrap();
    text.splice(end + 1..end + 2, *b"x");
    fs::write(folder.path().join("milk.csv"), &text).unwrap();
    let told = |read: &str| {
        let recipe = format!("read '{read}' with (types = (n int))\ntotal: s = sum(n)");
        let error = Flow::recipe(&recipe).in_folder(folder.path()).run().unwrap_err().to_string();
        error.replace(read, "milk.csv")
    };
    let server = Server::start(move |request, _| parts(request, &text));
    let expected = told("milk.csv");
    assert!(expected.contains("'x70000' is not an int") && expected.contains(", line "), "{expected}");
    assert_eq!(told(&format!("{}/milk.csv", server.address)), expected);
}

fn memchr(text: &[u8], wanted: &[u8]) -> Option<usize> {
    text.windows(wanted.len()).position(|part| part == wanted)
}

/// What is replaced, or cannot be read any more, in the middle of a run is told.
#[rstest]
#[case::replaced(|request: &Request| Reply { headers: vec!["ETag: \"8\"".into()], status: 200, ..parts(request, &MILK) },
    "it changed while it was read")]
#[case::gone(|_: &Request| Reply { status: 404, ..Reply::default() }, "has nothing there (status 404)")]
#[case::another_part(|_: &Request| parts(&Request { range: Some("bytes=7-9".into()), ..Request::default() }, &MILK),
    "sends another part of it than it was asked for")]
#[case::ends_early(|request: &Request| Reply { hangs_up_after: Some(0), ..parts(request, &MILK) }, "broke off after 0 of")]
fn what_goes_wrong_in_the_middle_is_told(#[case] later: fn(&Request) -> Reply, #[case] told: &str) {
    let server = Server::start(move |request, before| match before {
        0..80 => parts(request, &MILK),
        _ if request.range.is_none() => parts(request, &MILK),
        _ => later(request),
    });
    let recipe = format!("read '{}/milk.csv'\nfilter litres > 1\ngroup by note: n = count()", server.address);
    let flow = Flow::recipe(&recipe);
    // The types are asked for 63 places; the second run is in the middle of its own.
    let error = flow.run().and_then(|_| flow.run()).unwrap_err().to_string();
    assert!(error.contains(told) && error.contains("/milk.csv cannot be read"), "{error}");
}

/// A store of a user's own, whose files are read by ranges where it gives parts with the stream.
#[derive(Debug)]
struct Vat {
    gives_parts: bool,
    parts: Arc<AtomicUsize>,
}

impl Store for Vat {
    fn schemes(&self) -> Vec<&str> {
        vec!["vat"]
    }

    fn read(&self, address: &str) -> std::io::Result<StoredStream> {
        let stream = StoredStream::new(MILK.as_slice());
        if !self.gives_parts {
            return Ok(stream);
        }
        let (parts, is_cracked) = (self.parts.clone(), address.ends_with("cracked.csv"));
        let read_at = move |at: u64, into: &mut [u8]| {
            let at = usize::try_from(at).unwrap();
            parts.fetch_add(1, Ordering::SeqCst);
            assert!(!is_cracked || at < 12_000_000 || into.len() == 1, "it leaks");
            into.copy_from_slice(&MILK[at..at + into.len()]);
            Ok(())
        };
        Ok(stream.with_parts(StoredFile::new(MILK.len() as u64, read_at)))
    }
}

#[rstest]
fn a_store_of_ones_own_may_give_parts(#[values(true, false)] gives_parts: bool) {
    let parts = Arc::new(AtomicUsize::new(0));
    let catalogue = Catalogue::new().with_store(Vat { gives_parts, parts: parts.clone() }).unwrap();
    let steps = "group by farm: litres = sum(litres), notes = count_distinct(note)\nsort farm";
    let folder = on_disk();
    let expected = Flow::recipe(&format!("read 'milk.csv'\n{steps}")).in_folder(folder.path()).run().unwrap();
    let flow = |name: &str| Flow::recipe(&format!("read 'vat://{name}'\n{steps}")).extended(&catalogue);
    let table = flow("milk.csv").run_with(&RunOptions::new().threads(3)).unwrap();
    assert_eq!(table.to_string(), expected.to_string());
    assert_eq!(parts.load(Ordering::SeqCst) > 0, gives_parts);
    let cracked = flow("cracked.csv").run();
    match gives_parts {
        false => assert_eq!(cracked.unwrap().len(), table.len()),
        true => {
            let error = cracked.unwrap_err().to_string();
            assert!(
                error.contains("vat://cracked.csv cannot be read: its store panicked: it leaks"),
                "{error}"
            );
        }
    }
}
