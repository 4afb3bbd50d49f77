//! Intervals as values: moved dates, columns of intervals, keys, files, and what is refused.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use churn::{Event, Flow, RunOptions, Scalar, Table};
use rstest::rstest;

const VALUES: &str = "values farm, n, day, at
  'F1', 1, date '2026-01-31', timestamp '2026-01-31 22:30:00'
  'F2', -2, date '2024-02-29', timestamp '2024-02-29 00:00:00'
  'F3', null, date '2026-03-01', null
  'F4', 0, null, timestamp '2026-03-01 06:00:00'\n";

fn run(steps: &str) -> churn::Result<Table> {
    Flow::recipe(&format!("{VALUES}{steps}")).run_with(&RunOptions::new().threads(2).batch_rows(3))
}

fn column(table: &Table, name: &str) -> String {
    let values = table.values(name).unwrap();
    let shown = |v: &Scalar| if v.is_null() { "·".to_owned() } else { v.plain() };
    values.iter().map(shown).collect::<Vec<_>>().join(" | ")
}

#[rstest]
#[case::written("interval '14' day", "P14D | P14D | P14D | P14D")]
#[case::times_a_column("n * interval '1' month", "P1M | P-2M | · | PT0S")]
#[case::times_twice("2 * (n * interval '7' day)", "P14D | P-28D | · | PT0S")]
#[case::negated("-(n * interval '90' minute)", "PT-1H-30M | PT3H | · | PT0S")]
#[case::sum("n * interval '1' month + interval '3' day", "P1M3D | P-2M3D | · | P3D")]
#[case::difference("interval '1' year - n * interval '1' month", "P11M | P1Y2M | · | P1Y")]
#[case::chosen("case when n > 0 then interval '1' day else interval '1' year end", "P1D | P1Y | P1Y | P1Y")]
#[case::chosen_by_if("if(n < 0, interval '1' second, null)", "· | PT1S | · | ·")]
#[case::filled("coalesce(n * interval '1' day, interval '30' day)", "P1D | P-2D | P30D | PT0S")]
#[case::as_text("cast(n * interval '36' hour as text)", "PT36H | PT-72H | · | PT0S")]
#[case::joined_to_a_text(
    "farm || ': ' || cast(interval '2' week as text)",
    "F1: P14D | F2: P14D | F3: P14D | F4: P14D"
)]
#[case::moves_a_date("day + n * interval '1' month", "2026-02-28 | 2023-12-29 | · | ·")]
#[case::moves_a_date_back(
    "day - case when n > 0 then interval '1' month else interval '1' day end",
    "2025-12-31 | 2024-02-28 | 2026-02-28 | ·"
)]
#[case::hours_make_a_moment(
    "day + n * interval '6' hour",
    "2026-01-31 06:00:00 | 2024-02-28 12:00:00 | · | ·"
)]
#[case::moves_a_moment(
    "at + (n * interval '1' month + n * interval '2' hour)",
    "2026-03-01 00:30:00 | 2023-12-28 20:00:00 | · | 2026-03-01 06:00:00"
)]
#[case::is_null("n * interval '1' day is null", "false | false | true | false")]
fn expressions(#[case] expression: &str, #[case] expected: &str) {
    // In one step, and by a column that a later step uses.
    assert_eq!(column(&run(&format!("add x = {expression}")).unwrap(), "x"), expected);
}

#[rstest]
#[case("day + t", "2026-03-03 | 2023-12-31 | · | ·")]
#[case("at - t", "2025-12-29 22:30:00 | 2024-04-27 00:00:00 | · | 2026-02-27 06:00:00")]
#[case("cast(day as timestamp) + t", "2026-03-03 00:00:00 | 2023-12-31 00:00:00 | · | ·")]
fn columns_move_dates(#[case] expression: &str, #[case] expected: &str) {
    let table =
        run(&format!("add t = n * interval '1' month + interval '2' day\nadd x = {expression}")).unwrap();
    let kinds: Vec<String> = table.columns().map(|(name, kind)| format!("{name} {kind}")).collect();
    assert!(kinds.contains(&"t interval".to_owned()), "{kinds:?}");
    let moved = column(&table, "x");
    // Months first, then days: the end of January is the end of February before two days are added.
    let expected = expected.replace("2026-03-03", "2026-03-02");
    assert_eq!(moved, expected);
}

