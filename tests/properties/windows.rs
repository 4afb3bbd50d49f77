//! Window functions of the whole catalogue, in every frame: in memory and past it, with one thread and several.

use churn::{Flow, Scalar};
use proptest::prelude::*;
use rstest::rstest;

use crate::columns::{SETTINGS, Values, flow, options, rows};

/// Calls that take a frame: each aggregate and each function of values.
const FRAMED: [&str; 36] = [
    "count()",
    "count(x)",
    "count_distinct(x)",
    "sum(x)",
    "mean(x)",
    "weighted_mean(x, y)",
    "stddev(x)",
    "variance(x)",
    "covar(x, y)",
    "corr(x, y)",
    "regr_slope(x, y)",
    "regr_r2(x, y)",
    "regr_intercept(x, y)",
    "min(x)",
    "max(x)",
    "min(t)",
    "max(t)",
    "first(x)",
    "last(t)",
    "min_by(t, x)",
    "max_by(x, y)",
    "median(x)",
    "quantile(x, 0.25)",
    "mode(t)",
    "array_agg(x)",
    "listagg(t, '/')",
    "any(x > 0)",
    "every(x > 0)",
    "first_value(x)",
    "last_value(t)",
    "nth_value(x, 2)",
    "sum(x) where (y > 0)",
    "count_distinct(t)",
    "sum(y)",
    "max(y)",
    "min(d)",
];

/// Calls that see the whole partition.
const WHOLE: [&str; 12] = [
    "row_number()",
    "rank()",
    "dense_rank()",
    "percent_rank()",
    "cume_dist()",
    "ntile(3)",
    "lag(x)",
    "lag(t, 2)",
    "lead(x, 1, 7)",
    "lead(y, 3)",
    "sum(x) / count()",
    "lag(d)",
];

const FRAMES: [&str; 14] = [
    "",
    " over last 1 rows",
    " over last 3 rows",
    " over next 4 rows",
    " over rows so far",
    " over rows from here",
    " over rows between 2 preceding and 1 following",
    " over rows between 5 preceding and 3 preceding",
    " over rows between 2 following and 4 following",
    " over rows between unbounded preceding and 1 preceding",
    " over range between 2 preceding and current row",
    " over range between current row and 3 following",
    " over range between unbounded preceding and 1 following",
    " over range between 4 preceding and 2 preceding",
];

/// A table with few partitions, ties in the order, and nulls everywhere.
fn table() -> impl Strategy<Value = Flow> {
    (1..60usize, 1..5i64).prop_flat_map(|(rows, farms)| {
        let farm = prop::collection::vec(prop::option::weighted(0.9, 0..farms), rows);
        let day = prop::collection::vec(prop::option::weighted(0.9, 0..9i64), rows);
        let x = prop::collection::vec(prop::option::weighted(0.8, -6..6i64), rows);
        let y = prop::collection::vec(prop::option::weighted(0.8, -40..40i64), rows);
        let t = prop::collection::vec(prop::option::weighted(0.8, "[ab]{0,2}"), rows);
        let d = prop::collection::vec(prop::option::weighted(0.8, 0..5i32), rows);
        (farm, day, x, y, t, d).prop_map(|(farm, day, x, y, t, d)| {
            // Quarters, so that sums are exact however they meet.
            let y = y.into_iter().map(|y| y.map(|y| y as f64 / 4.0)).collect();
            flow(&[
                ("farm", Values::Int(farm)),
                ("day", Values::Int(day)),
                ("x", Values::Int(x)),
                ("y", Values::Float(y)),
                ("t", Values::Text(t)),
                ("d", Values::Date(d)),
            ])
        })
    })
}

fn named(calls: &[String]) -> String {
    calls.iter().enumerate().map(|(i, call)| format!("\n  c{i} = {call}")).collect()
}

/// Holds two runs of a window to one another: floats to the last bits, as parts of sums may meet in another order.
fn agree(found: &[Vec<Scalar>], expected: &[Vec<Scalar>]) -> bool {
    let same = |(a, b): (&Scalar, &Scalar)| match (a, b) {
        (Scalar::Float(a), Scalar::Float(b)) => {
            a == b || a.is_nan() && b.is_nan() || (a - b).abs() <= 1e-12 * a.abs().max(b.abs())
        }
        _ => a == b,
    };
    found.len() == expected.len()
        && found.iter().zip(expected).all(|(a, b)| a.len() == b.len() && a.iter().zip(b).all(same))
}

