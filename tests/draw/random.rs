//! Random tables and charts: a picture or an error that is the rows' own, never a fault; the same bytes on any threads.

use churn::{ErrorKind, Flow, RunOptions};
use proptest::prelude::*;

fn cell() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => (-1000i32..1000).prop_map(|n| n.to_string()),
        2 => Just("null".to_owned()),
        1 => Just("0".to_owned()),
        1 => Just("1000000000000".to_owned()),
    ]
}

fn chart() -> impl Strategy<Value = String> {
    let kind = prop::sample::select(vec!["histogram", "bars", "lines", "area", "points", "box", "heat"]);
    let column = || prop::sample::select(vec!["a", "b", "key", "day", "x", "moment", "truth"]);
    let measure = prop::sample::select(vec!["a", "b", "x", "a, b", "day", "a + b"]);
    let by = prop::option::of(column());
    let panels = prop::option::of(prop::sample::select(vec!["key", "truth", "key, truth"]));
    let with = prop::sample::select(vec![
        "",
        " with (stacked = true)",
        " with (labels = true)",
        " with (log = y)",
        " with (log = both)",
        " with (bins = 7)",
        " with (ground = dark, unit = 'l')",
    ]);
    (kind, measure, prop::option::of(column()), by, panels, with).prop_map(
        |(kind, measure, over, by, panels, with)| {
            let over = over.map(|column| format!(" over {column}")).unwrap_or_default();
            let by = by.map(|column| format!(" by {column}")).unwrap_or_default();
            let panels = panels.map(|columns| format!(" panels by {columns}")).unwrap_or_default();
            format!("draw {kind} {measure}{over}{by}{panels}{with}")
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn any_chart_of_any_rows(
        rows in prop::collection::vec((cell(), cell(), 0u8..4, -500i32..500), 0..30),
        chart in chart(),
        width in 240u32..1400,
        height in 180u32..900,
    ) {
        let values: String = rows
            .iter()
            .map(|(a, b, key, day)| format!("\n  {a}, {b}, 'k{key}', {day}"))
            .collect();
        let start = if values.is_empty() { "\n  1, 1, 'k', 1".to_owned() } else { values };
        let flow = Flow::steps(&format!("values a, b, key, n{start}"))
            .add("a = cast(a as int), b = cast(b as int)")
            .add("day = date '2026-03-01' + n * interval '1' day, moment = cast(date '2026-03-01' + n * interval '1' day as timestamp)")
            .add("x = case when n mod 7 = 0 then cast('nan' as float) else n / 3 end, truth = n > 0")
            .then(&chart);
        let Ok(plan) = flow.plan() else { return Ok(()) };
        let drawn = |threads: usize| plan.chart_with(&RunOptions::new().threads(threads).batch_rows(5));
        match drawn(1) {
            Ok(chart) => {
                let svg = chart.clone().size(width, height).svg();
                prop_assert!(!svg.contains("\"NaN\"") && !svg.contains("inf\""), "{}", svg);
                prop_assert_eq!(chart.svg(), drawn(2).unwrap().svg());
                let screen = churn::Screen { width: 60, ..churn::Screen::default() };
                let text = chart.text(screen);
                prop_assert!(text.lines().all(|line| line.chars().count() <= 60), "{}", text);
                chart.data().unwrap();
                chart.size(width, height).png(0.5).unwrap();
            }
            Err(error) => prop_assert_eq!(error.kind(), ErrorKind::Data, "{}", error),
        }
    }
}