#[rstest]
#[case::keys(
    "group by t = n * interval '1' month: k = count(), f = first(farm)",
    "t",
    "P1M | P-2M | · | PT0S"
)]
#[case::distinct(
    "add t = if(n > 0, interval '1' day, interval '24' hour)\nselect t\ndistinct",
    "t",
    "P1D | PT24H"
)]
#[case::first_and_last("total: a = first(n * interval '1' day), b = last(n * interval '1' day)", "b", "PT0S")]
#[case::counted("total: a = count(n * interval '1' day)", "a", "3")]
#[case::carried("add t = n * interval '1' day\nsort farm desc\nfilter farm <> 'F1'", "t", "PT0S | · | P-2D")]
#[case::windows(
    "add t = n * interval '1' day\nwindow by t: k = count() over rows so far",
    "k",
    "1 | 1 | 1 | 1"
)]
#[case::filled_down("add t = n * interval '1' day\nfill t down", "t", "P1D | P-2D | P-2D | PT0S")]
#[case::filled("add t = n * interval '1' day\nfill t with interval '9' day", "t", "P1D | P-2D | P9D | PT0S")]
#[case::to_rows(
    "select farm, a = interval '1' day, b = n * interval '2' day\nunpivot v for k in a, b\nfirst 3",
    "v",
    "P1D | P2D | P1D"
)]
#[case::appended("append farms", "term", "· | · | · | · | P1M")]
#[case::joined("join left farms on farm", "term", "P1M | · | · | ·")]
#[case::defined("define due(d) = d + interval '1' month", "", "")]
fn steps_take_them(#[case] steps: &str, #[case] name: &str, #[case] expected: &str) {
    if name.is_empty() {
        let recipe = format!("{steps}\n{VALUES}add x = due(day)\nfirst 1");
        assert_eq!(column(&Flow::recipe(&recipe).run().unwrap(), "x"), "2026-02-28");
        return;
    }
    let recipe =
        format!("table farms\n  values farm: ('F1')\n  add term = interval '1' month\n{VALUES}{steps}");
    for memory in [1, u64::MAX] {
        let options = RunOptions::new().threads(2).batch_rows(2).memory(memory);
        let table = Flow::recipe(&recipe).run_with(&options).unwrap();
        assert_eq!(column(&table, name), expected, "{memory}");
    }
}

#[rstest]
#[case("out.arrow", "t interval")]
#[case("out.csv", "t text")]
#[case("out.ndjson", "t text")]
#[case("out.xlsx", "t text")]
fn files(#[case] file: &str, #[case] kind: &str) {
    let folder = tempfile::tempdir().unwrap();
    let recipe = format!("{VALUES}add t = n * interval '1' month\nwrite '{file}'");
    Flow::recipe(&recipe).in_folder(folder.path()).run().unwrap();
    let again = Flow::recipe(&format!("read '{file}'")).in_folder(folder.path()).run().unwrap();
    let kinds: Vec<String> = again.columns().map(|(name, kind)| format!("{name} {kind}")).collect();
    assert!(kinds.contains(&kind.to_owned()), "{kinds:?}");
    assert_eq!(column(&again, "t"), "P1M | P-2M | · | PT0S");
}

#[rstest]
#[case::order("sort n * interval '1' day", "interval has no order")]
#[case::compared("filter n * interval '1' day > interval '1' day", "Intervals have no order")]
#[case::in_a_list("filter n * interval '1' day in (interval '1' day)", "Intervals have no order")]
#[case::largest("total: x = max(n * interval '1' day)", "max takes no interval")]
#[case::function("add x = least(interval '1' day, interval '2' day)", "least takes no interval")]
#[case::in_a_window("window order by n * interval '1' day: k = count()", "interval has no order")]
#[case::pivoted("add t = n * interval '1' day\npivot t by farm: k = count()", "t is interval, and no key")]
#[case::half("add x = 0.5 * interval '1' day", "a whole number of times")]
#[case::hours_of_a_column("add t = n * interval '1' hour\nadd x = day + t", "A date cannot be moved by PT1H")]
#[case::to_parquet("add t = n * interval '1' day\nwrite 'x.parquet'", "Parquet files hold no intervals")]
#[case::too_long("add x = interval '99999999999' month", "too long")]
fn refused(#[case] steps: &str, #[case] expected: &str) {
    let error = run(steps).unwrap_err().to_string();
    assert!(error.contains(expected), "{error}");
}

#[test]
fn those_that_become_too_long_are_counted() {
    let table = run("add x = n * interval '2000000000' month, y = n * interval '1500000000' month").unwrap();
    assert_eq!(column(&table, "x"), "P166666666Y8M | · | · | PT0S");
    let lost: u64 = table
        .ledger()
        .steps()
        .iter()
        .flat_map(|s| &s.events)
        .filter(|(e, _)| *e == Event::OutOfDomain)
        .map(|(_, n)| *n)
        .sum();
    assert_eq!(lost, 2);
}