#[rstest]
fn frames_are_the_same_past_the_memory(#[values("by farm ", "")] by: &str) {
    let config = ProptestConfig::with_cases(6);
    proptest!(config, |(table in table(), descending in any::<bool>())| {
        for frame in FRAMES {
            let calls: Vec<String> = FRAMED
                .iter()
                .map(|call| match call.split_once(" where ") {
                    Some((call, only)) => format!("{call} where {only}{frame}"),
                    None => format!("{call}{frame}"),
                })
                .collect();
            let desc = if descending { " desc" } else { "" };
            let flow = table.clone().then(&format!("window {by}order by day{desc}{}", named(&calls)));
            let run = |setting| rows(&flow.run_with(&options(setting)).unwrap_or_else(|e| panic!("{flow}\n{e}")));
            let alone = run(SETTINGS[0]);
            for setting in &SETTINGS[1..] {
                prop_assert!(agree(&run(*setting), &alone), "{}: {}\n{:?}", setting.0, flow, alone);
            }
        }
    });
}

#[test]
fn whole_partitions_are_the_same_past_the_memory() {
    let config = ProptestConfig::with_cases(24);
    proptest!(config, |(table in table())| {
        let calls: Vec<String> = WHOLE.iter().map(|call| (*call).to_owned()).collect();
        for order in ["day", "day desc nulls first, t"] {
            let flow = table.clone().then(&format!("window by farm order by {order}{}", named(&calls)));
            let run = |setting| rows(&flow.run_with(&options(setting)).unwrap_or_else(|e| panic!("{flow}\n{e}")));
            let alone = run(SETTINGS[0]);
            for setting in &SETTINGS[1..] {
                prop_assert_eq!(&run(*setting), &alone, "{}: {}", setting.0, flow);
            }
        }
    });
}

/// Columns that only the window reads end there: what is left is the same as where all are kept, in memory and past it.
#[test]
fn columns_that_end_at_a_window_leave_the_others_alone() {
    let config = ProptestConfig::with_cases(8);
    let columns = ["farm", "day", "x", "y", "t", "d"];
    proptest!(config, |(table in table(), kept in prop::sample::subsequence(columns.to_vec(), 0..4))| {
        let calls = "\n  m = mean(y) over last 3 rows\n  p = lag(t)\n  r = rank()\n  w = sum(x) where (y > 0)";
        for by in ["by farm", "by farm, t", ""] {
            let flow = table.clone().then(&format!("window {by} order by day desc, d{calls}"));
            let whole = flow.run().unwrap();
            let wanted: Vec<&str> = kept.iter().copied().chain(["m", "p", "r", "w"]).collect();
            let some = flow.select(wanted.join(", "));
            for setting in SETTINGS {
                let found = some.run_with(&options(setting)).unwrap_or_else(|e| panic!("{some}\n{e}"));
                for name in &wanted {
                    prop_assert_eq!(found.values(name), whole.values(name), "{} of {}: {}", name, setting.0, some);
                }
            }
        }
    });
}

/// A function that is new in the catalogue is missing above.
#[test]
fn every_function_is_called() {
    let called =
        |name: &str| FRAMED.iter().chain(&WHOLE).any(|call| call.split(['(', ' ']).any(|word| word == name));
    let missing: Vec<&str> = churn::aggregates()
        .map(|aggregate| aggregate.name)
        .chain(churn::window_functions().map(|function| function.name))
        .filter(|name| !called(name))
        .collect();
    assert_eq!(missing, [""; 0], "these are called nowhere");
}

/// Frames of sums and counts, against a loop over the rows of the partition.
#[test]
fn row_frames_are_sums_over_rows() {
    let config = ProptestConfig::with_cases(48);
    let values = prop::collection::vec(prop::option::weighted(0.8, -50..50i64), 1..40);
    proptest!(config, |(x in values, before in 0..6i64, after in -3..6i64)| {
        let table = flow(&[("x", Values::Int(x.clone()))]);
        let end = if after < 0 { format!("{} preceding", -after) } else { format!("{after} following") };
        let frame = format!("over rows between {before} preceding and {end}");
        // A frame that ends before it begins is a mistake.
        if -after > before {
            return Ok(());
        }
        let found = table.then(&format!("window\n  s = sum(x) {frame}\n  n = count(x) {frame}\n  m = max(x) {frame}")).run().unwrap();
        let expected: Vec<Vec<Scalar>> = (0..x.len() as i64)
            .map(|row| {
                let seen = |other: i64| (row - before..=row + after).contains(&other);
                let values: Vec<i64> =
                    x.iter().zip(0..).filter(|(_, other)| seen(*other)).filter_map(|(x, _)| *x).collect();
                let optional = |value: Option<i64>| value.map_or(Scalar::Null, Scalar::Int);
                vec![
                    optional(x[row as usize]),
                    optional(values.iter().copied().reduce(|a, b| a + b)),
                    Scalar::Int(values.len() as i64),
                    optional(values.iter().copied().max()),
                ]
            })
            .collect();
        prop_assert_eq!(rows(&found), expected, "{}", frame);
    });
}
