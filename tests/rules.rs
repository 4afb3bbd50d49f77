//! The rewrites of plans, each on chains that it is for and on chains that it must leave alone. What is held is the plan as
//! it will run, step by step; that rewritten plans give the same rows is held by the reference tests.

#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;

use churn::{Flow, RunOptions};
use rstest::rstest;

const DELIVERIES: &str = "farm,day,litres,fat,grade\n\
    F1,2026-01-01,10,4.1,A\n\
    F2,2026-01-01,20,3.9,B\n\
    F1,2026-01-02,30,4.0,A\n\
    F3,2026-01-02,40,,C\n";
const FARMS: &str = "farm,district,herd\nF1,North,40\nF2,South,55\n";

/// What becomes of each line of the steps, `line -> what becomes of it`; then the names of the rewrites.
fn plan(steps: &[&str]) -> Vec<String> {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), DELIVERIES).unwrap();
    fs::write(folder.path().join("farms.csv"), FARMS).unwrap();
    let flow = steps.iter().fold(Flow::read("t.csv").in_folder(folder.path()), |flow, step| flow.then(step));
    let picture = flow.plan().unwrap().to_string();
    // It runs: a plan that only looks right is no plan.
    flow.run_with(&RunOptions::new().threads(2)).unwrap();
    let mut lines: Vec<String> = Vec::new();
    for line in picture.lines().skip(1).filter(|line| !line.is_empty()) {
        match line.split_once("   ") {
            Some((step, more)) if step.trim().is_empty() => {
                lines.last_mut().unwrap().push_str(&format!("; {}", more.trim()))
            }
            Some((step, note)) => lines.push(format!("{} -> {}", step.trim(), note.trim())),
            None => lines.push(line.trim().to_owned()),
        }
    }
    lines
}

fn rewrites(steps: &[&str]) -> Vec<String> {
    let last = plan(steps).pop().unwrap();
    let names = last.strip_prefix("Rewrites: ").map(|names| names.trim_end_matches('.').to_owned());
    names.map(|names| names.split(", ").map(str::to_owned).collect()).unwrap_or_default()
}

#[rstest]
#[case::into_the_reader(&["first 2"], &["first 2 -> stops when it has them", "Rewrites: first pushed down."])]
#[case::below_columns(
    &["add double = litres * 2", "first 2"],
    &["add double = litres * 2 -> computes 1 column, row by row", "first 2 -> stops when it has them",
      "Rewrites: first pushed down."]
)]
#[case::not_below_columns_that_may_fail(
    &["add double = litres * 2", "filter fat > 4"],
    &["add double = litres * 2 -> computes 1 column, row by row", "filter fat > 4 -> row by row",
      "Nothing was rewritten."]
)]
#[case::below_a_sort(
    &["sort litres", "filter fat > 4"],
    &["sort litres -> holds all rows", "filter fat > 4 -> tested while reading",
      "Rewrites: filter moved down, filter tested while reading."]
)]
#[case::below_a_window_of_its_partition(
    &["window by farm order by day: before = lag(litres)", "filter farm = 'F1'"],
    &["window by farm order by day -> holds all rows, to work out 1 call over them in",
      "before = lag(litres) -> order", "filter farm = 'F1' -> tested while reading",
      "Rewrites: filter moved down, filter tested while reading."]
)]
#[case::of_a_key_before_a_group(
    &["group by farm: n = count()", "filter farm <> 'F3'"],
    &["group by farm -> holds one row for each group", "n = count()", "filter farm <> 'F3' -> row by row",
      "Rewrites: filter moved down, filter tested while reading, unused columns left out."]
)]
#[case::the_first_of_a_sort(
    &["sort litres desc", "first 2"],
    &["sort litres desc -> holds about 2 rows", "first 2 -> stops when it has them",
      "Rewrites: sort keeps the first rows only."]
)]
#[case::the_first_of_groups_of_a_sort(
    &["sort litres desc", "first 2 per farm"],
    &["sort litres desc -> holds about 2 rows of each group", "first 2 per farm -> counts the rows that the sort keeps",
      "Rewrites: sort keeps the first rows of each group only."]
)]
#[case::in_a_join(
    &["join 'farms.csv' on farm", "filter herd > 50 and litres > 5"],
    &["join 'farms.csv' on farm -> 'farms.csv': 1 file, 43 bytes; 3 of 3 columns; \
        holds the other table by its keys; makes only rows that may pass the filter",
      "filter herd > 50 and litres > 5 -> row by row", "Rewrites: filter tested while joining."]
)]
#[case::into_appended_tables(
    &["append 't.csv'", "filter litres > 15 and fat > 4"],
    &["append 't.csv' -> 't.csv': 1 file, 115 bytes; 5 of 5 columns; then the rows of 1 other table",
      "filter litres > 15 and fat > 4 -> tested while reading", "Rewrites: filter moved down, filter tested while reading."]
)]
#[case::two_windows_one_sort(
    &["window by farm order by day: before = lag(litres)", "window by farm order by day: after = lead(litres)"],
    &["window by farm order by day -> worked out with the window after it", "before = lag(litres)",
      "window by farm order by day -> holds all rows, to work out 2 calls over them in",
      "after = lead(litres) -> order", "Rewrites: windows share a sort."]
)]
#[case::a_column_that_nobody_needs(
    &["add double = litres * 2", "select farm"],
    &["add double = litres * 2 -> not computed: nobody needs it", "select farm -> names only",
      "Rewrites: unused columns left out."]
)]
fn a_rule_rewrites(#[case] steps: &[&str], #[case] expected: &[&str]) {
    let plan = plan(steps);
    // The first line is of the source.
    assert_eq!(&plan[1..], expected, "{plan:#?}");
}

