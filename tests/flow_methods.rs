//! Every method of `Flow` adds the step that its text in the language is.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use churn::{Flow, Join, Window, column};
use rstest::rstest;

fn milk() -> Flow {
    Flow::steps(
        "values farm, day, litres, grade: ('F001', 1, 10, 'A'), ('F002', 1, 5, null), ('F001', 2, 30, 'A')",
    )
}

#[rstest]
#[case::filter(milk().filter("litres > 5"), "filter litres > 5")]
#[case::filter_of_an_expression(milk().filter(column("litres").gt(5)), "filter litres > 5")]
#[case::select(milk().select("farm, l = litres * 2"), "select farm, l = litres * 2")]
#[case::drop(milk().drop("day, grade"), "drop day, grade")]
#[case::rename(milk().rename("amount = litres"), "rename amount = litres")]
#[case::add(milk().add("half = litres / 2"), "add half = litres / 2")]
#[case::sort(milk().sort("litres desc, farm"), "sort litres desc, farm")]
#[case::first(milk().first(2), "first 2")]
#[case::last(milk().last(1), "last 1")]
#[case::sample(milk().sample(2, 7), "sample 2 seed 7")]
#[case::distinct(milk().distinct(""), "distinct")]
#[case::distinct_by(milk().distinct("farm"), "distinct by farm")]
#[case::group(milk().group("farm", "n = count(), s = sum(litres)"), "group by farm\n  n = count()\n  s = sum(litres)")]
#[case::total(milk().total("n = count()"), "total\n  n = count()")]
#[case::fill(milk().fill("grade", "'B'"), "fill grade with 'B'")]
#[case::fill_down(milk().fill_down("grade", ""), "fill grade down")]
#[case::fill_up(milk().fill_up("grade", "farm"), "fill grade up by farm")]
#[case::require(milk().require("litres > 0"), "require litres > 0")]
#[case::require_unique(milk().require_unique("farm, day"), "require unique by farm, day")]
#[case::pivot(milk().pivot("day by farm", "sum(litres)"), "pivot day by farm\n  sum(litres)")]
#[case::unpivot(milk().drop("grade").unpivot("value for what in day, litres"), "drop grade\nunpivot value for what in day, litres")]
#[case::split(milk().split("farm at '0' as letter, a, b"), "split farm at '0' as letter, a, b")]
#[case::densify(milk().densify("farm, litres"), "densify farm, litres")]
#[case::unnest(milk().add("w = parts(farm, '0')").unnest("w"), "add w = parts(farm, '0')\nunnest w")]
#[case::window(
    milk().window(Window::by("farm").order("day"), "before = lag(litres)"),
    "window by farm order by day\n  before = lag(litres)"
)]
#[case::window_over_all(milk().window(Window::whole(), "s = sum(litres)"), "window\n  s = sum(litres)")]
fn a_method_is_its_text(#[case] flow: Flow, #[case] text: &str) {
    let written = milk().then(text);
    assert_eq!(flow.to_string(), written.to_string());
    assert_eq!(flow.to_string(), Flow::recipe(&flow.to_string()).to_string());
    let (ours, theirs) = (flow.run().expect("a run"), written.run().expect("a run"));
    assert_eq!(format!("{ours:?}"), format!("{theirs:?}"));
}

#[rstest]
#[case::inner(Join::inner().on("farm"), "join inner herds on farm")]
#[case::left(Join::left().on("farm"), "join left herds on farm")]
#[case::right(Join::right().on("farm"), "join right herds on farm")]
#[case::full(Join::full().on("farm"), "join full herds on farm")]
#[case::semi(Join::semi().on("farm"), "join semi herds on farm")]
#[case::anti(Join::anti().on("farm"), "join anti herds on farm")]
#[case::cross(Join::cross().prefix("h_"), "join cross herds prefix 'h_'")]
#[case::asof(Join::left().asof().on("farm").on("day >= since"), "join asof left herds on farm, day >= since")]
#[case::one(Join::left().on("farm").expect_one(), "join left herds on farm expect one")]
#[case::all(Join::inner().on("farm").expect_all(), "join inner herds on farm expect all")]
fn a_join_is_its_text(#[case] how: Join, #[case] text: &str) {
    let herds = "values farm, since, herd: ('F001', 1, 40), ('F002', 0, 55)";
    let ours = milk().join(&Flow::steps(herds), how).run().expect("a run");
    let written = format!("table herds\n  {herds}\n{}\n{text}", milk());
    let theirs = Flow::recipe(&written).run().unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(ours.to_string(), theirs.to_string());
}

#[rstest]
#[case::append(|a: Flow, b: &Flow| a.append(b), "append more")]
#[case::append_strict(|a: Flow, b: &Flow| a.append_strict(b), "append more strict")]
#[case::paste(|a: Flow, b: &Flow| a.drop("farm").paste(b), "drop farm\npaste more")]
fn a_second_table_is_its_text(#[case] add: fn(Flow, &Flow) -> Flow, #[case] text: &str) {
    let more = if text.contains("paste") { "values herd: (1), (2), (3)" } else { &milk().to_string() };
    let ours = add(milk(), &Flow::steps(more)).run().expect("a run");
    let indented = more.replace('\n', "\n  ");
    let theirs = Flow::recipe(&format!("table more\n  {indented}\n{}\n{text}", milk()));
    let theirs = theirs.run().unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(ours.to_string(), theirs.to_string());
}
