//! Profiles: against plain counting while values are few, within what is promised when they are many, and the same
//! on any number of threads.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::BTreeMap;
use std::fmt::Write;

use churn::{Detail, Flow, Profile, RunOptions, Scalar};
use proptest::prelude::*;
use rstest::rstest;
use tempfile::TempDir;

/// The profile of a file of text, the same on 1, 2 and 7 threads.
fn profile(csv: &str, types: &str) -> Profile {
    let folder = TempDir::new().unwrap();
    std::fs::write(folder.path().join("t.csv"), csv).unwrap();
    let flow = Flow::steps(&format!("read 't.csv' with (types = ({types}))")).in_folder(folder.path());
    let run = |threads: usize| {
        let options = RunOptions::new().threads(threads).block_bytes(1 << 12);
        flow.profile_with(Detail::Pairs, &options).unwrap()
    };
    let first = run(1);
    for threads in [2, 7] {
        let other = run(threads);
        let json = |profile: &Profile| serde_json::to_value((&profile.columns, &profile.pairs)).unwrap();
        assert_eq!(json(&first), json(&other), "on {threads} threads");
    }
    first
}

fn quantile(sorted: &[f64], share: f64) -> f64 {
    let place = share * (sorted.len() - 1) as f64;
    let (low, high) = (sorted[place.floor() as usize], sorted[place.ceil() as usize]);
    low + (high - low) * place.fract()
}

fn float(value: &Scalar) -> f64 {
    if let Scalar::Float(x) = value { *x } else { panic!("{value} is no float") }
}

fn near(a: f64, b: f64) -> bool {
    (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1.0)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn few_values_are_counted_exactly(
        rows in prop::collection::vec((prop::option::of(-40i32..40), prop::option::of("[ab é]{0,3}")), 1..300),
    ) {
        let mut csv = String::from("x,t\n");
        for (x, t) in &rows {
            let x = x.map_or(String::new(), |x| (f64::from(x) / 4.0).to_string());
            let t = t.as_ref().map_or(String::new(), |t| format!("\"{t}\""));
            writeln!(csv, "{x},{t}").unwrap();
        }
        let profile = profile(&csv, "x float, t text");
        prop_assert_eq!(profile.rows, rows.len() as u64);
        let [x, t] = profile.columns.as_slice() else { panic!("two columns") };

        let mut numbers: Vec<f64> = rows.iter().filter_map(|(x, _)| x.map(|x| f64::from(x) / 4.0)).collect();
        numbers.sort_by(f64::total_cmp);
        prop_assert_eq!(x.missing, (rows.len() - numbers.len()) as u64);
        prop_assert_eq!(x.zeros, Some(numbers.iter().filter(|x| **x == 0.0).count() as u64));
        let mut different = numbers.clone();
        different.dedup();
        prop_assert_eq!(x.distinct.map(|d| (d.count, d.exact)), Some((different.len() as u64, true)));
        if !numbers.is_empty() {
            let mean = numbers.iter().sum::<f64>() / numbers.len() as f64;
            prop_assert!(near(x.mean.unwrap(), mean));
            prop_assert_eq!(float(&x.min), numbers[0]);
            prop_assert_eq!(float(&x.max), numbers[numbers.len() - 1]);
            for (share, value) in [0.25, 0.5, 0.75].into_iter().zip(&x.quartiles.as_ref().unwrap().values) {
                prop_assert!(near(float(value), quantile(&numbers, share)));
            }
            if numbers.len() > 1 {
                let squares: f64 = numbers.iter().map(|x| (x - mean).powi(2)).sum();
                prop_assert!(near(x.stddev.unwrap(), (squares / (numbers.len() - 1) as f64).sqrt()));
            }
            let in_bins: u64 = x.histogram.iter().map(|bin| bin.rows).sum();
            prop_assert_eq!(in_bins, if different.len() > 1 { numbers.len() as u64 } else { 0 });
        }

        let texts: Vec<&str> = rows.iter().filter_map(|(_, t)| t.as_deref()).collect();
        let mut counts: BTreeMap<&str, u64> = BTreeMap::new();
        texts.iter().for_each(|t| *counts.entry(t).or_default() += 1);
        prop_assert_eq!(t.missing, (rows.len() - texts.len()) as u64);
        prop_assert_eq!(t.zeros, Some(texts.iter().filter(|t| t.trim().is_empty()).count() as u64));
        prop_assert_eq!(t.distinct.map(|d| d.count), Some(counts.len() as u64));
        for one in &t.frequent {
            prop_assert_eq!(counts.get(one.value.plain().as_str()), Some(&one.rows));
        }
        let mut most: Vec<u64> = counts.into_values().collect();
        most.sort_by_key(|count| std::cmp::Reverse(*count));
        most.truncate(10);
        prop_assert_eq!(t.frequent.iter().map(|one| one.rows).collect::<Vec<_>>(), most);
        if let Some(lengths) = t.lengths {
            let mut all: Vec<f64> = texts.iter().map(|t| t.chars().count() as f64).collect();
            all.sort_by(f64::total_cmp);
            prop_assert_eq!(lengths.shortest as f64, all[0]);
            prop_assert_eq!(lengths.longest as f64, all[all.len() - 1]);
            prop_assert!(near(lengths.quartiles[1], quantile(&all, 0.5)));
            prop_assert!(near(lengths.mean, all.iter().sum::<f64>() / all.len() as f64));
        }
    }
}

