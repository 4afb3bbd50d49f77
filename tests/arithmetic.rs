//! Arithmetic, comparison and casts against arithmetic of 128 bits and against text: right, null, or an error, and never
//! another value.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::sync::Arc;

use arrow_array::{ArrayRef, Float64Array, Int64Array, RecordBatch, StringArray};
use churn::{ErrorKind, Flow, Scalar};
use proptest::prelude::*;
use rstest::rstest;

/// Whole numbers of every size, often at an end.
fn whole() -> impl Strategy<Value = i64> {
    prop_oneof![
        -20i64..20,
        any::<i64>(),
        any::<i32>().prop_map(i64::from),
        prop::sample::select(vec![
            i64::MIN,
            i64::MIN + 1,
            -1,
            0,
            1,
            i64::MAX - 1,
            i64::MAX,
            1 << 53,
            (1 << 53) + 1
        ]),
    ]
}

/// A table of one row.
fn row(columns: Vec<(&str, ArrayRef)>) -> Flow {
    Flow::batches_of(vec![RecordBatch::try_from_iter(columns).unwrap()]).unwrap()
}

fn ints(a: i64, b: i64) -> Flow {
    let column = |n: i64| Arc::new(Int64Array::from(vec![n])) as ArrayRef;
    row(vec![("a", column(a)), ("b", column(b))])
}

/// The value of an expression; the kind of its error.
fn value(flow: &Flow, expression: &str) -> Result<Scalar, ErrorKind> {
    let table = flow.clone().add(format!("x = {expression}")).run().map_err(|e| e.kind())?;
    Ok(table.value(0, "x").unwrap())
}

/// A whole number where it fits in 64 bits, else the error of one that does not.
fn fitting(exact: i128) -> Result<Scalar, ErrorKind> {
    i64::try_from(exact).map(Scalar::Int).map_err(|_| ErrorKind::Data)
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(150) })]

    #[test]
    fn whole_numbers(a in whole(), b in whole()) {
        let flow = ints(a, b);
        let (x, y) = (i128::from(a), i128::from(b));
        prop_assert_eq!(value(&flow, "a + b"), fitting(x + y));
        prop_assert_eq!(value(&flow, "a - b"), fitting(x - y));
        prop_assert_eq!(value(&flow, "a * b"), fitting(x * y));
        prop_assert_eq!(value(&flow, "-a"), fitting(-x));
        prop_assert_eq!(value(&flow, "abs(a)"), fitting(x.abs()));
        // Floor division: the quotient is cut towards the least number, the remainder has the divisor's sign.
        let floor = |x: i128, y: i128| x.div_euclid(y) - i128::from(y < 0 && x.rem_euclid(y) != 0);
        let (quotient, rest) = match y {
            0 => (Ok(Scalar::Null), Ok(Scalar::Null)),
            _ => (fitting(floor(x, y)), fitting(x - floor(x, y) * y)),
        };
        prop_assert_eq!(value(&flow, "a div b"), quotient);
        prop_assert_eq!(value(&flow, "a mod b"), rest);
        let real = if b == 0 { Scalar::Null } else { Scalar::Float(a as f64 / b as f64) };
        prop_assert_eq!(value(&flow, "a / b"), Ok(real));
    }

    #[test]
    fn comparisons_of_whole_numbers(a in whole(), b in whole(), c in whole()) {
        let flow = ints(a, b);
        for (operator, expected) in
            [("=", a == b), ("<>", a != b), ("<", a < b), ("<=", a <= b), (">", a > b), (">=", a >= b)]
        {
            prop_assert_eq!(value(&flow, &format!("a {operator} b")), Ok(Scalar::Bool(expected)));
        }
        let flow = flow.add(format!("c = {}", if c == i64::MIN { "-9223372036854775807 - 1".to_owned() } else { c.to_string() }));
        prop_assert_eq!(value(&flow, "c between a and b"), Ok(Scalar::Bool(a <= c && c <= b)));
        prop_assert_eq!(value(&flow, "c in (a, b)"), Ok(Scalar::Bool(c == a || c == b)));
        prop_assert_eq!(value(&flow, "least(a, b, c)"), Ok(Scalar::Int(a.min(b).min(c))));
        prop_assert_eq!(value(&flow, "greatest(a, b, c)"), Ok(Scalar::Int(a.max(b).max(c))));
    }

    /// A whole number becomes text and comes back; a float becomes the shortest text that reads back.
    #[test]
    fn casts_through_text_come_back(a in whole(), x in any::<f64>()) {
        prop_assert_eq!(value(&ints(a, 0), "cast(a as text)"), Ok(Scalar::Text(a.to_string())));
        prop_assert_eq!(value(&ints(a, 0), "cast(cast(a as text) as int)"), Ok(Scalar::Int(a)));
        let flow = row(vec![("x", Arc::new(Float64Array::from(vec![x])))]);
        let back = flow.add("y = cast(cast(x as text) as float)").run().unwrap().value(0, "y").unwrap();
        let Scalar::Float(back) = back else { panic!("{back:?}") };
        prop_assert!(back == x || (back.is_nan() && x.is_nan()), "{} for {}", back, x);
    }

    /// A float becomes a whole number by cutting towards zero, if that fits.
    #[test]
    fn casts_to_whole_numbers(x in prop_oneof![any::<f64>(), -1e19f64..1e19, -1e6f64..1e6]) {
        let flow = row(vec![("x", Arc::new(Float64Array::from(vec![x])))]);
        let cut = x.trunc();
        // Both bounds are powers of two, which floats have exactly.
        let fits = (-9_223_372_036_854_775_808.0..9_223_372_036_854_775_808.0).contains(&cut);
        let expected = if fits { Scalar::Int(cut as i64) } else { Scalar::Null };
        prop_assert_eq!(value(&flow, "try_cast(x as int)"), Ok(expected.clone()));
        prop_assert_eq!(value(&flow, "cast(x as int)").ok(), fits.then_some(expected));
    }

    /// Any text is a whole number to the language if it is one to Rust, but for blanks around it.
    #[test]
    fn texts_as_whole_numbers(text in prop_oneof!["[-+]?[0-9]{1,20}", "[-+ 0-9a-f._]{0,6}", " ?-?[0-9]{1,4} ?"]) {
        let flow = row(vec![("t", Arc::new(StringArray::from(vec![text.clone()])))]);
        let expected = text.trim().parse::<i64>().map_or(Scalar::Null, Scalar::Int);
        prop_assert_eq!(value(&flow, "try_cast(t as int)"), Ok(expected));
    }

    /// Decimals are exact: sums and products as those of whole numbers of 128 bits.
    #[test]
    fn decimals(a in -999_999_999i64..1_000_000_000, b in -999_999_999i64..1_000_000_000) {
        let text = |n: i64| format!("{}{}.{:02}", if n < 0 { "-" } else { "" }, n.abs() / 100, n.abs() % 100);
        let column = |n: i64| Arc::new(StringArray::from(vec![text(n)])) as ArrayRef;
        let flow = row(vec![("s", column(a)), ("t", column(b))])
            .add("a = cast(s as decimal(12, 2)), b = cast(t as decimal(12, 2))");
        let told = |expression: &str| value(&flow, expression).map(|v| v.plain());
        let two = |n: i128| format!("{}{}.{:02}", if n < 0 { "-" } else { "" }, n.abs() / 100, n.abs() % 100);
        let four = |n: i128| format!("{}{}.{:04}", if n < 0 { "-" } else { "" }, n.abs() / 10_000, n.abs() % 10_000);
        let (x, y) = (i128::from(a), i128::from(b));
        prop_assert_eq!(told("a + b"), Ok(two(x + y)));
        prop_assert_eq!(told("a - b"), Ok(two(x - y)));
        prop_assert_eq!(told("a * b"), Ok(four(x * y)));
        prop_assert_eq!(value(&flow, "a < b"), Ok(Scalar::Bool(x < y)));
        prop_assert_eq!(value(&flow, "a = b"), Ok(Scalar::Bool(x == y)));
    }
}

