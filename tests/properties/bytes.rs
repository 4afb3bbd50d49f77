//! Files of any bytes at all, and files that were damaged: rows, or an error that names the file; never a crash, never a
//! fault of ours.

use std::fs;

use churn::{ErrorKind, Flow, RunOptions};
use proptest::prelude::*;
use rstest::rstest;
use tempfile::TempDir;

const NAMES: [&str; 16] = [
    "t.csv",
    "t.tsv",
    "t.json",
    "t.ndjson",
    "t.parquet",
    "t.arrow",
    "t.avro",
    "t.xlsx",
    "t.ods",
    "t.xls",
    "t.zip",
    "t.csv.gz",
    "t.csv.zst",
    "t.csv.bz2",
    "t.ndjson.gz",
    "t.csv.xz",
];

/// Runs a file of these bytes; gives the number of rows, if it has any.
fn read(folder: &TempDir, name: &str, bytes: &[u8]) -> Option<usize> {
    fs::write(folder.path().join(name), bytes).unwrap();
    let options = RunOptions::new().threads(2).block_bytes(64).memory(64 << 20);
    match Flow::read(name).in_folder(folder.path()).run_with(&options) {
        Ok(table) => Some(table.len()),
        Err(error) => {
            assert_ne!(error.kind(), ErrorKind::Internal, "{name}: {error}");
            assert!(error.to_string().contains('t'), "{error}");
            None
        }
    }
}

/// A file of each format that we write.
fn whole(folder: &TempDir, name: &str) -> Vec<u8> {
    let rows: String =
        (0..40).map(|row| format!("\n  {row}, 'F{}', {}.25, 'note, {row}'", row % 7, row * 3)).collect();
    let flow = Flow::steps(&format!("values id, farm, litres, note{rows}"));
    flow.write(folder.path().join(name)).unwrap();
    fs::read(folder.path().join(name)).unwrap()
}

/// What a file of its name begins with, so that random bytes get further.
fn beginning(name: &str) -> &'static [u8] {
    match name.rsplit('.').next().unwrap() {
        "parquet" => b"PAR1",
        "arrow" => b"ARROW1\0\0",
        "avro" => b"Obj\x01",
        "xlsx" | "ods" | "zip" => b"PK\x03\x04",
        "xls" => b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1",
        "gz" => b"\x1f\x8b\x08\x00",
        "zst" => b"\x28\xb5\x2f\xfd",
        "bz2" => b"BZh9",
        "xz" => b"\xfd7zXZ\x00",
        _ => b"a,b\n1,",
    }
}

#[rstest]
fn any_bytes(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15)] which: usize) {
    let name = NAMES[which];
    let folder = tempfile::tempdir().unwrap();
    proptest!(ProptestConfig::with_cases(40), |(bytes in prop::collection::vec(any::<u8>(), 0..300), begins in any::<bool>())| {
        let bytes = if begins { [beginning(name), &bytes].concat() } else { bytes };
        read(&folder, name, &bytes);
    });
}

#[rstest]
fn files_that_are_cut_short(
    #[values(
        "t.csv",
        "t.ndjson",
        "t.json",
        "t.parquet",
        "t.arrow",
        "t.avro",
        "t.xlsx",
        "t.csv.gz",
        "t.csv.zst"
    )]
    name: &str,
) {
    let folder = tempfile::tempdir().unwrap();
    let bytes = whole(&folder, name);
    assert_eq!(read(&folder, name, &bytes), Some(40));
    let step = (bytes.len() / 60).max(1);
    // A file of no bytes has no rows.
    for end in (1..bytes.len()).step_by(step) {
        let found = read(&folder, name, &bytes[..end]);
        // Text ends anywhere, also in a number; what has an end of its own lacks it.
        let has_end = !matches!(name, "t.csv" | "t.ndjson" | "t.avro");
        assert!(!has_end || found.is_none(), "{name} read {found:?} rows of {end} of {} bytes", bytes.len());
        assert!(found.is_none_or(|rows| rows <= 40));
    }
}

#[rstest]
fn files_with_a_wrong_byte(
    #[values("t.csv", "t.ndjson", "t.parquet", "t.arrow", "t.avro", "t.xlsx", "t.csv.gz", "t.csv.zst")] name: &str,
) {
    let folder = tempfile::tempdir().unwrap();
    let bytes = whole(&folder, name);
    proptest!(ProptestConfig::with_cases(60), |(at in any::<prop::sample::Index>(), byte in any::<u8>())| {
        let mut damaged = bytes.clone();
        damaged[at.index(bytes.len())] = byte;
        read(&folder, name, &damaged);
    });
}

/// Bytes that are no text of the encoding that was asked for are told with their place.
#[rstest]
#[case("utf-8", b"a,b\n1,\xff\n")]
#[case("utf-16", b"\xff\xfea\0,\0b\0\n\0\x00\xd8\n\0")]
fn what_is_no_text_is_told(#[case] encoding: &str, #[case] bytes: &[u8]) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), bytes).unwrap();
    let flow = Flow::steps(&format!("read 't.csv' with (encoding = '{encoding}')")).in_folder(folder.path());
    let error = flow.run().unwrap_err();
    assert!(!error.kind().is_request() || error.kind() == ErrorKind::Input, "{error}");
    let told = error.to_string();
    assert!(told.contains("t.csv") && (told.contains("line 2") || told.contains("byte 10")), "{told}");
}
