//! Charts that cannot be: told before anything is read where names and types show it, else by the rows, with a way out.

use churn::steps::Draw;
use churn::{ErrorKind, Flow, RunOptions};
use rstest::rstest;

use super::{milk, numbered};

#[rstest]
#[case::kind("pie litres", "There is no kind of chart pie.")]
#[case::mistyped_kind("histgram litres", "Did you mean histogram?")]
#[case::column("histogram liters", "Did you mean litres?")]
#[case::no_measure("bars over farm", "bars draws a measure, and none is named.")]
#[case::no_along("lines litres", "lines stand along something, and nothing is named.")]
#[case::over_of_a_histogram("histogram litres over farm", "A histogram stands along its own values")]
#[case::one_key_of_heat("heat litres over farm", "heat needs two keys")]
#[case::two_measures_of_area("area litres, id over day", "area draws one measure.")]
#[case::text_measure("histogram farm", "farm is text, and no measure of a chart")]
#[case::text_along("points litres over farm", "farm is text")]
#[case::three_panels("histogram litres panels by farm, grade, day", "Panels are of one key or of two.")]
#[case::two_colours("histogram litres by farm, grade", "by takes one key.")]
#[case::aggregate("bars sum(litres) over farm", "Group first: group by farm: \"sum(litres)\" = sum(litres)")]
#[case::option("histogram litres with (colour = 'red')", "There is no option colour.")]
#[case::option_of_others("bars litres over id with (bins = 3)", "bins is for histograms.")]
#[case::size("histogram litres with (size = '10x10')", "from 240x180 to 8000x8000")]
#[case::width("histogram litres with (width = 0)", "a number above zero")]
#[case::ground("histogram litres with (ground = blue)", "light or dark")]
#[case::ratios_of_bars("bars litres over id with (log = y)", "An axis of bars cannot show ratios here.")]
#[case::ratios_of_days("points litres over day with (log = x)", "An axis of points cannot show ratios here.")]
#[case::format("histogram litres to 'litres.gif'", "Charts are written as .svg or .png.")]
#[case::no_folder("histogram litres to 'none/litres.svg'", "none")]
#[case::behind("histogram litres with (bins = 3) over", "")]
fn mistakes_are_told_before_the_run(#[case] chart: &str, #[case] told: &str) {
    let error = milk().then(&format!("draw {chart}")).check().unwrap_err();
    assert!(error.kind().is_request(), "{error}");
    assert!(error.to_string().contains(told), "{error}");
    assert!(error.place().is_some(), "{error:?}");
}

#[test]
fn a_chart_without_a_file_ends_the_main_chain() {
    for recipe in [
        "values a: (1)\ndraw histogram a\nsort a\n",
        "table t\n  values a: (1)\n  draw histogram a\n\nread t\n",
    ] {
        let error = Flow::recipe(recipe).check().unwrap_err();
        assert!(
            error.to_string().contains("A chart without a file stands at the end of the main chain."),
            "{error}"
        );
    }
}

#[test]
fn two_steps_cannot_write_one_picture() {
    let error =
        milk().then("draw histogram litres to 'a.svg'\ndraw histogram id to 'a.svg'").check().unwrap_err();
    assert!(error.to_string().contains("a.svg"), "{error}");
}

fn many(select: &str) -> Flow {
    numbered(250_000).select(select)
}

#[rstest]
#[case::no_rows("values litres: (1)\nfilter litres > 1", "histogram litres", "No row came here.")]
#[case::all_null(
    "values a: (1)\nselect litres = cast(null as int)",
    "histogram litres",
    "litres is null in 1"
)]
#[case::all_null_untyped("values a: (1)\nselect litres = null", "histogram litres", "litres is null in 1")]
#[case::nothing_finite(
    "values x: ('nan'), ('inf')\nselect x = cast(x as float)",
    "histogram x",
    "2 are NaN or infinite"
)]
#[case::no_ratio("values a, b: (0, 1), (-1, 1)", "points a over b with (log = y)", "2 are not above zero")]
#[case::two_rows_of_a_bar(
    "values farm, n: ('a', 1), ('a', 2)",
    "bars n over farm",
    "Group first: group by farm: n = sum(n)"
)]
#[case::two_rows_of_a_tile(
    "values a, b, n: (1, 1, 1), (1, 1, 2)",
    "heat n over a by b",
    "Two rows have one place"
)]
#[case::two_rows_of_an_area("values a, n: (1, 1), (1, 2)", "area n over a", "Two rows have one place")]
#[case::below_zero(
    "values a, b, n: (1, 'x', 1), (1, 'y', -2)",
    "area n over a by b",
    "Draw lines, or say stacked = false."
)]
#[case::narrow_bins("values n: (1), (1000000)", "histogram n with (width = 0.5)", "Try width = ")]
fn rows_that_cannot_be_drawn_are_told(#[case] table: &str, #[case] chart: &str, #[case] told: &str) {
    let plan = Flow::steps(table).then(&format!("draw {chart}")).plan().unwrap();
    let error = plan.chart_with(&RunOptions::new()).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Data, "{error}");
    assert!(error.to_string().contains(told), "{error}");
}

#[rstest]
#[case::colours("x = id, y = cast(id as text)", "histogram x by y", "y has more than 12 values")]
#[case::panels("x = id, y = id", "histogram x panels by y", "y has more than 12 values")]
#[case::bars("x = id, y = cast(id as text)", "bars x over y", "y has more than 60 values")]
#[case::days(
    "x = id, y = date '2026-01-01' + id * interval '1' day",
    "bars x over y",
    "start_of(month, DATE)"
)]
#[case::lines(
    "x = id, y = id",
    "lines x over y",
    "More than 200\u{a0}000 rows cannot be told apart as lines."
)]
fn more_than_can_be_read_is_refused(#[case] select: &str, #[case] chart: &str, #[case] told: &str) {
    let plan = many(select).then(&format!("draw {chart}")).plan().unwrap();
    let error = plan.chart_with(&RunOptions::new()).unwrap_err();
    assert!(error.to_string().contains(told), "{error}");
}

/// A run that fails leaves the picture of the time before as it was.
#[rstest]
#[case("values a: (1), (2)\ndraw bars a over b = 1 to 'old.svg'")]
#[case("values a: (1), (2)\ndraw histogram a to 'old.svg'\nrequire a < 2")]
fn a_failed_run_changes_no_picture(#[case] steps: &str) {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("old.svg"), "old").unwrap();
    assert!(Flow::steps(steps).in_folder(folder.path()).run().is_err());
    assert_eq!(std::fs::read_to_string(folder.path().join("old.svg")).unwrap(), "old");
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "nothing else is left");
}

#[test]
fn a_table_is_drawn_as_its_chain_is() {
    let table = milk().run().unwrap();
    let from_table = table.draw(Draw::histogram("litres").by("grade")).unwrap();
    let from_flow = milk().chart(Draw::histogram("litres").by("grade")).unwrap();
    assert_eq!(from_table.svg(), from_flow.svg());
    let error = table.draw(Draw::histogram("liters")).unwrap_err();
    assert!(error.to_string().contains("Did you mean litres?"), "{error}");
}
