//! Aggregates of groups, worked out from the values of each group in a plain way.

use std::collections::BTreeMap;

use churn::{Flow, Scalar};
use proptest::prelude::*;

use crate::columns::{SETTINGS, Values, flow, options, rows};

/// A row: its group, two numbers in quarters, and a text.
type Row = (u8, Option<f64>, Option<f64>, Option<String>);

fn some_rows() -> impl Strategy<Value = Vec<Row>> {
    let quarters = || prop::option::weighted(0.8, (-60..60i64).prop_map(|n| n as f64 / 4.0));
    prop::collection::vec((0..3u8, quarters(), quarters(), prop::option::weighted(0.8, "[abc]")), 1..60)
}

fn table(rows: &[Row]) -> Flow {
    flow(&[
        ("g", Values::Int(rows.iter().map(|row| Some(i64::from(row.0))).collect())),
        ("x", Values::Float(rows.iter().map(|row| row.1).collect())),
        ("y", Values::Float(rows.iter().map(|row| row.2).collect())),
        ("t", Values::Text(rows.iter().map(|row| row.3.clone()).collect())),
    ])
}

/// The groups in order of first appearance.
fn groups(rows: &[Row]) -> Vec<Vec<Row>> {
    let mut order: Vec<u8> = Vec::new();
    let mut groups: BTreeMap<u8, Vec<Row>> = BTreeMap::new();
    for row in rows {
        if !order.contains(&row.0) {
            order.push(row.0);
        }
        groups.entry(row.0).or_default().push(row.clone());
    }
    order.iter().map(|group| groups[group].clone()).collect()
}

fn xs(group: &[Row]) -> Vec<f64> {
    group.iter().filter_map(|row| row.1).collect()
}

/// The rows where both numbers are there.
fn pairs(group: &[Row]) -> Vec<(f64, f64)> {
    group.iter().filter_map(|row| row.1.zip(row.2)).collect()
}

fn texts(group: &[Row]) -> Vec<String> {
    group.iter().filter_map(|row| row.3.clone()).collect()
}

fn float(value: Option<f64>) -> Scalar {
    value.map_or(Scalar::Null, Scalar::Float)
}

fn text(value: Option<String>) -> Scalar {
    value.map_or(Scalar::Null, Scalar::Text)
}

fn mean(values: &[f64]) -> Option<f64> {
    (!values.is_empty()).then(|| values.iter().sum::<f64>() / values.len() as f64)
}

/// The share of values, between two of them where it falls between.
fn quantile(values: &[f64], share: f64) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let place = share * (sorted.len() as f64 - 1.0);
    let (low, high) = (*sorted.get(place.floor() as usize)?, *sorted.get(place.ceil() as usize)?);
    Some(low + (high - low) * (place - place.floor()))
}

/// The sum of products of distances from the means, and the number of values.
fn covariation(pairs: &[(f64, f64)]) -> (f64, f64) {
    let n = pairs.len() as f64;
    let (a, b) = (pairs.iter().map(|p| p.0).sum::<f64>() / n, pairs.iter().map(|p| p.1).sum::<f64>() / n);
    (pairs.iter().map(|p| (p.0 - a) * (p.1 - b)).sum(), n)
}

fn variance(values: &[f64]) -> Option<f64> {
    let pairs: Vec<(f64, f64)> = values.iter().map(|x| (*x, *x)).collect();
    let (sum, n) = covariation(&pairs);
    (n > 1.0).then(|| sum / (n - 1.0))
}

/// The value that most rows have; of several the one that comes first.
fn mode(values: &[String]) -> Option<String> {
    let count = |value: &String| values.iter().filter(|other| *other == value).count();
    let most = values.iter().map(count).max()?;
    values.iter().find(|value| count(value) == most).cloned()
}

/// The text of the row whose number is the least or the greatest; of several the first. Rows without one of both are none.
fn text_by(group: &[Row], is_better: fn(f64, f64) -> bool) -> Option<String> {
    let mut best: Option<&Row> = None;
    for row in group.iter().filter(|row| row.1.is_some() && row.3.is_some()) {
        if best.is_none_or(|b| is_better(row.1.unwrap_or(0.0), b.1.unwrap_or(0.0))) {
            best = Some(row);
        }
    }
    best.and_then(|row| row.3.clone())
}

