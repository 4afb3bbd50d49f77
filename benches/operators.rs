//! Readers and operators over a million deliveries; each answer is checked before it is timed.
//!
//! `just bench` runs them; the throughput shown is that of the text read.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used)]

use std::fmt::Write;
use std::path::PathBuf;
use std::sync::OnceLock;

use churn::{Flow, RunOptions, Scalar, Table};
use divan::Bencher;
use divan::counter::BytesCount;

const ROWS: usize = 1_000_000;

fn main() {
    divan::main();
}

/// A file of deliveries: 800 farms, a column of a million keys, a twentieth of the temperatures missing.
fn file() -> &'static (PathBuf, u64) {
    static FILE: OnceLock<(PathBuf, u64)> = OnceLock::new();
    FILE.get_or_init(|| {
        let mut text = String::from("id,farm,day,litres,fat,temp_c,grade,note\n");
        for i in 0..ROWS {
            let temperature = if i % 20 == 0 { String::new() } else { format!("{}.{}", i % 9, i % 10) };
            let note = if i % 50 == 0 { "\"hose leak, cleaned\"" } else { "" };
            let (farm, day, grade) = (i * 379 % 800, 1 + i * 28 / ROWS, ["A", "A", "A", "B", "C"][i % 5]);
            let litres = i * 7919 % 60_000;
            writeln!(
                text,
                "{:09},F{farm:04},2026-02-{day:02},{}.{},4.{:02},{temperature},{grade},{note}",
                i * 7 % ROWS,
                litres / 10,
                litres % 10,
                i % 100
            )
            .unwrap();
        }
        let path = std::env::temp_dir().join(format!("churn-bench-{}.csv", std::process::id()));
        std::fs::write(&path, &text).unwrap();
        (path, text.len() as u64)
    })
}

/// Runs a chain once for its answer, then again and again.
fn timed(bencher: Bencher<'_, '_>, threads: usize, steps: &[&str], check: impl Fn(&Table)) {
    let (path, bytes) = file();
    let flow = steps.iter().fold(Flow::read(path), |flow, step| flow.then(step));
    let options = RunOptions::new().threads(threads);
    check(&flow.run_with(&options).unwrap());
    bencher.counter(BytesCount::new(*bytes)).bench(|| flow.run_with(&options).unwrap().len());
}

fn int(table: &Table, column: &str) -> i64 {
    if let Scalar::Int(value) = table.value(0, column).unwrap() { value } else { -1 }
}

#[divan::bench(args = [1, 2])]
fn count_rows(bencher: Bencher<'_, '_>, threads: usize) {
    timed(bencher, threads, &["total: n = count()"], |t| assert_eq!(int(t, "n"), ROWS as i64));
}

#[divan::bench(args = [1, 2])]
fn filter_and_total(bencher: Bencher<'_, '_>, threads: usize) {
    let steps = ["filter temp_c > 6.0 and grade <> 'A'", "total: n = count(), s = sum(litres)"];
    timed(bencher, threads, &steps, |t| assert!(int(t, "n") > 50_000));
}

#[divan::bench(args = [1, 2])]
fn group_by_few(bencher: Bencher<'_, '_>, threads: usize) {
    let steps = ["group by farm: n = count(), s = sum(litres), m = mean(fat)"];
    timed(bencher, threads, &steps, |t| assert_eq!(t.len(), 800));
}

#[divan::bench(args = [1, 2])]
fn group_by_many(bencher: Bencher<'_, '_>, threads: usize) {
    timed(bencher, threads, &["group by id: s = sum(litres)", "total: n = count()"], |t| {
        assert_eq!(int(t, "n"), ROWS as i64)
    });
}

#[divan::bench(args = [1, 2])]
fn group_by_two_keys(bencher: Bencher<'_, '_>, threads: usize) {
    timed(bencher, threads, &["group by farm, day: s = sum(litres)"], |t| assert!(t.len() > 800));
}

#[divan::bench(args = [1, 2])]
fn median_per_farm(bencher: Bencher<'_, '_>, threads: usize) {
    timed(bencher, threads, &["group by farm: m = median(litres)"], |t| assert_eq!(t.len(), 800));
}

#[divan::bench(args = [1, 2])]
fn sort_all(bencher: Bencher<'_, '_>, threads: usize) {
    timed(bencher, threads, &["sort litres desc, id"], |t| assert_eq!(t.len(), ROWS));
}

#[divan::bench(args = [1, 2])]
fn top_ten(bencher: Bencher<'_, '_>, threads: usize) {
    timed(bencher, threads, &["sort litres desc, id", "first 10"], |t| assert_eq!(t.len(), 10));
}

#[divan::bench(args = [1, 2])]
fn distinct_many(bencher: Bencher<'_, '_>, threads: usize) {
    timed(bencher, threads, &["select farm, day", "distinct", "total: n = count()"], |t| {
        assert!(int(t, "n") > 800)
    });
}

#[divan::bench(args = [1, 2])]
fn filter_to_csv(bencher: Bencher<'_, '_>, threads: usize) {
    let (path, bytes) = file();
    let flow = Flow::read(path).filter("litres > 3000");
    let options = RunOptions::new().threads(threads);
    bencher
        .counter(BytesCount::new(*bytes))
        .bench(|| flow.plan().unwrap().write_to(std::io::sink(), "csv", &options).unwrap());
}
