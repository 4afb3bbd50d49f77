//! The figures of charts are those that the language gives.

use churn::steps::Draw;
use churn::{Flow, Scalar};
use rstest::rstest;

use super::{milk, numbered, shown};

/// The chart that a step's text draws.
fn drawn(flow: &Flow, chart: &str) -> churn::Chart {
    let flow = flow.clone().then(&format!("draw {chart}"));
    flow.plan().and_then(|plan| plan.chart_with(&churn::RunOptions::new())).unwrap_or_else(|e| panic!("{e}"))
}

#[rstest]
#[case::bars(
    "values farm, litres: ('b', 2.5), ('a', 1.0), ('c', null)",
    "bars litres over farm",
    "farm | litres\nb | 2.5\na | 1.0"
)]
#[case::bars_below_zero(
    "values farm, litres: ('b', -2.5), ('a', 1.0)",
    "bars litres over farm",
    "farm | litres\nb | -2.5\na | 1.0"
)]
#[case::bars_of_two_measures(
    "values farm, litres, fat: ('a', 1.0, 4.0), ('b', 2.0, 5.0)",
    "bars litres, fat over farm",
    "measure | farm | value\nlitres | a | 1.0\nlitres | b | 2.0\nfat | a | 4.0\nfat | b | 5.0"
)]
#[case::bars_stand_on_each_other_and_keep_their_values(
    "values farm, grade, litres: ('a', 'A', 1.0), ('a', 'B', 2.0), ('a', 'C', -4.0)",
    "bars litres over farm by grade with (stacked = true)",
    "grade | farm | litres\nA | a | 1.0\nB | a | 2.0\nC | a | -4.0"
)]
#[case::lines_go_in_the_order_of_days(
    "values day, litres: (date '2026-03-02', 2), (date '2026-03-01', 1), (date '2026-03-04', null), (date '2026-03-03', 5)",
    "lines litres over day",
    "day | litres\n2026-03-01 | 1\n2026-03-02 | 2\n2026-03-03 | 5"
)]
#[case::areas(
    "values n, grade, litres: (1, 'A', 1), (2, 'A', 2), (1, 'B', 10), (2, 'B', 20)",
    "area litres over n by grade",
    "grade | n | litres\nA | 1 | 1\nA | 2 | 2\nB | 1 | 10\nB | 2 | 20"
)]
#[case::points_with_values(
    "values a, b, c: (1, 2, 3), (4, 5, null), (null, 1, 1)",
    "points b over a by c",
    "a | b | c\n1 | 2 | 3.0\n4 | 5 | ·"
)]
#[case::heat(
    "values month, farm, litres: (1, 'a', 10), (2, 'a', 20), (1, 'b', 5)",
    "heat litres over month by farm",
    "month | farm | litres\n1 | a | 10\n2 | a | 20\n1 | b | 5"
)]
#[case::a_histogram(
    "values litres: (1), (2), (2), (3), (7)",
    "histogram litres with (width = 2)",
    "litres_from | litres_to | rows\n0 | 2 | 1\n2 | 4 | 3\n6 | 8 | 1"
)]
#[case::a_box(
    "values litres: (1), (2), (3), (4), (100)",
    "box litres",
    "low | lower | median | upper | high | rows | outside\n1.0 | 2.0 | 3.0 | 4.0 | 4.0 | 5 | 1"
)]
#[case::keys_of_many_rows_are_in_order(
    "values grade, litres: ('B', 1), (null, 1), ('A', 2), ('B', 3)",
    "box litres over grade",
    "grade | low | lower | median | upper | high | rows | outside\nA | 2.0 | 2.0 | 2.0 | 2.0 | 2.0 | 1 | 0\n\
     B | 1.0 | 1.5 | 2.0 | 2.5 | 3.0 | 2 | 0\n(null) | 1.0 | 1.0 | 1.0 | 1.0 | 1.0 | 1 | 0"
)]
#[case::panels_of_two_keys(
    "values a, b, n: ('x', 'p', 1), ('y', 'q', 2)",
    "bars n over k = n panels by a, b",
    "panel | k | n\nx · p | 1 | 1\ny · q | 2 | 2"
)]
#[case::expressions_and_names(
    "values farm, litres: ('b', 2500), ('a', 1000)",
    "bars m3 = litres / 1000 over place = upper(farm)",
    "place | m3\nB | 2.5\nA | 1.0"
)]
fn charts_show_the_rows(#[case] table: &str, #[case] chart: &str, #[case] expected: &str) {
    let chart = drawn(&Flow::steps(table), chart);
    assert_eq!(shown(&chart.data().unwrap()), expected);
}