/// A call and what it gives for a group.
type Call = (&'static str, fn(&[Row]) -> Scalar);

const CALLS: [Call; 27] = [
    ("count()", |g| Scalar::Int(g.len() as i64)),
    ("count(x)", |g| Scalar::Int(xs(g).len() as i64)),
    ("count_distinct(t)", |g| {
        let mut texts = texts(g);
        texts.sort();
        texts.dedup();
        Scalar::Int(texts.len() as i64)
    }),
    ("sum(x)", |g| float((!xs(g).is_empty()).then(|| xs(g).iter().sum()))),
    ("mean(x)", |g| float(mean(&xs(g)))),
    ("min(x)", |g| float(xs(g).into_iter().reduce(f64::min))),
    ("max(x)", |g| float(xs(g).into_iter().reduce(f64::max))),
    ("min(t)", |g| text(texts(g).into_iter().min())),
    ("max(t)", |g| text(texts(g).into_iter().max())),
    ("first(t)", |g| text(texts(g).first().cloned())),
    ("last(t)", |g| text(texts(g).last().cloned())),
    ("median(x)", |g| float(quantile(&xs(g), 0.5))),
    ("quantile(x, 0.1)", |g| float(quantile(&xs(g), 0.1))),
    ("quantile(x, 1)", |g| float(quantile(&xs(g), 1.0))),
    ("variance(x)", |g| float(variance(&xs(g)))),
    ("stddev(x)", |g| float(variance(&xs(g)).map(f64::sqrt))),
    ("covar(x, y)", |g| {
        let (sum, n) = covariation(&pairs(g));
        float((n > 1.0).then(|| sum / (n - 1.0)))
    }),
    ("mode(t)", |g| text(mode(&texts(g)))),
    ("listagg(t, '/')", |g| text((!texts(g).is_empty()).then(|| texts(g).join("/")))),
    ("length(array_agg(t))", |g| Scalar::Int(g.len() as i64)),
    ("any(x > 5)", |g| {
        if xs(g).is_empty() { Scalar::Null } else { Scalar::Bool(xs(g).iter().any(|x| *x > 5.0)) }
    }),
    ("every(x > 5)", |g| {
        if xs(g).is_empty() { Scalar::Null } else { Scalar::Bool(xs(g).iter().all(|x| *x > 5.0)) }
    }),
    ("min_by(t, x)", |g| text(text_by(g, |a, b| a < b))),
    ("max_by(t, x)", |g| text(text_by(g, |a, b| a > b))),
    ("weighted_mean(x, abs(y))", |g| {
        let weighted: f64 = pairs(g).iter().map(|(x, y)| x * y.abs()).sum();
        let weights: f64 = pairs(g).iter().map(|(_, y)| y.abs()).sum();
        float((weights != 0.0).then(|| weighted / weights))
    }),
    ("sum(x) where (t = 'a')", |g| {
        let only: Vec<Row> = g.iter().filter(|row| row.3.as_deref() == Some("a")).cloned().collect();
        float((!xs(&only).is_empty()).then(|| xs(&only).iter().sum()))
    }),
    ("sum(x) / count()", |g| float((!xs(g).is_empty()).then(|| xs(g).iter().sum::<f64>() / g.len() as f64))),
];

/// Whether two values are the same, floats to their last digits.
fn near(a: &Scalar, b: &Scalar) -> bool {
    match (a, b) {
        (Scalar::Float(a), Scalar::Float(b)) => (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1.0),
        _ => a == b,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn groups_have_the_values_of_their_rows(data in some_rows()) {
        let items: Vec<String> = CALLS.iter().enumerate().map(|(i, call)| format!("c{i} = {}", call.0)).collect();
        let grouped = table(&data).group("g", items.join("\n"));
        for setting in SETTINGS {
            let found = rows(&grouped.run_with(&options(setting)).unwrap());
            let groups = groups(&data);
            prop_assert_eq!(found.len(), groups.len());
            for (found, group) in found.iter().zip(&groups) {
                prop_assert_eq!(&found[0], &Scalar::Int(i64::from(group[0].0)));
                for (value, (call, by)) in found[1..].iter().zip(CALLS) {
                    let expected = by(group);
                    prop_assert!(near(value, &expected), "{}: {} of {:?} is {:?}, not {:?}", setting.0, call, group, expected, value);
                }
            }
        }
    }

    #[test]
    fn a_line_goes_through_its_points(slope in -8..8i64, start in -8..8i64, xs in prop::collection::btree_set(-50..50i64, 2..30)) {
        // Points of a line: the regression finds it, and they are correlated as far as they can be.
        let x: Vec<Option<f64>> = xs.iter().map(|x| Some(*x as f64)).collect();
        let y: Vec<Option<f64>> = xs.iter().map(|x| Some((slope * x + start) as f64)).collect();
        let table = flow(&[("x", Values::Float(x)), ("y", Values::Float(y))]);
        let items = "s = regr_slope(y, x), i = regr_intercept(y, x), r = corr(y, x), q = regr_r2(y, x)";
        let found = rows(&table.total(items).run().unwrap());
        prop_assert!(near(&found[0][0], &Scalar::Float(slope as f64)), "{:?}", found);
        prop_assert!(near(&found[0][1], &Scalar::Float(start as f64)), "{:?}", found);
        if slope != 0 {
            prop_assert!(near(&found[0][2], &Scalar::Float((slope.signum()) as f64)), "{:?}", found);
            prop_assert!(near(&found[0][3], &Scalar::Float(1.0)), "{:?}", found);
        }
    }
}
