//! Functions of numbers, against the standard library and exact integers.

use churn::Scalar;
use proptest::prelude::*;

use crate::columns::{Values, evaluated, flow};

fn ints() -> impl Strategy<Value = Vec<Option<i64>>> {
    let int = prop_oneof![3 => -1000..1000i64, 1 => -2_000_000_000..2_000_000_000i64];
    prop::collection::vec(prop::option::weighted(0.85, int), 1..50)
}

fn floats() -> impl Strategy<Value = Vec<Option<f64>>> {
    let float = prop_oneof![
        4 => (-100_000..100_000i64).prop_map(|n| n as f64 / 100.0),
        1 => -1e12..1e12f64,
        1 => prop::sample::select(vec![0.0, -0.0, 0.5, -0.5, 1.5, 2.5, f64::INFINITY, f64::NEG_INFINITY, f64::NAN]),
    ];
    prop::collection::vec(prop::option::weighted(0.85, float), 1..50)
}

/// A float as it is compared: NaN equals itself, the two zeros are equal.
fn same(a: &Scalar, b: &Scalar) -> bool {
    match (a, b) {
        (Scalar::Float(a), Scalar::Float(b)) => a == b || a.is_nan() && b.is_nan(),
        _ => a == b,
    }
}

fn all_same(found: &[Scalar], expected: &[Scalar], told: &str) {
    let is_same = found.len() == expected.len() && found.iter().zip(expected).all(|(a, b)| same(a, b));
    assert!(is_same, "{told}\nfound    {found:?}\nexpected {expected:?}");
}

fn of_ints(values: &[Option<i64>], expression: &str, by: impl Fn(i64) -> Scalar) {
    let found = evaluated(&flow(&[("x", Values::Int(values.to_vec()))]), expression);
    let expected: Vec<Scalar> = values.iter().map(|x| x.map_or(Scalar::Null, &by)).collect();
    all_same(&found, &expected, &format!("{expression} of {values:?}"));
}

fn of_floats(values: &[Option<f64>], expression: &str, by: impl Fn(f64) -> Scalar) {
    let found = evaluated(&flow(&[("x", Values::Float(values.to_vec()))]), expression);
    let expected: Vec<Scalar> = values.iter().map(|x| x.map_or(Scalar::Null, &by)).collect();
    all_same(&found, &expected, &format!("{expression} of {values:?}"));
}

