//! The same bytes are written at any number of threads, in any blocks and within any memory.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use churn::{Flow, RunOptions};
use rstest::rstest;

/// Deliveries of 2,000 farms over 80,000 rows: numbers that repeat and that do not, nulls, and notes of up to 60 KB.
fn deliveries(folder: &Path) {
    let row = |i: u64| {
        let mixed = i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 33;
        let note = if i.is_multiple_of(5) { String::new() } else { format!("note {}", mixed % 90_000) };
        let long =
            if i.is_multiple_of(1009) { "milk ".repeat((mixed % 12_000) as usize) } else { String::new() };
        let litres = if i.is_multiple_of(11) { String::new() } else { (mixed % 700).to_string() };
        format!("{mixed},F{},{litres},{}.{:02},{note}{long}\n", mixed % 2000, mixed % 9, mixed % 97)
    };
    let rows: String = (0..80_000).map(row).collect();
    fs::write(folder.join("deliveries.csv"), format!("id,farm,litres,fat,note\n{rows}")).unwrap();
}

/// All files of a folder, by their paths in it.
fn files(folder: &Path, within: &Path, into: &mut BTreeMap<String, Vec<u8>>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files(&path, within, into);
        } else {
            into.insert(path.strip_prefix(within).unwrap().display().to_string(), fs::read(&path).unwrap());
        }
    }
}

#[rstest]
#[case::parquet("t.parquet", "format = parquet")]
#[case::parquet_of_another_codec("t.parquet", "compression = gzip, level = 1")]
#[case::arrow("t.arrow", "format = arrow")]
#[case::compressed_text("t.csv.zst", "format = csv")]
#[case::records("t.ndjson", "format = ndjson")]
#[case::split_parquet("out", "split_by = (area), format = parquet")]
#[case::split_arrow("out", "split_by = (area), format = arrow")]
#[case::split_text("out", "split_by = (area), format = csv")]
fn the_same_bytes_are_written_at_any_setting(#[case] target: &str, #[case] with: &str) {
    let source = tempfile::tempdir().unwrap();
    deliveries(source.path());
    let mut first: Option<BTreeMap<String, Vec<u8>>> = None;
    for (threads, memory, block) in [(1, u64::MAX, 1 << 20), (2, 1, 1 << 16), (3, 40 << 20, 77_777)] {
        let made = tempfile::tempdir().unwrap();
        let read = format!("read '{}'", source.path().join("deliveries.csv").display());
        let steps = [
            read.as_str(),
            "add area = id mod 23, words = parts(note, ' ')",
            "sort farm, fat desc",
            &format!("write '{target}' with ({with})"),
        ];
        let (start, rest) = steps.split_first().unwrap();
        let flow = rest.iter().fold(Flow::steps(start).in_folder(made.path()), |flow, step| flow.then(step));
        let options = RunOptions::new().threads(threads).memory(memory).block_bytes(block);
        flow.plan().unwrap().run_for_effect(&options).unwrap_or_else(|e| panic!("{e}"));
        let mut found = BTreeMap::new();
        files(made.path(), made.path(), &mut found);
        let Some(first) = &first else {
            first = Some(found);
            continue;
        };
        assert_eq!(first.keys().collect::<Vec<_>>(), found.keys().collect::<Vec<_>>());
        for (file, bytes) in first {
            assert!(
                found.get(file) == Some(bytes),
                "{file} differs with {threads} threads, {memory} bytes of memory"
            );
        }
    }
}
