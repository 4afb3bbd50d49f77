//! A plan as the checker made it, and the same plan rewritten: rows, order, ledger and errors are the same.

use churn_core::{Ledger, Scalar};
use churn_exec::Collect;
use churn_expr::moment::Moment;
use churn_plan::{Plan, rules};
use rstest::rstest;
use tempfile::TempDir;

use super::Flow;
use crate::options::RunOptions;
use crate::table::Table;

const DELIVERIES: &str = "farm,day,litres,fat,grade\n\
    F1,2026-01-01,10,4.1,A\n\
    F2,2026-01-01,20,3.9,B\n\
    F1,2026-01-02,30,4.0,A\n\
    F3,2026-01-02,40,,C\n\
    ,2026-01-03,50,4.4,A\n\
    F2,,60,3.7,\n\
    F1,2026-01-04,,4.2,B\n\
    F4,2026-01-04,80,4.3,A\n";
const FARMS: &str = "farm,district,herd\nF1,North,40\nF2,South,55\nF2,South,60\nF9,North,10\n";

fn folder() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("t.csv"), DELIVERIES).unwrap();
    std::fs::write(folder.path().join("farms.csv"), FARMS).unwrap();
    folder
}

/// The rows of a plan and its ledger, or its error.
fn ran(plan: &Plan, options: &RunOptions) -> Result<(Vec<Vec<Scalar>>, Ledger), String> {
    let (batches, ran) =
        churn_exec::run(plan, options.settings(), |_| Ok(Collect::sink())).map_err(|e| e.to_string())?;
    let table = Table::new(plan.main.fields.clone(), batches, None, ran.ledger.clone());
    let names: Vec<String> = table.columns().map(|(name, _)| name.to_owned()).collect();
    let columns: Vec<Vec<Scalar>> = names.iter().map(|name| table.values(name).unwrap()).collect();
    let rows =
        (0..table.len()).map(|row| columns.iter().map(|column| column[row].clone()).collect()).collect();
    Ok((rows, ran.ledger))
}

