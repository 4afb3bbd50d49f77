//! Numbers, days and texts at the ends of what there is.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::sync::Arc;

use arrow_array::{
    Array, ArrayRef, Date32Array, Date64Array, Int64Array, RecordBatch, Time32SecondArray,
    Time64MicrosecondArray, TimestampMicrosecondArray, UInt64Array,
};
use churn::{ErrorKind, Flow, RunOptions, Scalar};
use proptest::prelude::*;
use rstest::rstest;

/// The value of an expression.
fn value(expression: &str) -> Result<Scalar, churn::Error> {
    Flow::steps(&format!("values one: (1)\nadd x = {expression}")).run()?.value(0, "x")
}

#[rstest]
#[case("round(1.5, -400)", "0.0")]
#[case("round(-1.5, -309)", "-0.0")]
#[case("round(149, -2)", "100")]
#[case("round(7, -30)", "0")]
#[case("cast(0.1 as decimal(38, 30))", "0.100000000000000000000000000000")]
#[case("cast(2.675 as decimal(6, 2))", "2.68")]
#[case("cast(-1e20 as decimal(38, 2))", "-100000000000000000000.00")]
#[case("cast(1e-30 as decimal(6, 2))", "0.00")]
#[case("length(pad_left('x', 2000000))", "2000000")]
#[case("length(pad_left('x', -5))", "1")]
#[case("length(replace('xxxx', 'x', 'yy'))", "8")]
#[case("abs(-7)", "7")]
#[case("abs(cast(-7.5 as decimal(4, 1)))", "7.5")]
#[case("cast('9999-12-31 23:30:00' as timestamp)", "9999-12-31 23:30:00")]
fn at_the_ends(#[case] expression: &str, #[case] expected: &str) {
    assert_eq!(value(expression).unwrap_or_else(|e| panic!("{e}")).plain(), expected);
}

#[rstest]
#[case("round(9223372036854775807, -1)", "A whole number overflows: round(9223372036854775807, -1).")]
#[case("round(cast(99.9 as decimal(3, 1)))", "A decimal has more digits than its type: round(99.9, 0).")]
#[case("abs(-9223372036854775807 - 1)", "A whole number overflows: 0 - -9223372036854775808.")]
#[case("cast(1e300 as decimal(38, 2))", "1e300 cannot be cast to decimal(38, 2).")]
#[case(
    "cast('9999-12-31 23:30:00-01:00' as timestamp)",
    "'9999-12-31 23:30:00-01:00' cannot be cast to timestamp."
)]
#[case("cast('1e400' as float)", "'1e400' cannot be cast to float.")]
#[case("pad_left('x', 9000000000)", "A text becomes too long: more than 64 MB.")]
fn beyond_the_ends(#[case] expression: &str, #[case] what: &str) {
    let error = value(expression).unwrap_err();
    assert_eq!((error.kind(), error.what()), (ErrorKind::Data, what));
}

#[test]
fn a_literal_beyond_the_largest_float_is_told() {
    assert!(value("1e400").unwrap_err().what().contains("beyond the largest float"));
}

#[rstest]
#[case::doubled("add t = t || t", 40, 1)]
#[case::replaced("add t = replace(t, 'x', 'xx')", 40, 1)]
#[case::of_many_rows("add t = t || t", 20, 5000)]
fn texts_that_grow_are_told(#[case] step: &str, #[case] times: usize, #[case] rows: usize) {
    let rows = vec!["('xxxxx')"; rows].join(", ");
    let flow = Flow::steps(&format!("values t: {rows}\n{}", format!("{step}\n").repeat(times)));
    let error = flow.run().unwrap_err();
    assert!(error.what().contains("too long") && error.step().is_some(), "{error}");
}

#[test]
fn columns_of_files_beyond_the_calendar_are_told() {
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("day", Arc::new(Date64Array::from(vec![i64::MAX / 2]))),
        ("time", Arc::new(Time32SecondArray::from(vec![-1]))),
        ("late", Arc::new(Time32SecondArray::from(vec![86_400]))),
        ("far", Arc::new(Date32Array::from(vec![2_932_897]))),
        ("before", Arc::new(TimestampMicrosecondArray::from(vec![-719_163 * 86_400_000_000]))),
        ("of_a_day", Arc::new(Time64MicrosecondArray::from(vec![86_400_000_000]))),
        ("large", Arc::new(UInt64Array::from(vec![u64::MAX]))),
    ];
    for (name, column) in columns {
        let null = arrow_array::new_null_array(column.data_type(), 1);
        let both = arrow_select::concat::concat(&[&column, &null]).unwrap();
        let batch = RecordBatch::try_from_iter([(name, both)]).unwrap();
        let flow = Flow::batches_of(vec![batch.clone()]).unwrap();
        let error = flow.clone().add(format!("x = cast({name} as text)")).run().unwrap_err();
        assert!(error.what().contains("does not fit") && error.to_string().contains(name), "{error}");
        // Of a file the file is named.
        let folder = tempfile::tempdir().unwrap();
        let file = std::fs::File::create(folder.path().join("t.arrow")).unwrap();
        let mut writer = arrow_ipc::writer::FileWriter::try_new(file, &batch.schema()).unwrap();
        writer.write(&batch).unwrap();
        writer.finish().unwrap();
        let flow = Flow::read("t.arrow").in_folder(folder.path());
        let error = flow.clone().then(&format!("total: n = count({name})")).run().unwrap_err().to_string();
        assert!(error.contains("t.arrow") && error.contains(&format!("column {name}")), "{error}");
        assert!(flow.then("total: n = count()").run().is_ok());
    }
}

