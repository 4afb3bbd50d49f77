//! Tables of a recipe in expressions, `x in NAME` and `$NAME.column`: answers, what is told, and what is refused.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs;

use churn::{Flow, RunOptions, Scalar, Table};
use rstest::rstest;

const TABLES: &str = "\
table farms
  values farm, district, herd: ('F1', 'Lakes', 40), ('F2', 'Vale', 55), ('F3', 'Vale', null), ('F4', 'Fen', 12)
table of_vale
  read farms
  filter district = 'Vale'
  select farm
table with_null
  read farms
  select herd
table largest
  read farms
  sort herd desc
  first 1
table nothing
  read farms
  filter herd > 1000
  select herd
table summed
  read farms
  total: herds = sum(herd), farms = count()
values farm, litres
  'F2', 10
  'F1', 40
  null, 55
  'F9', 12
";

fn flow(steps: &str) -> Flow {
    Flow::recipe(&format!("{TABLES}{steps}"))
}

fn cells(table: &Table) -> String {
    let names: Vec<String> = table.columns().map(|(name, _)| name.to_owned()).collect();
    let cell = |row: usize, name: &String| match table.value(row, name).unwrap() {
        Scalar::Null => "·".to_owned(),
        value => value.plain(),
    };
    let row = |row: usize| names.iter().map(|name| cell(row, name)).collect::<Vec<_>>().join(" ");
    (0..table.len()).map(row).collect::<Vec<_>>().join(" / ")
}

#[rstest]
#[case::kept("filter farm in of_vale", "F2 10")]
#[case::kept_others("filter farm not in of_vale", "F1 40 / F9 12")]
#[case::beside("add is_in = farm in of_vale\ndrop litres", "F2 true / F1 false / · · / F9 false")]
#[case::nulls_of_the_table_match_nothing(
    "add known = litres in with_null\nselect known",
    "false / true / true / true"
)]
#[case::of_no_rows("filter litres not in nothing\ntotal: n = count()", "4")]
#[case::within_a_condition("filter litres > 30 and (farm in of_vale or farm is null)", "· 55")]
#[case::of_an_expression("filter upper(lower(farm)) in of_vale", "F2 10")]
#[case::twice("filter farm in of_vale or litres in with_null", "F2 10 / F1 40 / · 55 / F9 12")]
#[case::wider_beside_the_table("filter litres * 1.0 in with_null\ntotal: n = count()", "3")]
#[case::in_sort("sort farm in of_vale desc, litres\nfirst 2\nselect litres", "10 / 12")]
#[case::beside_an_aggregate(
    "filter litres >= mean(litres) per table and litres in with_null",
    "F1 40 / · 55"
)]
#[case::value("filter litres = $largest.herd", "· 55")]
#[case::values_of_several_tables("add x = $summed.herds + $largest.herd\nfirst 1\nselect x", "162")]
#[case::value_in_a_group("total: x = sum(litres) / $summed.herds", "1.0934579439252337")]
#[case::value_in_a_window(
    "window order by litres: x = sum(litres - $largest.herd) over rows so far\nfirst 1\nselect x",
    "-45"
)]
#[case::text_value("filter $largest.district = 'Vale' and litres = 10", "F2 10")]
#[case::null_value("table none\n", "")]
#[case::series_to_a_value(
    "select litres\ndensify litres by 15 from 10 to $largest.herd\nsort litres",
    "10 / 12 / 25 / 40 / 55"
)]
fn answers(#[case] steps: &str, #[case] expected: &str) {
    if expected.is_empty() {
        let empty = flow("total: x = max($nothing.herd)").run().unwrap_err().to_string();
        assert!(empty.starts_with("The table nothing has no rows"), "{empty}");
        return;
    }
    for threads in [1, 2] {
        let table = flow(steps).run_with(&RunOptions::new().threads(threads)).unwrap();
        assert_eq!(cells(&table), expected);
    }
    // What is printed reads back as the same recipe.
    let printed = flow(steps).to_string();
    assert_eq!(Flow::recipe(&printed).to_string(), printed);
}

#[test]
fn a_function_of_the_users_own_may_use_them() {
    let recipe = format!("define near(x) = x in of_vale and $largest.herd > 50\n{TABLES}filter near(farm)");
    assert_eq!(cells(&Flow::recipe(&recipe).run().unwrap()), "F2 10");
}

