//! Addresses on the web, against a server that answers as servers do: well, late, not at all, in pieces, with another file.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod large;
mod ranges;
mod server;

use std::fs;

use churn::{Flow, RunOptions, Scalar, Table};
use rstest::rstest;
use server::{Reply, Server, parts};

fn deliveries(rows: usize) -> String {
    let rows: String =
        (0..rows).map(|i| format!("F{:03},{},2026-01-{:02}\n", i % 7, i, 1 + i % 28)).collect();
    format!("farm,litres,day\n{rows}")
}

fn total(address: &str) -> churn::Result<Table> {
    let recipe = format!("read '{address}'\ntotal: n = count(), s = sum(litres), d = max(day)");
    Flow::recipe(&recipe).run_with(&RunOptions::new().threads(2))
}

fn is_whole(table: &Table, rows: i64) {
    assert_eq!(table.value(0, "n").unwrap(), Scalar::Int(rows));
    assert_eq!(table.value(0, "s").unwrap(), Scalar::Int(rows * (rows - 1) / 2));
}

#[rstest]
#[case::csv("milk.csv", 1)]
#[case::with_a_query("milk.csv?key=secret", 1)]
#[case::without_an_ending("download", 1)]
#[case::compressed("milk.csv.gz", 1)]
#[case::ndjson("milk.ndjson", 1)]
#[case::json("milk.json", 1)]
// Its end comes first, and with it all of a small file.
#[case::parquet("milk.parquet", 1)]
#[case::avro("milk.avro", 1)]
#[case::arrow("milk.arrow", 1)]
#[case::workbook("milk.xlsx", 1)]
fn every_format_is_read(#[case] name: &str, #[case] requests: usize) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), deliveries(500)).unwrap();
    let file = if name.contains('.') { name.split('?').next().unwrap() } else { "t.csv" };
    if file != "t.csv" {
        Flow::recipe(&format!("read 't.csv'\nwrite '{file}'")).in_folder(folder.path()).run().unwrap();
    }
    let server = Server::of(fs::read(folder.path().join(file)).unwrap());
    is_whole(&total(&format!("{}/{name}", server.address)).unwrap(), 500);
    assert_eq!(server.asked(), requests);
}

#[test]
fn an_address_stands_where_a_file_does() {
    let server = Server::of(deliveries(20).into_bytes());
    let address = format!("{}/milk.csv", server.address);
    let recipe = format!(
        "table milk\n  read '{address}' with (types = (farm text))\nvalues farm: ('F001'), ('F005')\n\
         join '{address}' on farm\njoin semi milk on farm\ngroup by farm: n = count()"
    );
    let table = Flow::recipe(&recipe).run().unwrap();
    assert_eq!(table.values("n").unwrap(), [Scalar::Int(3), Scalar::Int(3)]);
    assert_eq!(Flow::read(&address).run().unwrap().len(), 20);
    let plan = Flow::read(&address).plan().unwrap();
    assert_eq!(plan.columns().map(|(name, _)| name).collect::<Vec<_>>(), ["farm", "litres", "day"]);
}

/// A connection that breaks off is taken up where it was, as often as it gets further.
#[rstest]
#[case::text("milk.csv")]
#[case::columnar("milk.parquet")]
fn what_breaks_off_is_taken_up(#[case] name: &str) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), deliveries(60_000)).unwrap();
    Flow::recipe(&format!("read 't.csv'\nwrite '{name}'")).in_folder(folder.path()).run().unwrap();
    let body = fs::read(folder.path().join(name)).unwrap();
    let piece = body.len() / 6 + 1;
    let server =
        Server::start(move |request, _| Reply { hangs_up_after: Some(piece), ..parts(request, &body) });
    is_whole(&total(&format!("{}/{name}", server.address)).unwrap(), 60_000);
    let requests = server.requests.lock().unwrap();
    assert!(requests.len() >= 6 || name.ends_with(".parquet"), "{}", requests.len());
    assert!(requests.iter().skip(1).all(|request| request.range.is_some() && request.if_range.is_some()));
}

/// However little a server sends before it hangs up, the bytes are those of the file; if that is nothing, it is told.
#[rstest]
fn a_server_may_hang_up_anywhere(#[values(1, 2, 3, 17, 100, 511, 512, 513)] after: usize) {
    let body = deliveries(40).into_bytes();
    let server =
        Server::start(move |request, _| Reply { hangs_up_after: Some(after), ..parts(request, &body) });
    is_whole(&total(&format!("{}/milk.csv", server.address)).unwrap(), 40);
}

