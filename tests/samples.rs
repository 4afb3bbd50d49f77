//! Samples: so many rows of each group, the same ones however the run is made, and each row as likely as any other.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::BTreeMap;
use std::sync::Arc;

use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray};
use churn::{Flow, RunOptions, Scalar};
use rstest::rstest;

/// Rows whose farm is told by their number, in batches of some rows.
fn table(rows: usize, farm: impl Fn(usize) -> String) -> Flow {
    let batch = |from: usize| {
        let rows = from..(from + 1_000).min(rows);
        let farms: StringArray = rows.clone().map(|row| Some(farm(row))).collect();
        let numbers: Int64Array = rows.map(|row| Some(row as i64)).collect();
        let columns: [(&str, ArrayRef); 2] = [("farm", Arc::new(farms)), ("n", Arc::new(numbers))];
        RecordBatch::try_from_iter(columns).unwrap()
    };
    Flow::batches_of((0..rows).step_by(1_000).map(batch).collect()).unwrap()
}

/// The farm and the number of each row of a sample.
fn sampled(flow: &Flow, step: &str, options: &RunOptions) -> Vec<(String, i64)> {
    let table = flow.clone().then(step).run_with(options).unwrap();
    let number = |value: Scalar| if let Scalar::Int(n) = value { n } else { panic!("{value}") };
    let farms = table.values("farm").unwrap().into_iter().map(|farm| farm.plain());
    farms.zip(table.values("n").unwrap().into_iter().map(number)).collect()
}

#[rstest]
#[case::few_groups(20_000, |row: usize| format!("F{}", row % 7))]
#[case::of_all_sizes(20_000, |row: usize| format!("F{}", (row as f64).sqrt() as usize))]
#[case::one_has_nearly_all(30_000, |row: usize| if row.is_multiple_of(100) { format!("F{row}") } else { "F".into() })]
#[case::all_different(5_000, |row: usize| format!("F{row}"))]
fn each_group_gives_so_many_rows(#[case] rows: usize, #[case] farm: fn(usize) -> String) {
    let flow = table(rows, farm);
    let mut sizes: BTreeMap<String, usize> = BTreeMap::new();
    (0..rows).for_each(|row| *sizes.entry(farm(row)).or_default() += 1);
    let expected = sampled(&flow, "sample 3 per farm seed 5", &RunOptions::new().threads(1));
    let mut found: BTreeMap<String, usize> = BTreeMap::new();
    expected.iter().for_each(|(farm, _)| *found.entry(farm.clone()).or_default() += 1);
    let wanted: BTreeMap<String, usize> = sizes.into_iter().map(|(farm, size)| (farm, size.min(3))).collect();
    assert_eq!(found, wanted);
    // In the order of the rows, each as it was.
    assert!(expected.windows(2).all(|pair| pair[0].1 < pair[1].1));
    assert!(expected.iter().all(|(of, n)| *of == farm(*n as usize)));
    for (threads, memory) in [(3, u64::MAX), (1, 1 << 20), (2, 1 << 16)] {
        let options = RunOptions::new().threads(threads).memory(memory);
        assert_eq!(sampled(&flow, "sample 3 per farm seed 5", &options), expected, "{threads} {memory}");
    }
    assert_eq!(sampled(&flow, "sample 0 per farm", &RunOptions::new()), []);
}

/// Over many seeds every row of a group of ten is drawn about as often as any other.
#[test]
fn each_row_is_as_likely_as_any_other() {
    let flow = table(100, |row| format!("F{}", row / 10));
    let mut drawn = vec![0; 100];
    for seed in 0..200 {
        let rows = sampled(&flow, &format!("sample 3 per farm seed {seed}"), &RunOptions::new().threads(1));
        rows.iter().for_each(|(_, n)| drawn[*n as usize] += 1);
    }
    // 60 on average, with a deviation of 6.5.
    assert!(drawn.iter().all(|times| (30..=90).contains(times)), "{drawn:?}");
}

#[test]
fn groups_of_several_columns_and_nulls() {
    let flow = Flow::steps(
        "values farm, grade, n\n    'F1', 'A', 1\n    'F1', 'A', 2\n    'F1', null, 3\n    'F1', null, 4\n    null, null, 5",
    );
    let rows = flow.clone().then("sample 1 per farm, grade").run().unwrap();
    assert_eq!(rows.len(), 3);
    let text = flow.clone().then("sample 1 per farm, grade").plan().unwrap().to_string();
    assert!(text.contains("holds all rows"), "{text}");
    let error = flow.then("sample 1 per district").check().unwrap_err();
    assert!(error.what().contains("no column district"), "{error}");
}