#[test]
fn the_check_knows_the_types_before_the_table_has_run() {
    let plan = flow("add x = $largest.district, y = $summed.herds * 2, z = farm in of_vale").plan().unwrap();
    let kinds: Vec<String> = plan.columns().map(|(name, kind)| format!("{name} {kind}")).collect();
    assert_eq!(kinds, ["farm text", "litres int", "x text", "y int", "z bool"]);
    assert!(plan.open().is_none());
    assert_eq!(cells(&plan.run_head(1, &RunOptions::new()).unwrap()), "F2 10 Vale 214 true");
    // Bounds of a series are needed to go on: the check says how far it came.
    let plan = flow("densify litres by 15 from 10 to $largest.herd\nfilter nonsense > 1").plan().unwrap();
    assert!(plan.open().unwrap().contains("depends on values that"));
}

#[test]
fn values_are_told() {
    let plan = flow("filter litres < $summed.herds / $summed.farms").plan_with(&RunOptions::new()).unwrap();
    assert_eq!(
        plan.notes().iter().filter(|n| n.starts_with('$')).collect::<Vec<_>>(),
        ["$summed.herds is 107.", "$summed.farms is 4."]
    );
}

#[rstest]
#[case::no_such_table("filter farm in of_vael", "There is no table of_vael", "Did you mean of_vale?")]
#[case::a_word_without_quotes("filter farm in Lakes", "There is no table Lakes", "farm in ('Lakes')")]
#[case::several_columns(
    "filter farm in farms",
    "The table farms has 3 columns, and in needs one",
    "select farm"
)]
#[case::other_type("filter litres in of_vale", "they are never equal", "cast(litres as text)")]
#[case::no_such_column(
    "filter litres > $largest.hred",
    "The table largest has no column hred",
    "$largest.herd"
)]
#[case::many_rows("filter litres > $farms.herd", "The table farms has 4 rows", "first 1")]
#[case::type_of_the_value("filter litres > $largest.district", "text", "")]
#[case::in_a_group("group by x = farm in of_vale: n = count()", "in of_vale cannot stand here", "add is_in")]
#[case::in_an_aggregate(
    "total: n = count() where (farm in of_vale)",
    "in of_vale cannot stand here",
    "add is_in"
)]
#[case::not_a_parameter("filter litres > $largest", "There is no parameter $largest", "")]
fn refused(#[case] steps: &str, #[case] what: &str, #[case] next: &str) {
    let error = flow(steps).run().unwrap_err().to_string();
    assert!(error.contains(what) && error.contains(next), "{error}");
}

#[test]
fn a_table_that_writes_runs_once_for_its_value() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("log.csv");
    fs::write(&path, "n\n7\n").unwrap();
    let recipe = |main: &str| {
        let table = "table t\n  values n: (1)\n  write 'log.csv' with (mode = append)\n";
        Flow::recipe(&format!("{table}{main}")).in_folder(folder.path()).run()
    };
    let table = recipe("values x: (1), (2)\nfilter x = $t.n\nappend t").unwrap();
    assert_eq!(cells(&table), "1 · / · 1");
    assert_eq!(fs::read_to_string(&path).unwrap(), "n\n7\n1\n");
    let error = recipe("values x: (1), (2)\nappend t\nfilter x = $t.n").unwrap_err().to_string();
    assert!(error.contains("would run twice"), "{error}");
    assert_eq!(fs::read_to_string(&path).unwrap(), "n\n7\n1\n");
}

#[test]
fn large_tables_are_looked_up_within_a_budget() {
    let rows: String = (0..60_000).map(|i| format!("{}\n", (i * 7919) % 100_003)).collect();
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("keys.csv"), format!("k\n{rows}")).unwrap();
    let recipe = "table keys\n  read 'keys.csv'\n  filter k mod 3 = 0\nread 'keys.csv'\n\
                  total: a = count() where (k mod 3 = 0), n = count()";
    let looked_up = "table keys\n  read 'keys.csv'\n  filter k mod 3 = 0\nread 'keys.csv'\n\
                     add is_in = k in keys\ntotal: a = count() where (is_in), n = count()";
    let counted = Flow::recipe(recipe).in_folder(folder.path()).run().unwrap();
    for memory in [1, 1 << 20, u64::MAX] {
        let options = RunOptions::new().memory(memory).threads(2);
        let table = Flow::recipe(looked_up).in_folder(folder.path()).run_with(&options).unwrap();
        assert_eq!(cells(&table), cells(&counted));
    }
}