#[test]
fn a_server_that_never_gets_further_is_told() {
    let body = deliveries(40).into_bytes();
    let server = Server::start(move |request, before| Reply {
        hangs_up_after: Some(if before == 0 { 600 } else { 0 }),
        ..parts(request, &body)
    });
    let error = total(&format!("{}/milk.csv", server.address)).unwrap_err().to_string();
    assert!(error.contains("broke off after 600 of"), "{error}");
    assert!(server.asked() <= 6, "{}", server.asked());
}

#[rstest]
#[case::too_busy(503, "Retry-After: 0")]
#[case::too_often(429, "Retry-After: 0")]
#[case::broken(500, "X: y")]
fn another_attempt_may_help(#[case] status: u16, #[case] header: &str) {
    let header = header.to_owned();
    let server = Server::start(move |request, before| match before {
        0 | 1 => {
            Reply { status, headers: vec![header.clone()], body: b"busy".to_vec(), hangs_up_after: None }
        }
        _ => parts(request, deliveries(30).as_bytes()),
    });
    is_whole(&total(&format!("{}/milk.csv", server.address)).unwrap(), 30);
    assert_eq!(server.asked(), 3);
}

#[test]
fn redirects_are_followed() {
    let server = Server::start(|request, _| match request.path.as_str() {
        "/milk.csv" => {
            Reply { status: 302, headers: vec!["Location: /elsewhere".into()], ..Reply::default() }
        }
        _ => parts(request, deliveries(30).as_bytes()),
    });
    is_whole(&total(&format!("{}/milk.csv", server.address)).unwrap(), 30);
}

fn always(status: u16, headers: &[&str], body: &str, hangs_up_after: Option<usize>) -> Server {
    let headers: Vec<String> = headers.iter().map(|header| (*header).to_owned()).collect();
    let body = body.as_bytes().to_vec();
    Server::start(move |_, _| Reply { status, headers: headers.clone(), body: body.clone(), hangs_up_after })
}

#[rstest]
#[case::nothing_there(always(404, &[], "no", None), "has nothing there (status 404)")]
#[case::no_right(always(403, &[], "no", None), "gives no right to read it (status 403)")]
#[case::always_busy(always(503, &["Retry-After: 0"], "", None), "cannot answer now (status 503), also after 4 attempts")]
#[case::a_page(always(200, &["Content-Type: text/html"], "<!DOCTYPE html><p>Milk", None), "gives an HTML page, not a file")]
#[case::a_page_without_a_type(always(200, &[], "\n <html><body>", None), "gives an HTML page, not a file")]
#[case::leads_on_without_end(always(302, &["Location: /milk.csv"], "", None), "leads on more than 10 times")]
#[case::breaks_off(always(200, &[], "farm,litres,day\nF1,1,2026-01-01\n", Some(20)), "broke off after 20 of 32 bytes")]
#[case::longer_than_it_is(always(200, &["Content-Length: 99"], "farm,litres,day\n", None), "broke off after 16 of 99 bytes")]
#[case::odd(always(418, &[], "", None), "answers with the status 418")]
fn what_stands_in_the_way_is_told(#[case] server: Server, #[case] expected: &str) {
    let address = server.address.replace("http://", "http://me:secret@");
    let error = total(&format!("{address}/milk.csv?key=secret")).unwrap_err().to_string();
    assert!(error.contains(expected) && error.contains("/milk.csv?… cannot be read"), "{error}");
    let told: Vec<&str> = error.lines().filter(|line| !line.contains("read '")).collect();
    assert!(told.iter().all(|line| !line.contains("secret")), "{error}");
}

#[test]
fn another_file_is_told() {
    let body = deliveries(60_000).into_bytes();
    let server = Server::start(move |request, before| match before {
        0 => Reply { hangs_up_after: Some(body.len() / 2), ..parts(request, &body) },
        // What is there now has another mark, and is sent from its start.
        _ => Reply {
            status: 200,
            headers: vec!["ETag: \"8\"".into()],
            body: body.clone(),
            hangs_up_after: None,
        },
    });
    let error = total(&format!("{}/milk.csv", server.address)).unwrap_err().to_string();
    assert!(error.contains("it changed while it was read"), "{error}");
}

#[rstest]
#[case::no_such_server("http://no-such-server.invalid/milk.csv", "")]
#[case::nobody_listens("http://127.0.0.1:1/milk.csv", "cannot be reached")]
#[case::no_address("http:///milk.csv", "")]
fn no_server(#[case] address: &str, #[case] expected: &str) {
    let error = total(address).unwrap_err().to_string();
    assert!(error.contains("cannot be read") && error.contains(expected), "{error}");
}

#[test]
fn addresses_are_not_written() {
    let error =
        Flow::recipe("values a: (1)\nwrite 'http://127.0.0.1:1/a.csv'").run().unwrap_err().to_string();
    assert!(error.contains("Addresses of http:// are read, not written."), "{error}");
}
