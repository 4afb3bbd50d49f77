//! Sorts of more rows than one worker takes at once, against the standard library's stable sort.

#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::cmp::Reverse;
use std::fmt::Write;
use std::fs;
use std::sync::Arc;

use arrow_array::{ArrayRef, Int64Array, RecordBatch};
use churn::{Flow, RunOptions, Scalar};
use rstest::rstest;
use tempfile::TempDir;

const ROWS: usize = 70_000;

/// So many that they are not found while rows are read.
const FIRST: usize = 66_000;

/// A row: what it is sorted by, and its number.
struct Row {
    litres: Option<i64>,
    farm: String,
    number: usize,
}

/// Rows whose keys are spread in some way.
fn rows(spread: &str) -> Vec<Row> {
    let row = |number: usize| {
        let mixed = (number as i64 * 7919 + 13) % 60_013;
        let litres = match spread {
            "evenly" => Some(mixed),
            "in order" => Some(number as i64 / 3),
            "mostly one" => Some(if mixed % 5 == 0 { mixed } else { 777 }),
            "with gaps" => (mixed % 3 != 0).then_some(mixed % 1000 - 500),
            // At first as in all files, then as none before.
            "in two ways" if number < ROWS / 2 => Some(mixed),
            "in two ways" => Some(100_000 + number as i64 / 2),
            _ => Some(mixed % 4),
        };
        let farm = format!("the farm behind the hill no {:05}", mixed % 9001);
        Row { litres, farm, number }
    };
    (0..ROWS).map(row).collect()
}

fn file(rows: &[Row]) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let mut text = String::from("litres,farm,number,tank,pair\n");
    for Row { litres, farm, number } in rows {
        let litres = litres.map_or(String::new(), |l| l.to_string());
        writeln!(text, "{litres},{farm},{number},T{},{}", tank(*number), number / 2).unwrap();
    }
    fs::write(folder.path().join("t.csv"), text).unwrap();
    folder
}

/// One of a few groups.
fn tank(number: usize) -> usize {
    number * 31 % 50
}

/// The numbers of the rows in the order that keys ask for.
fn expected(rows: &mut [Row], keys: &str) -> Vec<usize> {
    match keys {
        "litres" => rows.sort_by_key(|r| (r.litres.is_none(), r.litres)),
        "litres desc nulls first" => rows.sort_by_key(|r| (r.litres.is_some(), Reverse(r.litres))),
        "farm, litres" => rows.sort_by(|a, b| {
            (&a.farm, a.litres.is_none(), a.litres).cmp(&(&b.farm, b.litres.is_none(), b.litres))
        }),
        "farm desc nulls first, number desc" => {
            rows.sort_by(|a, b| (&b.farm, b.number).cmp(&(&a.farm, a.number)));
        }
        _ => rows.sort_by_key(|r| (r.litres.is_none(), Reverse(r.litres), Reverse(r.number))),
    }
    rows.iter().map(|r| r.number).collect()
}

/// The numbers of a table's rows.
fn numbers(flow: &Flow, options: &RunOptions) -> Vec<usize> {
    let table = flow.run_with(options).unwrap();
    let number = |value: Scalar| if let Scalar::Int(number) = value { number as usize } else { ROWS };
    table.values("number").unwrap().into_iter().map(number).collect()
}