#[rstest]
#[case::first("add double = litres / 2\nfirst 3")]
#[case::first_below_a_filter("filter litres > 15\nfirst 3")]
#[case::first_of_groups("sort litres desc\nfirst 1 per farm")]
#[case::filter("filter litres > 15 and fat > 3.8\nfilter grade = 'A'")]
#[case::filter_over_columns("add half = litres / 2, dear = fat > 4\nfilter half > 10 and dear")]
#[case::filter_over_a_sort("sort fat desc nulls first\nfilter litres > 15\nsort farm")]
#[case::filter_over_a_distinct("distinct by farm\nfilter farm <> 'F2'")]
#[case::filter_over_a_group(
    "group by farm, grade: n = count(), litres = sum(litres)\nfilter farm <> 'F2' and n > 1"
)]
#[case::filter_over_a_window("window by farm order by day\n  before = lag(litres)\nfilter farm <> 'F2'")]
#[case::filter_over_a_window_of_others(
    "window by farm order by day\n  before = lag(litres)\nfilter litres > 20"
)]
#[case::filter_over_a_fill("fill fat with mean(fat)\nfilter fat > 4")]
#[case::filter_over_a_join("join left 'farms.csv' on farm\nfilter district = 'South' and litres > 10")]
#[case::filter_over_a_full_join("join full 'farms.csv' on farm\nfilter herd > 20 or litres > 30")]
#[case::filter_over_an_append("append 't3'\nfilter litres > 30\nfirst 3")]
#[case::filter_over_an_unpivot("unpivot value for name in litres, fat skip nulls\nfilter value > 4")]
#[case::filter_over_a_pivot(
    "select farm, grade, litres\npivot grade in ('A', 'B') by farm: litres = sum(litres)\nfilter farm = 'F1'"
)]
#[case::filter_that_is_unknown("filter fat > 4 and grade <> 'B'")]
#[case::filter_that_may_fail("add part = 100 div (litres - 10)\nfilter fat > 4")]
#[case::filter_before_what_may_fail("filter litres > 10\nadd part = cast(grade as int)")]
#[case::columns_that_nobody_needs("add double = litres * 2, other = fat\nselect farm")]
#[case::aggregates_that_nobody_needs(
    "group by farm: n = count(), s = sum(litres), m = median(fat)\ndrop s, m"
)]
#[case::per("add share = litres / sum(litres) per farm\nfilter share > 0.3\ndrop litres")]
#[case::windows(
    "window by farm order by day\n  before = lag(litres)\nwindow by farm order by day\n  after = lead(fat)\nwindow order by litres\n  place = rank()"
)]
#[case::top("sort litres desc, farm\nfirst 3\nselect farm, litres")]
#[case::top_after_some("sort litres desc, farm\nfirst 2 after 3")]
#[case::last("sort litres\nlast 2\nfilter fat > 4")]
#[case::semi("join semi 'farms.csv' on farm\nfilter litres > 5\nfirst 3")]
#[case::anti("join anti 'farms.csv' on farm\nsort day")]
#[case::asof("add d = litres\njoin asof left 'farms.csv' on d >= herd prefix 'o_'\nfilter o_herd > 20")]
#[case::paste("paste 't2'\nfilter litres > 20")]
#[case::require("filter litres > 0\nrequire litres > 5\nfilter grade = 'A'\nfirst 2")]
#[case::require_that_fails("require litres > 15\nfilter litres > 15\nfirst 1")]
#[case::sample("sample 4 seed 7\nfilter litres > 10")]
#[case::used_twice("join inner twice on farm prefix 'o_'\njoin semi twice on farm\nfilter o_litres > 15")]
#[case::split("split day at '-' as y, m, d keep\nfilter m = '01'\ndrop y")]
#[case::densify("densify farm, grade\nfilter litres is null")]
#[case::nested(
    "filter litres in (10, 20, 60)\nadd n = count() per grade\nfilter n > 1\ngroup by n: f = first(farm)\nsort n"
)]
fn rules_change_nothing_that_is_told(#[case] steps: &str, #[values(1, 3)] threads: usize) {
    let folder = folder();
    let twice = "table twice\n  read 't.csv'\n  filter litres > 10\n  select farm, litres\n";
    let beside = "table t2\n  read 't.csv'\n  select other = grade\n";
    let again = "table t3\n  read 't.csv' with (types = (day text))\n";
    let steps = steps.replace("'t2'", "t2").replace("'t3'", "t3");
    let recipe = format!("{twice}{beside}{again}read 't.csv' with (types = (day text))\n{steps}\n");
    let flow = Flow::recipe(&recipe).in_folder(folder.path());
    let options = RunOptions::new().threads(threads).batch_rows(2).block_bytes(40);
    let moment = Moment::default();
    let plain = flow.checked(Some(&options), &moment).unwrap_or_else(|e| panic!("{e}")).plan;
    let rewritten = rules::rewrite_plan(plain.clone());
    assert_eq!(plain.main.fields, rewritten.main.fields, "{recipe}");
    match (ran(&plain, &options), ran(&rewritten, &options)) {
        (Ok((rows, ledger)), Ok((found, told))) => {
            assert_eq!(found, rows, "{recipe}");
            // How a row was left out may be told in other words, not how many were, but for what nobody waited for.
            for (before, after) in ledger.steps().iter().zip(told.steps()) {
                assert_eq!(before.step, after.step, "{recipe}");
                if let (Some(rows), Some(found)) = (before.rows_out, after.rows_out) {
                    assert_eq!(found, rows, "{recipe}{told}");
                }
            }
        }
        (Err(error), Err(found)) => assert_eq!(found, error, "{recipe}"),
        (plain, found) => panic!("{recipe}\nas it is: {plain:?}\nrewritten: {found:?}"),
    }
    // A plan that was rewritten has nothing left to rewrite that changes its picture.
    let picture = |plan: &Plan| {
        struct Shown<'a>(&'a Plan);
        impl std::fmt::Display for Shown<'_> {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                churn_plan::picture::write(self.0, 200, f)
            }
        }
        let text = Shown(plan).to_string();
        text.lines().filter(|line| !line.contains("ewrit")).collect::<Vec<_>>().join("\n")
    };
    assert_eq!(picture(&rules::rewrite_plan(rewritten.clone())), picture(&rewritten), "{recipe}");
}
