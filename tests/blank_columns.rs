//! Columns without any value have no type of their own, and unite with any.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;

use churn::{Flow, Scalar, Table};
use rstest::rstest;
use tempfile::TempDir;

fn folder() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| fs::write(folder.path().join(name), text).unwrap();
    write("a.csv", "farm,litres,note\nF1,10,\nF2,20,\n");
    write("b.csv", "farm,note\nF3,7\n");
    write("a.ndjson", "{\"farm\":\"F1\",\"note\":null}\n{\"farm\":\"F2\"}\n");
    write("b.ndjson", "{\"farm\":\"F3\",\"note\":7}\n");
    write("empty.csv", "farm,litres\n");
    folder
}

fn cells(table: &Table) -> String {
    let columns: Vec<(String, String)> =
        table.columns().map(|(n, t)| (n.to_owned(), t.to_string())).collect();
    let value = |row: usize, name: &str| match table.value(row, name).unwrap() {
        Scalar::Null => "·".to_owned(),
        value => value.plain(),
    };
    let row = |row: usize| columns.iter().map(|(n, _)| value(row, n)).collect::<Vec<_>>().join(" ");
    let heads: Vec<String> = columns.iter().map(|(n, t)| format!("{n}:{t}")).collect();
    std::iter::once(heads.join(" ")).chain((0..table.len()).map(row)).collect::<Vec<_>>().join(" / ")
}

#[rstest]
#[case::alone("read 'a.csv'", "farm:text litres:int note:null / F1 10 · / F2 20 ·")]
#[case::appended(
    "read 'a.csv'\nappend 'b.csv'",
    "farm:text litres:int note:int / F1 10 · / F2 20 · / F3 · 7"
)]
#[case::appended_below(
    "read 'b.csv'\nappend 'a.csv'\ndrop litres",
    "farm:text note:int / F3 7 / F1 · / F2 ·"
)]
#[case::in_a_glob("read '[ab].csv'", "farm:text litres:int note:int / F1 10 · / F2 20 · / F3 · 7")]
#[case::with_texts(
    "read 'a.csv'\nadd x = note || '!'",
    "farm:text litres:int note:null x:text / F1 10 · · / F2 20 · ·"
)]
#[case::filled("read 'a.csv'\nfill note with 1.5", "farm:text litres:int note:float / F1 10 1.5 / F2 20 1.5")]
#[case::computed_with("read 'a.csv'\nselect x = litres + note, y = upper(note)", "x:int y:text / · · / · ·")]
#[case::to_rows(
    "read 'a.csv'\nunpivot v for k in litres, note",
    "farm:text k:text v:int / F1 litres 10 / F1 note · / F2 litres 20 / F2 note ·"
)]
#[case::as_a_key(
    "read 'a.csv'\njoin left 'b.csv' on note prefix 'b_'\nselect farm, b_farm",
    "farm:text b_farm:text / F1 · / F2 ·"
)]
#[case::of_an_empty_file(
    "read 'empty.csv'\nappend 'a.csv'\ndrop note",
    "farm:text litres:int / F1 10 / F2 20"
)]
#[case::grouped("read 'a.csv'\ngroup by note: n = count(), s = sum(note)", "note:null n:int s:float / · 2 ·")]
#[case::to_rows_without_nulls(
    "read 'a.csv'\nunpivot v for k in note skip nulls\ndrop litres",
    "farm:text k:text v:null"
)]
#[case::moved_by_an_interval(
    "read 'a.csv'\nselect d = note + interval '1' day, n = date '2026-01-02' - note",
    "d:date n:int / · · / · ·"
)]
#[case::measured_by_it(
    "read 'a.csv'\nwindow order by note: s = sum(litres) over last 7 days\nselect s",
    "s:int / 30 / 30"
)]
#[case::json("read 'a.ndjson'\nappend 'b.ndjson'", "farm:text note:int / F1 · / F2 · / F3 7")]
#[case::json_in_a_glob("read '*.ndjson'", "farm:text note:int / F1 · / F2 · / F3 7")]
#[case::json_filled(
    "read 'a.ndjson'\nfill note with date '2026-01-01'\nlast 1",
    "farm:text note:date / F2 2026-01-01"
)]
#[case::said_to_be(
    "read 'a.csv' with (types = (note float))\nfirst 1",
    "farm:text litres:int note:float / F1 10 ·"
)]
fn blank_columns_unite(#[case] recipe: &str, #[case] expected: &str) {
    let folder = folder();
    assert_eq!(cells(&Flow::recipe(recipe).in_folder(folder.path()).run().unwrap()), expected);
}

#[rstest]
#[case("out.csv")]
#[case("out.parquet")]
#[case("out.arrow")]
#[case("out.ndjson")]
#[case("out.xlsx")]
fn blank_columns_are_written_and_read_back(#[case] name: &str) {
    let folder = folder();
    let write = format!("read 'a.csv'\nwrite '{name}'");
    let written = Flow::recipe(&write).in_folder(folder.path()).run().unwrap();
    let again = Flow::recipe(&format!("read '{name}'")).in_folder(folder.path()).run().unwrap();
    assert_eq!(cells(&again), cells(&written));
}

/// A file of which only some places are looked at may hold values elsewhere: the column stays text.
#[test]
fn a_column_that_was_not_seen_whole_is_text() {
    let folder = tempfile::tempdir().unwrap();
    let rows = "F0001,,a cell that makes the row longer than it would be by itself\n".repeat(300_000);
    fs::write(folder.path().join("t.csv"), format!("farm,note,x\n{rows}")).unwrap();
    let flow = Flow::recipe("read 't.csv'").in_folder(folder.path());
    let plan = flow.plan().unwrap();
    assert_eq!(plan.columns().find(|(name, _)| *name == "note").unwrap().1.to_string(), "text");
}

#[test]
fn a_value_that_came_after_the_check_is_told() {
    let folder = folder();
    let flow = Flow::recipe("read 'a.csv'").in_folder(folder.path());
    let plan = flow.plan().unwrap();
    fs::write(folder.path().join("a.csv"), "farm,litres,note\nF1,10,\nF2,20,x\n").unwrap();
    let error = plan.run_head(5, &churn::RunOptions::new()).unwrap_err().to_string();
    assert!(error.contains("'x'") && error.contains("note"), "{error}");
}