/// The greatest bound that is not above a number.
fn band_at(x: i64, bounds: &[i64]) -> Scalar {
    bounds.iter().copied().filter(|bound| *bound <= x).max().map_or(Scalar::Null, Scalar::Int)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn whole_numbers(values in ints(), divisor in 1i64..50) {
        of_ints(&values, "abs(x)", |x| Scalar::Int(x.abs()));
        of_ints(&values, "sign(x)", |x| Scalar::Int(x.signum()));
        of_ints(&values, "-x", |x| Scalar::Int(-x));
        of_ints(&values, "x * x - x + 3", |x| Scalar::Int(x * x - x + 3));
        of_ints(&values, &format!("x div {divisor}"), |x| Scalar::Int(x.div_euclid(divisor)));
        of_ints(&values, &format!("x mod {divisor}"), |x| Scalar::Int(x.rem_euclid(divisor)));
        of_ints(&values, &format!("x div -{divisor}"), |x| {
            // The quotient is rounded down, whatever the signs.
            Scalar::Int((-i128::from(x)).div_euclid(divisor.into()) as i64)
        });
        of_ints(&values, &format!("x / {divisor}"), |x| Scalar::Float(x as f64 / divisor as f64));
        of_ints(&values, "x / 0", |_| Scalar::Null);
        of_ints(&values, &format!("band(x, {divisor})"), |x| Scalar::Int(x.div_euclid(divisor) * divisor));
        of_ints(&values, &format!("band_at(x, -{divisor}, 0, {divisor})"), |x| band_at(x, &[-divisor, 0, divisor]));
        of_ints(&values, &format!("x between -{divisor} and {divisor}"), |x| Scalar::Bool((-divisor..=divisor).contains(&x)));
        of_ints(&values, &format!("x in (1, {divisor}, null)"), |x| {
            if x == 1 || x == divisor { Scalar::Bool(true) } else { Scalar::Null }
        });
        of_ints(&values, &format!("least(x, {divisor}, 7)"), |x| Scalar::Int(x.min(divisor).min(7)));
        of_ints(&values, "cast(cast(x as text) as int)", Scalar::Int);
        of_ints(&values, "round(x, -2)", |x| {
            let down = x.abs() / 100 * 100;
            let up = if x.abs() % 100 >= 50 { down + 100 } else { down };
            Scalar::Int(up * x.signum())
        });
    }

    #[test]
    fn floats_of_any_kind(values in floats()) {
        of_floats(&values, "floor(x)", |x| Scalar::Float(x.floor()));
        of_floats(&values, "ceil(x)", |x| Scalar::Float(x.ceil()));
        of_floats(&values, "abs(x)", |x| Scalar::Float(x.abs()));
        of_floats(&values, "x + 1.5", |x| Scalar::Float(x + 1.5));
        of_floats(&values, "x * x", |x| Scalar::Float(x * x));
        of_floats(&values, "sqrt(x)", |x| if x < 0.0 { Scalar::Null } else { Scalar::Float(x.sqrt()) });
        of_floats(&values, "ln(x)", |x| if x <= 0.0 { Scalar::Null } else { Scalar::Float(x.ln()) });
        of_floats(&values, "exp(x)", |x| Scalar::Float(x.exp()));
        of_floats(&values, "x = x", |_| Scalar::Bool(true));
        of_floats(&values, "x > 0.5", |x| Scalar::Bool(x > 0.5 || x.is_nan()));
        of_floats(&values, "x between -1 and 1", |x| Scalar::Bool((-1.0..=1.0).contains(&x)));
        of_floats(&values, "case when x > 0 then 1 when x <= 0 then 2 end", |x| {
            Scalar::Int(if x > 0.0 || x.is_nan() { 1 } else { 2 })
        });
        of_floats(&values, "cast(cast(x as text) as float)", Scalar::Float);
    }

    #[test]
    fn hundredths_are_rounded_as_they_are_written(numbers in prop::collection::vec(-1_000_000..1_000_000i64, 1..60)) {
        // Of a number with three decimals, the last one tells which way it goes.
        let values: Vec<Option<f64>> = numbers.iter().map(|n| Some(*n as f64 / 1000.0)).collect();
        let found = evaluated(&flow(&[("x", Values::Float(values))]), "round(x, 2)");
        let expected: Vec<Scalar> = numbers
            .iter()
            .map(|n| {
                let up = i64::from(n.abs() % 10 >= 5);
                Scalar::Float((n.abs() / 10 + up) as f64 * n.signum() as f64 / 100.0)
            })
            .collect();
        all_same(&found, &expected, &format!("{numbers:?}"));
    }

    #[test]
    fn rows_of_several_columns(a in ints(), b in ints()) {
        let rows = a.len().min(b.len());
        let (a, b) = (&a[..rows], &b[..rows]);
        let table = flow(&[("a", Values::Int(a.to_vec())), ("b", Values::Int(b.to_vec()))]);
        let holds = |expression: &str, by: &dyn Fn(Option<i64>, Option<i64>) -> Scalar| {
            let expected: Vec<Scalar> = a.iter().zip(b).map(|(a, b)| by(*a, *b)).collect();
            all_same(&evaluated(&table, expression), &expected, expression);
        };
        let there = |a: Option<i64>, b: Option<i64>| -> Vec<i64> { a.into_iter().chain(b).collect() };
        let optional = |value: Option<Scalar>| value.unwrap_or(Scalar::Null);
        holds("row_sum(a, b)", &|a, b| optional(there(a, b).into_iter().reduce(|x, y| x + y).map(Scalar::Int)));
        holds("row_count(a, b)", &|a, b| Scalar::Int(there(a, b).len() as i64));
        holds("row_mean(a, b)", &|a, b| {
            let there = there(a, b);
            if there.is_empty() { Scalar::Null } else { Scalar::Float(there.iter().sum::<i64>() as f64 / there.len() as f64) }
        });
        holds("present(a, b)", &|a, b| Scalar::Bool(a.is_some() && b.is_some()));
        holds("coalesce(a, b)", &|a, b| optional(a.or(b).map(Scalar::Int)));
        holds("a is distinct from b", &|a, b| Scalar::Bool(a != b));
        holds("a < b", &|a, b| optional(a.zip(b).map(|(a, b)| Scalar::Bool(a < b))));
        holds("a < b or b is null", &|a, b| match (a, b) {
            (_, None) => Scalar::Bool(true),
            (None, Some(_)) => Scalar::Null,
            (Some(a), Some(b)) => Scalar::Bool(a < b),
        });
        holds("not (a < b) and a > 0", &|a, b| match (a, b) {
            (Some(a), _) if a <= 0 => Scalar::Bool(false),
            (Some(a), Some(b)) => Scalar::Bool(a >= b),
            _ => Scalar::Null,
        });
        holds("case when a > b then a when b > a then b end", &|a, b| match (a, b) {
            (Some(a), Some(b)) if a != b => Scalar::Int(a.max(b)),
            _ => Scalar::Null,
        });
        holds("greatest(a, b)", &|a, b| optional(a.zip(b).map(|(a, b)| Scalar::Int(a.max(b)))));
        holds("nullif(a, b)", &|a, b| match (a, b) {
            (Some(a), b) if Some(a) != b => Scalar::Int(a),
            _ => Scalar::Null,
        });
    }
}