#[rstest]
#[case(&[4.6, 4.8], "4.7")]
#[case(&[0.1, 0.2, 0.3], "0.2")]
fn means_are_rounded_once(#[case] values: &[f64], #[case] expected: &str) {
    let rows: Vec<String> = values.iter().map(|v| format!("({v:e})")).collect();
    let flow = Flow::steps(&format!("values x: {}\ntotal: m = mean(x)", rows.join(", ")));
    assert_eq!(flow.run().unwrap().value(0, "m").unwrap().plain(), expected);
}

/// Σ(x − x̄)(y − ȳ) · n of whole numbers, exactly.
fn products(x: &[i64], y: &[i64]) -> i128 {
    let about = |values: &[i64]| -> Vec<i128> { values.iter().map(|v| i128::from(v - values[0])).collect() };
    let (x, y) = (about(x), about(y));
    let n = x.len() as i128;
    let xy: i128 = x.iter().zip(&y).map(|(x, y)| x * y).sum();
    xy * n - x.iter().sum::<i128>() * y.iter().sum::<i128>()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Statistics of microseconds, whose mean is large beside their spread, against exact arithmetic: at every setting
    /// the same, and right to twelve digits.
    #[test]
    fn spreads_about_a_large_mean(
        spread in prop::collection::vec((0i64..1000, 0i64..1000), 3..400),
        base in prop_oneof![Just(0i64), Just(1_000_000_000_000_000), Just(1_700_000_000_000_000)],
    ) {
        let x: Vec<i64> = spread.iter().map(|(x, _)| base + x).collect();
        let y: Vec<i64> = spread.iter().map(|(x, noise)| 2 * base + 3 * x + noise).collect();
        let column = |values: &[i64]| Arc::new(Int64Array::from(values.to_vec())) as ArrayRef;
        let batch = RecordBatch::try_from_iter([("x", column(&x)), ("y", column(&y))]).unwrap();
        let parts: Vec<RecordBatch> = (0..batch.num_rows()).step_by(7).map(|from| batch.slice(from, 7.min(batch.num_rows() - from))).collect();
        let flow = Flow::batches_of(parts).unwrap().total("v = variance(x), s = stddev(y), c = covar(x, y), r = corr(x, y), b = regr_slope(y, x), q = regr_r2(y, x)");
        let (n, xx, yy, xy) = (x.len() as f64, products(&x, &x) as f64, products(&y, &y) as f64, products(&x, &y) as f64);
        prop_assume!(xx > 0.0);
        let wanted = [
            ("v", xx / n / (n - 1.0)),
            ("s", (yy / n / (n - 1.0)).sqrt()),
            ("c", xy / n / (n - 1.0)),
            ("r", xy / (xx.sqrt() * yy.sqrt())),
            ("b", xy / xx),
            ("q", xy * xy / (xx * yy)),
        ];
        let mut first: Option<Vec<String>> = None;
        for (threads, memory) in [(1, 1 << 30), (3, 1 << 30), (2, 1)] {
            let table = flow.run_with(&RunOptions::new().threads(threads).memory(memory)).unwrap();
            for (name, wanted) in wanted {
                let Scalar::Float(found) = table.value(0, name).unwrap() else { panic!("{name} is no float") };
                prop_assert!((found - wanted).abs() <= 1e-12 * wanted.abs(), "{}: {} for {}", name, found, wanted);
            }
            let shown: Vec<String> = wanted.iter().map(|(name, _)| table.value(0, name).unwrap().plain()).collect();
            prop_assert_eq!(first.get_or_insert_with(|| shown.clone()), &shown);
        }
    }
}

const GRADES: &str = "values farm, day, grade, litres
  'F1', 1, 'A', 10
  'F1', 1, 'B', 20
  'F2', null, 'A', 30
  'F2', 2, 'C', 40
  null, 2, null, 50
";

#[rstest]
#[case::of_what_is_shown(
    "pivot grade in ('A', 'B') by farm: litres = sum(litres) totals",
    "farm A B total / F1 10 20 30 / F2 30 · 30 / total 40 20 60"
)]
#[case::with_null_among_the_values(
    "pivot grade in ('A', null) by farm: litres = sum(litres) totals",
    "farm A null total / F1 10 · 10 / F2 30 · 30 / · · 50 50 / total 40 50 90"
)]
#[case::a_key_that_is_no_text(
    "pivot grade in ('A', 'C') by day: litres = sum(litres) totals",
    "day A C total / 1 10 · 10 / · 30 · 30 / 2 · 40 40 / total 40 40 80"
)]
#[case::nothing_that_makes_rows(
    "select grade, litres\npivot grade in ('A', 'B'): litres = sum(litres) totals",
    "A B total / 40 20 60"
)]
#[case::found_values(
    "pivot grade by farm: litres = sum(litres) totals",
    "farm A B C null total / F1 10 20 · · 30 / F2 30 · 40 · 70 / · · · · 50 50 / total 40 20 40 50 150"
)]
fn totals_of_a_pivot(#[case] step: &str, #[case] expected: &str) {
    let table = Flow::steps(&format!("{GRADES}{step}")).run().unwrap();
    let names: Vec<String> = table.columns().map(|(name, _)| name.to_owned()).collect();
    let cell = |row: usize, name: &String| {
        let value = table.value(row, name).unwrap();
        if value.is_null() { "·".to_owned() } else { value.plain() }
    };
    let line = |row: usize| names.iter().map(|name| cell(row, name)).collect::<Vec<_>>().join(" ");
    let lines: Vec<String> = std::iter::once(names.join(" ")).chain((0..table.len()).map(line)).collect();
    assert_eq!(lines.join(" / "), expected);
}