#[rstest]
fn rows_are_in_order(
    #[values("evenly", "in order", "mostly one", "with gaps", "in two ways", "four")] spread: &str,
    #[values(
        "litres",
        "litres desc nulls first",
        "farm, litres",
        "litres desc, number desc",
        "farm desc nulls first, number desc"
    )]
    keys: &str,
) {
    let mut rows = rows(spread);
    let folder = file(&rows);
    let expected = expected(&mut rows, keys);
    let sorted = Flow::steps(&format!("read 't.csv'\nsort {keys}")).in_folder(folder.path());
    for options in [
        RunOptions::new().threads(3).block_bytes(400_000),
        RunOptions::new().threads(2).memory(3 << 20).block_bytes(600_000),
    ] {
        assert!(numbers(&sorted, &options) == expected, "{spread}, {keys}");
        assert!(
            numbers(&sorted.clone().first(FIRST), &options) == expected[..FIRST],
            "the first of {spread}, {keys}"
        );
        // Written as they stand.
        sorted.clone().then("write 'out.csv'").plan().unwrap().run_for_effect(&options).unwrap();
        let written = fs::read_to_string(folder.path().join("out.csv")).unwrap();
        let mut lines = written.lines();
        assert_eq!(lines.next(), Some("litres,farm,number,tank,pair"));
        let number = |line: &str| line.split(',').nth(2).unwrap().parse::<usize>().unwrap();
        assert!(lines.map(number).eq(expected.iter().copied()));
    }
}

#[rstest]
fn the_first_rows_of_groups_are_those_of_a_whole_sort(
    #[values("evenly", "with gaps", "four")] spread: &str,
    #[values("litres desc nulls first", "farm, litres")] keys: &str,
    // Few groups, of which rows are left out while they are read; and so many that nearly all rows are held.
    #[values(("tank", 3), ("pair", 1))] groups: (&str, usize),
    #[values(None, Some(3 << 20))] memory: Option<u64>,
) {
    let (per, count) = groups;
    let mut rows = rows(spread);
    let folder = file(&rows);
    let expected = expected(&mut rows, keys);
    let mut seen = vec![0; ROWS];
    let is_first = |number: &usize| {
        let seen = &mut seen[if per == "tank" { tank(*number) } else { *number / 2 }];
        *seen += 1;
        *seen <= count
    };
    let expected: Vec<usize> = expected.into_iter().filter(is_first).collect();
    let chain = format!("read 't.csv'\nsort {keys}\nfirst {count} per {per}");
    let options = RunOptions::new().threads(3).block_bytes(400_000);
    let options = memory.into_iter().fold(options, |options, memory| options.memory(memory));
    assert!(numbers(&Flow::steps(&chain).in_folder(folder.path()), &options) == expected);
}

/// Groups that few rows have each, of which there are ever more: after some rows, all others are distributed by them.
#[rstest]
fn the_first_rows_of_many_groups_are_those_of_a_whole_sort(
    // Rows of a group that are near each other, and in one place each quarter of the rows.
    #[values(1, 4)] places: usize,
    #[values(None, Some(24 << 20))] memory: Option<u64>,
) {
    const MANY: usize = 800_000;
    let group = |number: usize| number % (MANY / places) / 5;
    let litres = |number: usize| (!number.is_multiple_of(11)).then_some((number * 7919 + 13) as i64 % 601);
    let mut expected: Vec<usize> = (0..MANY).collect();
    expected.sort_by_key(|number| (litres(*number).is_none(), Reverse(litres(*number))));
    let mut seen = vec![0; MANY];
    expected.retain(|number| {
        seen[group(*number)] += 1;
        seen[group(*number)] <= 2
    });
    let column = |values: Vec<Option<i64>>| Arc::new(Int64Array::from(values)) as ArrayRef;
    let batches = (0..MANY).step_by(100_000).map(|from| {
        let rows = from..from + 100_000;
        RecordBatch::try_from_iter([
            ("litres", column(rows.clone().map(litres).collect())),
            ("farm", column(rows.clone().map(|number| Some(group(number) as i64)).collect())),
            ("number", column(rows.map(|number| Some(number as i64)).collect())),
        ])
        .unwrap()
    });
    let flow = Flow::batches_of(batches.collect()).unwrap().then("sort litres desc").then("first 2 per farm");
    let options = memory.into_iter().fold(RunOptions::new().threads(3), |options, m| options.memory(m));
    assert!(numbers(&flow, &options) == expected);
}