/// 100 000 rows of a column that is 7 in every third row and else its own number; another is its double.
fn many() -> Profile {
    let mut csv = String::from("x,y,t\n");
    for row in 0..100_000u64 {
        let x = if row % 3 == 0 { 7 } else { row * 7919 % 1_000_003 };
        writeln!(csv, "{x},{},a text of more than twelve bytes {x}", 2 * x).unwrap();
    }
    profile(&csv, "x float, y int, t text")
}

#[test]
fn many_values_are_estimated_within_what_is_promised() {
    let profile = many();
    let [x, y, t] = profile.columns.as_slice() else { panic!("three columns") };
    let different = 66_667.0;
    for column in [x, y, t] {
        let distinct = column.distinct.unwrap();
        assert!(!distinct.exact);
        assert!((distinct.count as f64 / different - 1.0).abs() < 0.03, "{} of {different}", distinct.count);
        let [one] = column.frequent.as_slice() else { panic!("one value stands out: {:?}", column.frequent) };
        assert!(one.rows <= 33_334 && one.rows + one.more >= 33_334, "{one:?}");
    }
    assert_eq!(x.frequent[0].value, Scalar::Float(7.0));
    let mut sorted: Vec<f64> =
        (0..100_000u64).map(|row| if row % 3 == 0 { 7.0 } else { (row * 7919 % 1_000_003) as f64 }).collect();
    sorted.sort_by(f64::total_cmp);
    let quartiles = x.quartiles.as_ref().unwrap();
    assert!(!quartiles.exact);
    for (share, value) in [0.25, 0.5, 0.75].into_iter().zip(&quartiles.values) {
        let exact = quantile(&sorted, share);
        assert!((float(value) / exact - 1.0).abs() < 0.004, "{value} for {exact}");
    }
    assert_eq!(x.histogram.iter().map(|bin| bin.rows).sum::<u64>(), 100_000);
    let pair = &profile.pairs[0];
    assert_eq!((pair.first.as_str(), pair.second.as_str()), ("x", "y"));
    assert!(near(pair.correlation.unwrap(), 1.0));
}

#[rstest]
#[case::dates("d\n2024-01-31\n2026-02-01\n\n", "d date", "dates and times  missing  distinct         min")]
#[case::truths(
    "d\ntrue\nfalse\n\ntrue\n",
    "d bool",
    "truths  missing  false  true\nd             1      1     2"
)]
#[case::not_a_number("d\n1.5\nNaN\n", "d float", "d              –      –         2")]
fn each_sort_is_shown_in_its_way(#[case] csv: &str, #[case] types: &str, #[case] expected: &str) {
    let shown = profile(csv, types).view(120).to_string();
    assert!(shown.contains(expected), "{shown}");
}

#[test]
fn days_of_timestamps_are_told_by_the_first_and_the_last() {
    let stamps = "values t: (timestamp '2026-01-01 10:00:00'), (timestamp '2026-03-01 12:30:00')";
    let shown = Flow::steps(stamps).profile().unwrap().view(80).full().to_string();
    assert!(shown.contains("2025-12-29  –  2026-01-04"), "{shown}");
}

#[test]
fn lists_and_empty_tables_have_profiles() {
    let lists = Flow::steps("values x: ('a b'), (null)").add("l = parts(x, ' ')").profile().unwrap();
    assert!(lists.view(80).to_string().contains("l       list(text)        1"), "{}", lists.view(80));
    let none = Flow::steps("values x: (1)").filter("x > 1").profile().unwrap();
    assert_eq!((none.rows, none.columns[0].quartiles.is_none()), (0, true));
    assert!(none.view(80).full().to_string().contains("missing   0"));
}
