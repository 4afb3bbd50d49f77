//! Readers and operators over a million deliveries; each answer is checked before it is timed.
//!
//! `just bench` runs them and keeps what they print, beside what they printed the time before; the throughput shown
//! is that of the file read, `max alloc` the most memory that was in use at once.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used)]

use std::fmt::Write;
use std::path::PathBuf;
use std::sync::OnceLock;

use churn::{Flow, RunOptions, Scalar, Table};
use divan::Bencher;
use divan::counter::BytesCount;

#[global_allocator]
static MEMORY: divan::AllocProfiler = divan::AllocProfiler::system();

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

/// The same deliveries in another format, beside the text.
fn file_as(ending: &str) -> (PathBuf, u64) {
    let (path, _) = file();
    let other = path.with_extension(ending);
    if !other.exists() {
        Flow::read(path).write(&other).unwrap();
    }
    let size = std::fs::metadata(&other).unwrap().len();
    (other, size)
}

/// Runs a chain once for its answer, then again and again.
fn timed(bencher: Bencher<'_, '_>, threads: usize, steps: &[&str], check: impl Fn(&Table)) {
    timed_with(bencher, file().clone(), &RunOptions::new().threads(threads), steps, check);
}

fn timed_with(
    bencher: Bencher<'_, '_>,
    (path, bytes): (PathBuf, u64),
    options: &RunOptions,
    steps: &[&str],
    check: impl Fn(&Table),
) {
    let flow = steps.iter().fold(Flow::read(path), |flow, step| flow.then(step));
    check(&flow.run_with(options).unwrap());
    bencher.counter(BytesCount::new(bytes)).bench(|| flow.run_with(options).unwrap().len());
}

const FORMATS: [&str; 4] = ["csv", "parquet", "arrow", "ndjson"];

#[divan::bench(args = FORMATS)]
fn read_two_columns(bencher: Bencher<'_, '_>, format: &str) {
    let steps = ["total: s = sum(litres), f = max(farm), n = count()"];
    timed_with(bencher, file_as(format), &RunOptions::new(), &steps, |t| {
        assert_eq!(int(t, "n"), ROWS as i64)
    });
}

#[divan::bench(args = FORMATS)]
fn read_all_columns(bencher: Bencher<'_, '_>, format: &str) {
    let steps = [
        "total: n = count(), m = max(id) , c = count(note), t = sum(temp_c), f = sum(fat), l = sum(litres), \
                  g = max(grade), d = max(day), k = max(farm)",
    ];
    timed_with(bencher, file_as(format), &RunOptions::new(), &steps, |t| {
        assert_eq!(int(t, "n"), ROWS as i64)
    });
}

/// Conditions that keep a thousandth, a tenth, most and all of the rows.
#[divan::bench(args = [6, 600, 5400, 6000])]
fn selectivity(bencher: Bencher<'_, '_>, below: i64) {
    let condition = format!("filter litres < {below}");
    timed(bencher, 2, &[&condition, "total: n = count(), s = sum(fat), f = max(farm)"], |t| {
        assert!((int(t, "n") - below * ROWS as i64 / 6000).abs() < ROWS as i64 / 100)
    });
}

/// A column without nulls and one of which a twentieth is missing.
#[divan::bench(args = ["fat", "temp_c"])]
fn nulls(bencher: Bencher<'_, '_>, column: &str) {
    let total = format!("total: s = sum({column}), n = count({column})");
    timed(bencher, 2, &[&total], |t| assert!(int(t, "n") >= (ROWS - ROWS / 20) as i64));
}

/// One group, eight hundred, twenty-eight days of them, and a million.
#[divan::bench(args = ["grade", "farm", "farm, day", "id"])]
fn groups(bencher: Bencher<'_, '_>, keys: &str) {
    let group = format!("group by {keys}: n = count(), s = sum(litres)");
    timed(bencher, 2, &[&group, "total: n = sum(n)"], |t| assert_eq!(int(t, "n"), ROWS as i64));
}

/// The first rows of few keys, of many, and of as many as there are rows.
#[divan::bench(args = ["grade", "farm", "farm, day", "id", "id, farm, day"])]
fn distinct_by(bencher: Bencher<'_, '_>, keys: &str) {
    let distinct = format!("distinct by {keys}");
    timed(bencher, 2, &[&distinct, "total: n = count()"], |t| assert!(int(t, "n") >= 3));
}

/// Few large partitions, some hundred, and one for each row.
#[divan::bench(args = ["grade", "farm", "farm, day", "id"])]
fn partitions(bencher: Bencher<'_, '_>, by: &str) {
    let window =
        format!("window by {by} order by day, id: m = mean(litres) over last 7 rows, p = lag(litres)");
    timed(bencher, 2, &[&window, "total: n = count(m)"], |t| assert_eq!(int(t, "n"), ROWS as i64));
}