#[rstest]
#[case::first_below_a_filter("first pushed down", &["filter litres > 5", "first 2"])]
#[case::first_of_groups("first pushed down", &["first 1 per farm"])]
#[case::a_filter_below_what_it_uses("filter moved down", &["add double = litres * 2", "filter double > 30"])]
#[case::a_filter_below_what_may_fail("filter moved down", &["add part = litres / 0", "filter fat > 4"])]
#[case::a_filter_below_a_first("filter moved down", &["first 2", "filter litres > 5"])]
#[case::a_filter_below_other_groups("filter moved down", &["group by farm: n = count()", "filter n > 1"])]
#[case::a_filter_below_a_window_of_others(
    "filter moved down", &["window by farm order by day: before = lag(litres)", "filter litres > 20"]
)]
#[case::a_filter_over_limited_rows("filter tested while reading", &["first 2", "filter litres > 5"])]
#[case::sorted_groups("sort keeps the first rows only", &["sort litres", "first 1 per farm"])]
#[case::many_rows_of_groups("sort keeps the first rows of each group only", &["sort litres", "first 101 per farm"])]
#[case::the_last_of_groups("sort keeps the first rows of each group only", &["sort litres", "last 1 per farm"])]
#[case::what_may_fail_in_a_join("filter tested while joining", &["join 'farms.csv' on farm", "filter litres / herd > 1"])]
#[case::a_filter_below_an_append_that_may_fail("filter moved down", &["append 't.csv'", "filter litres / 0 > 4"])]
#[case::windows_of_other_orders(
    "windows share a sort",
    &["window by farm order by day: before = lag(litres)", "window by farm order by litres: other = lag(day)"]
)]
#[case::a_window_over_another(
    "windows share a sort",
    &["window by farm order by day: before = lag(litres)", "window by farm order by day: twice = lag(before)"]
)]
fn a_rule_leaves_alone(#[case] rule: &str, #[case] steps: &[&str]) {
    assert!(!rewrites(steps).contains(&rule.to_owned()), "{:#?}", plan(steps));
}

/// Filters that are tested in the tables of an append leave its account as it is: all rows are rows of the append.
#[rstest]
#[case::one(&["filter fat > 3.95"], &[8, 4])]
#[case::two(&["filter fat > 3.95", "filter litres > 15"], &[8, 4, 2])]
#[case::before_a_group(&["group by grade: n = count()", "filter grade <> 'A'"], &[8, 2, 2])]
#[case::behind_a_column(&["add double = litres * 1.5", "filter grade = 'C'"], &[8, 8, 2])]
fn the_account_of_an_append_is_that_of_its_rows(#[case] steps: &[&str], #[case] rows: &[u64]) {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.csv"), DELIVERIES).unwrap();
    let flow = Flow::read("t.csv").in_folder(folder.path()).then("append 't.csv'");
    let flow = steps.iter().fold(flow, |flow, step| flow.then(step));
    let table = flow.run().unwrap();
    let told: Vec<_> = table.ledger().steps().iter().skip(1).map(|step| step.rows_out.unwrap()).collect();
    assert_eq!(told, rows, "{}", table.ledger());
    // What is told of a filter is what became of the rows before it.
    for pair in table.ledger().steps().windows(2).filter(|pair| pair[1].step.starts_with("filter fat")) {
        let left_out: u64 = pair[1].events.iter().map(|(_, n)| n).sum();
        assert_eq!(left_out + pair[1].rows_out.unwrap(), pair[0].rows_out.unwrap(), "{}", table.ledger());
    }
}

/// What each operator says that it does with rows, where nothing is rewritten.
#[rstest]
#[case::unique("require unique by farm, day", "holds the keys")]
#[case::condition("require litres > 0", "row by row")]
#[case::sample("sample 2 seed 7", "holds 2 rows")]
#[case::sample_of_one("sample 1 seed 7", "holds 1 row")]
#[case::sample_of_groups("sample 1 per farm seed 7", "holds all rows")]
#[case::sample_by_chance("sample 50 percent seed 7", "row by row")]
fn an_operator_says_what_it_holds(#[case] step: &str, #[case] expected: &str) {
    let plan = plan(&[step]);
    assert_eq!(plan.get(1), Some(&format!("{step} -> {expected}")), "{plan:#?}");
}