/// Counts of bins are those of a group by their borders.
#[rstest]
fn histograms_count_as_groups_do(#[values(3, 10, 40)] bins: usize) {
    let flow = numbered(5000).select("x = (id * 7919) mod 1013 / 4");
    let chart = drawn(&flow, &format!("histogram x with (bins = {bins})"));
    let table = chart.data().unwrap();
    let values: Vec<f64> = flow.run().unwrap().column("x").unwrap();
    let (from, to, rows): (Vec<f64>, Vec<f64>, Vec<i64>) =
        (table.column("x_from").unwrap(), table.column("x_to").unwrap(), table.column("rows").unwrap());
    let last = to.iter().copied().fold(0.0, f64::max);
    for ((from, to), rows) in from.iter().zip(&to).zip(&rows) {
        let within = |x: &&f64| *from <= **x && (**x < *to || *to == last && **x == last);
        assert_eq!(values.iter().filter(within).count() as i64, *rows, "{from} to {to}");
    }
    assert_eq!(rows.iter().sum::<i64>(), 5000);
}

/// Quartiles are those of the aggregates, also where values are counted by bins.
#[rstest]
#[case("(id * 7919) mod 1013", 0.0)]
#[case("(id * 7919) mod 104729 / 8", 3.0)]
fn boxes_are_of_the_quartiles(#[case] x: &str, #[case] near: f64) {
    let flow = numbered(30_000).select(format!("x = {x}").as_str());
    let boxes = drawn(&flow, "box x").data().unwrap();
    let quartiles = flow.total("q = quantile(x, 0.25), m = median(x), u = quantile(x, 0.75)").run().unwrap();
    for (figure, aggregate) in [("lower", "q"), ("median", "m"), ("upper", "u")] {
        let figure: Vec<f64> = boxes.column(figure).unwrap();
        let aggregate: Vec<f64> = quartiles.column(aggregate).unwrap();
        assert!((figure[0] - aggregate[0]).abs() <= near, "{figure:?} {aggregate:?}");
    }
}

/// Of very many points the cells of the grid hold all.
#[rstest]
fn grids_hold_all_points(#[values("", " by grade", " by x")] by: &str, #[values(1, 2)] threads: usize) {
    let flow = numbered(30_000)
        .select("x = (id * 7919) mod 10007, y = (id * 104729) mod 997, grade = case when id mod 2 = 0 then 'A' else 'B' end")
        .then(&format!("draw points y over x{by}"));
    let chart = flow.plan().unwrap().chart_with(&churn::RunOptions::new().threads(threads)).unwrap();
    let data = chart.data().unwrap();
    if by.is_empty() {
        let rows: Vec<i64> = data.column("rows").unwrap();
        assert_eq!(rows.iter().sum::<i64>(), 30_000);
    }
    assert!(data.len() < 10_000, "{}", data.len());
    assert!(chart.svg().contains("30\u{a0}000 points are drawn as a grid"));
    assert!(chart.svg().len() < 600_000, "{}", chart.svg().len());
}

/// A chart on the way changes nothing of the rows.
#[test]
fn rows_flow_on() {
    let folder = tempfile::tempdir().unwrap();
    let plain = milk().sort("litres desc").first(5);
    let drawing = milk()
        .draw(Draw::histogram("litres").by("grade").to(folder.path().join("a.svg")))
        .draw(Draw::points(["protein"]).over("litres").to(folder.path().join("b.png")))
        .sort("litres desc")
        .draw(Draw::bars(["litres"]).over("id").to(folder.path().join("c.svg")))
        .first(5);
    let (plain, drawn) = (plain.run().unwrap(), drawing.run().unwrap());
    assert_eq!(shown(&plain), shown(&drawn));
    let read = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
    assert!(read("a.svg").starts_with(b"<svg") && read("b.png").starts_with(b"\x89PNG"));
    // A chart sees all rows, also before a first.
    assert_eq!(String::from_utf8(read("c.svg")).unwrap().matches("</title></rect>").count(), 18);
}

/// The parts of a chart may be parameters.
#[test]
fn options_take_parameters() {
    let recipe =
        "given title = 'Milk'\n\nvalues litres: (1), (2)\ndraw histogram litres with (title = $title)\n";
    let flow = Flow::recipe(recipe).given("title", "Milk of March");
    let chart = flow.plan().unwrap().chart_with(&churn::RunOptions::new()).unwrap();
    assert_eq!(chart.title(), "Milk of March");
}

#[test]
fn nulls_are_told_and_not_drawn_as_zero() {
    let chart = drawn(&milk(), "lines protein over day by farm");
    assert!(chart.svg().contains("Not all of 18 rows are drawn: protein is null in 3."));
    let values: Vec<Scalar> = chart.data().unwrap().values("protein").unwrap();
    assert_eq!(values.len(), 15);
}