/// The first rows of the groups of a sort: of few groups others are left out while they are read, many are worked out at the end.
#[divan::bench(args = ["grade", "farm", "farm, day", "id"])]
fn first_of_groups(bencher: Bencher<'_, '_>, keys: &str) {
    let first = format!("first 2 per {keys}");
    let steps = ["sort litres desc", &first, "total: n = count()"];
    timed(bencher, 2, &steps, |t| assert!(int(t, "n") >= 6));
}

/// Long texts of the rows before.
#[divan::bench(args = ["grade", "farm"])]
fn texts_before(bencher: Bencher<'_, '_>, by: &str) {
    let window = format!("window by {by} order by day, id: p = lag(t)");
    let steps = ["add t = farm || ', a text of more than twelve bytes'", &window, "total: n = count(p)"];
    timed(bencher, 2, &steps, |t| assert!(int(t, "n") > 0));
}

/// Texts looked for: in a column that is mostly empty, and in one of short texts.
#[divan::bench(args = ["contains(note, 'leak')", "note like '%hose%clean_d'", "matches(note, 'leak, [a-z]+')", "contains(farm, '07')"])]
fn text_search(bencher: Bencher<'_, '_>, condition: &str) {
    let filter = format!("filter {condition}");
    timed(bencher, 2, &[&filter, "total: n = count()"], |t| assert!(int(t, "n") >= (ROWS / 100) as i64));
}

/// Keys of eight bytes, of twelve, and of more than a packed key holds.
#[divan::bench(args = ["day", "farm", "farm || ' of the north'"])]
fn key_width(bencher: Bencher<'_, '_>, key: &str) {
    let group = format!("group by k = {key}: s = sum(litres)");
    timed(bencher, 2, &[&group], |t| assert!(t.len() > 20));
}

/// All in memory, and with so little that nearly all goes to disk.
#[divan::bench(args = [1024, 8])]
fn sort_within(bencher: Bencher<'_, '_>, megabytes: u64) {
    let options = RunOptions::new().memory(megabytes << 20);
    let steps = ["sort litres desc, id", "total: n = count(), s = sum(litres)"];
    timed_with(bencher, file().clone(), &options, &steps, |t| assert_eq!(int(t, "n"), ROWS as i64));
}

#[divan::bench(args = [1024, 8])]
fn group_within(bencher: Bencher<'_, '_>, megabytes: u64) {
    let options = RunOptions::new().memory(megabytes << 20);
    let steps = ["group by id: s = sum(litres), n = count()", "total: n = sum(n)"];
    timed_with(bencher, file().clone(), &options, &steps, |t| assert_eq!(int(t, "n"), ROWS as i64));
}

#[divan::bench(args = [1024, 8])]
fn join_within(bencher: Bencher<'_, '_>, megabytes: u64) {
    let options = RunOptions::new().threads(2).memory(megabytes << 20);
    let join = format!("join {} on id prefix 'o_'", Scalar::Text(file().0.to_string_lossy().into_owned()));
    let steps = [join.as_str(), "total: n = count(), x = count(o_litres)"];
    timed_with(bencher, file().clone(), &options, &steps, |t| assert_eq!(int(t, "n"), ROWS as i64));
}

#[divan::bench(args = [1024, 8])]
fn window_within(bencher: Bencher<'_, '_>, megabytes: u64) {
    let options = RunOptions::new().threads(2).memory(megabytes << 20);
    let steps = ["window by farm order by day: w = mean(litres) over last 7 rows", "total: n = count(w)"];
    timed_with(bencher, file().clone(), &options, &steps, |t| assert_eq!(int(t, "n"), ROWS as i64));
}

#[divan::bench(args = ["last 7 rows", "last 7 days", "last 1000 rows", "rows so far"])]
fn frames(bencher: Bencher<'_, '_>, frame: &str) {
    let window =
        format!("window by farm order by day: s = sum(litres) over {frame}, m = median(litres) over {frame}");
    timed(bencher, 2, &[window.as_str(), "total: n = count(m)"], |t| assert_eq!(int(t, "n"), ROWS as i64));
}

#[divan::bench(args = ["grade by day", "day by farm"])]
fn pivots(bencher: Bencher<'_, '_>, keys: &str) {
    let pivot = format!("pivot {keys}: litres = sum(litres)");
    timed(bencher, 2, &[pivot.as_str()], |t| assert!([28, 800].contains(&t.len())));
}

#[divan::bench(args = FORMATS)]
fn write_as(bencher: Bencher<'_, '_>, format: &str) {
    let (path, bytes) = file();
    let flow = Flow::read(path);
    let out = path.with_extension(format!("out.{format}"));
    flow.write(&out).unwrap();
    let back = Flow::read(&out).total("n = count()").run().unwrap();
    assert_eq!(int(&back, "n"), ROWS as i64);
    bencher.counter(BytesCount::new(*bytes)).bench(|| flow.write(&out).unwrap());
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