/// Types that an operator takes, one by one: any others are a mistake that the check finds.
#[rstest]
fn operators_take_types_that_go_together(
    #[values("bool", "int", "float", "decimal", "text", "date", "time", "timestamp", "list")] left: &str,
    #[values("bool", "int", "float", "decimal", "text", "date", "time", "timestamp", "list")] right: &str,
) {
    let of = |kind: &str| match kind {
        "bool" => "true",
        "int" => "7",
        "float" => "7.5",
        "decimal" => "cast('7.50' as decimal(9, 2))",
        "text" => "trim('7')",
        "date" => "date '2026-03-01'",
        "time" => "time '06:30:00'",
        "timestamp" => "timestamp '2026-03-01 06:30:00'",
        _ => "parts('a b', ' ')",
    };
    let is_number = |kind: &str| ["int", "float", "decimal"].contains(&kind);
    let is_dated = |kind: &str| ["date", "timestamp"].contains(&kind);
    let numbers = is_number(left) && is_number(right);
    let flow = Flow::steps("values one: (1)").add(format!("a = {}, b = {}", of(left), of(right)));
    let is_taken = |operator: &str| flow.clone().add(format!("x = a {operator} b")).check();
    let agrees = |operator: &str, expected: bool| {
        let told = is_taken(operator);
        assert_eq!(told.is_ok(), expected, "{left} {operator} {right}: {told:?}");
        if let Err(error) = told {
            assert_eq!(error.kind(), ErrorKind::Type, "{error}");
        }
    };
    for operator in ["*", "/"] {
        agrees(operator, numbers);
    }
    agrees("+", numbers);
    agrees("-", numbers || (is_dated(left) && is_dated(right)));
    agrees("mod", numbers);
    agrees("div", left == "int" && right == "int");
    agrees("||", left == "text" && right == "text");
    let compares = left == right || numbers || (is_dated(left) && is_dated(right));
    for operator in ["=", "<>", "<", "<=", ">", ">="] {
        agrees(operator, compares);
    }
    for operator in ["and", "or"] {
        agrees(operator, left == "bool" && right == "bool");
    }
}
