//! What the Parquet writer writes is read by the `parquet` crate: every type, pattern of nulls and size of page.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::fs::File;
use std::sync::Arc;

use arrow_array::types::Int32Type;
use arrow_array::{
    Array, ArrayRef, BinaryArray, BooleanArray, Date32Array, Decimal128Array, DictionaryArray, Float64Array,
    Int64Array, ListArray, RecordBatch, StringArray, Time64MicrosecondArray, TimestampMicrosecondArray,
};
use churn::{Flow, RunOptions};
use parquet::arrow::arrow_reader::{ArrowReaderOptions, ParquetRecordBatchReaderBuilder};
use parquet::file::metadata::PageIndexPolicy;
use proptest::prelude::*;
use rstest::rstest;

/// How a column's values follow each other.
#[derive(Clone, Copy, Debug)]
enum Values {
    /// All the same.
    One,
    /// A few that repeat: numbers into a dictionary.
    Few,
    /// All different: plain, or as differences.
    Many,
    /// A few at first, then more than a dictionary takes.
    More,
}

/// Which rows are null.
#[derive(Clone, Copy, Debug)]
enum Nulls {
    None,
    All,
    Some,
    First,
    Last,
}

fn is_null(nulls: Nulls, row: usize, rows: usize) -> bool {
    match nulls {
        Nulls::None => false,
        Nulls::All => true,
        Nulls::Some => row % 7 == 3 || row % 1000 < 90,
        Nulls::First => row < rows / 2,
        Nulls::Last => row >= rows / 2,
    }
}

/// The number that a row's value is made of.
fn number(values: Values, row: usize) -> i64 {
    let many = (row as i64 * 7_919 + 13) % 1_000_003;
    match values {
        Values::One => 42,
        Values::Few => many % 19,
        Values::Many => many,
        Values::More if row < 20_000 => many % 5,
        Values::More => many,
    }
}

/// A column of a type.
fn column(kind: &str, values: Values, nulls: Nulls, rows: usize) -> ArrayRef {
    let of = |row: usize| (!is_null(nulls, row, rows)).then(|| number(values, row));
    let all = (0..rows).map(of);
    let text =
        |n: i64| if n % 3 == 0 { format!("F{n}") } else { format!("the farm behind the hill, number {n}") };
    match kind {
        "int" => Arc::new(all.collect::<Int64Array>()),
        "float" => Arc::new(all.map(|n| n.map(|n| n as f64 / 8.0 - 100.0)).collect::<Float64Array>()),
        "odd float" => {
            let odd = |n: i64| [f64::NAN, -0.0, 0.0, f64::INFINITY, 5e-324][n as usize % 5];
            Arc::new(all.map(|n| n.map(odd)).collect::<Float64Array>())
        }
        "bool" => Arc::new(all.map(|n| n.map(|n| n % 2 == 0)).collect::<BooleanArray>()),
        "date" => Arc::new(all.map(|n| n.map(|n| (n % 40_000) as i32)).collect::<Date32Array>()),
        "time" => Arc::new(all.collect::<Time64MicrosecondArray>()),
        "timestamp" => {
            Arc::new(all.map(|n| n.map(|n| 1_700_000_000_000_000 + n)).collect::<TimestampMicrosecondArray>())
        }
        "decimal" => {
            let decimals: Decimal128Array = all.map(|n| n.map(|n| i128::from(n) * 1_000_000_007)).collect();
            Arc::new(decimals.with_precision_and_scale(30, 4).unwrap())
        }
        "text" => Arc::new(all.map(|n| n.map(text)).collect::<StringArray>()),
        "dictionary" => Arc::new(
            all.map(|n| n.map(text))
                .collect::<Vec<_>>()
                .iter()
                .map(|t| t.as_deref())
                .collect::<DictionaryArray<Int32Type>>(),
        ),
        "binary" => Arc::new(
            all.map(|n| n.map(|n| n.to_le_bytes().to_vec()))
                .collect::<Vec<_>>()
                .iter()
                .map(|b| b.as_deref())
                .collect::<BinaryArray>(),
        ),
        "list" => {
            let list = |n: i64| (0..n % 4).map(|i| (i != 2).then_some(n + i)).collect::<Vec<_>>();
            Arc::new(ListArray::from_iter_primitive::<arrow_array::types::Int64Type, _, _>(
                all.map(|n| n.map(list)),
            ))
        }
        other => panic!("{other}"),
    }
}

/// Writes a table, reads it with the crate, and compares; gives the number of row groups.
fn round_trip(columns: Vec<(&str, ArrayRef)>, with: &str, options: &RunOptions) -> usize {
    let folder = tempfile::tempdir().unwrap();
    let batch =
        RecordBatch::try_from_iter_with_nullable(columns.iter().map(|(n, c)| (*n, c.clone(), true))).unwrap();
    let rows = batch.num_rows();
    let cut = rows / 3;
    let batches = vec![batch.slice(0, cut), batch.slice(cut, rows - cut)];
    let flow =
        Flow::batches_of(batches).unwrap().in_folder(folder.path()).then(&format!("write 't.parquet'{with}"));
    flow.plan().unwrap().run_for_effect(options).unwrap_or_else(|e| panic!("{e}"));
    let file = || File::open(folder.path().join("t.parquet")).unwrap();
    let options = ArrowReaderOptions::new().with_page_index_policy(PageIndexPolicy::Required);
    let reader = ParquetRecordBatchReaderBuilder::try_new_with_options(file(), options).unwrap();
    let metadata = reader.metadata().clone();
    assert_eq!(metadata.file_metadata().num_rows() as usize, rows);
    let read: Vec<RecordBatch> = reader.build().unwrap().map(|batch| batch.unwrap()).collect();
    for (place, (name, column)) in columns.iter().enumerate() {
        let parts: Vec<ArrayRef> = read.iter().map(|batch| batch.column(place).clone()).collect();
        let mut row = 0;
        for part in &parts {
            let expected = column.slice(row, part.len());
            row += part.len();
            assert_eq!(part.null_count(), expected.logical_null_count(), "{name}");
            // Text may come back in another layout: values are compared as text.
            assert_eq!(values_of(part), values_of(&expected), "{name}");
        }
        assert_eq!(row, rows);
    }
    metadata.num_row_groups()
}

/// Values as text, one a row.
fn values_of(array: &dyn Array) -> Vec<String> {
    (0..array.len()).map(|row| format!("{:?}", value_of(array, row))).collect()
}

/// A value, whatever layout it has.
fn value_of(array: &dyn Array, row: usize) -> Option<String> {
    use arrow_array::cast::AsArray;
    use arrow_schema::DataType;
    let nulls = array.logical_nulls();
    if nulls.is_some_and(|nulls| nulls.is_null(row)) {
        return None;
    }
    Some(match array.data_type() {
        DataType::Utf8 => array.as_string::<i32>().value(row).to_owned(),
        DataType::Utf8View => array.as_string_view().value(row).to_owned(),
        DataType::Dictionary(_, _) => {
            let dictionary = array.as_any_dictionary();
            return value_of(dictionary.values().as_ref(), dictionary.normalized_keys()[row]);
        }
        DataType::Binary => format!("{:?}", array.as_binary::<i32>().value(row)),
        DataType::BinaryView => format!("{:?}", array.as_binary_view().value(row)),
        DataType::Boolean => array.as_boolean().value(row).to_string(),
        DataType::Int64 => array.as_primitive::<arrow_array::types::Int64Type>().value(row).to_string(),
        DataType::Float64 => {
            array.as_primitive::<arrow_array::types::Float64Type>().value(row).to_bits().to_string()
        }
        DataType::Date32 => array.as_primitive::<arrow_array::types::Date32Type>().value(row).to_string(),
        DataType::Time64(_) => {
            array.as_primitive::<arrow_array::types::Time64MicrosecondType>().value(row).to_string()
        }
        DataType::Timestamp(_, _) => {
            array.as_primitive::<arrow_array::types::TimestampMicrosecondType>().value(row).to_string()
        }
        DataType::Decimal128(_, _) => {
            array.as_primitive::<arrow_array::types::Decimal128Type>().value(row).to_string()
        }
        DataType::List(_) => {
            let items = array.as_list::<i32>().value(row);
            format!("{:?}", (0..items.len()).map(|i| value_of(items.as_ref(), i)).collect::<Vec<_>>())
        }
        other => panic!("{other}"),
    })
}

const KINDS: [&str; 12] = [
    "int",
    "float",
    "odd float",
    "bool",
    "date",
    "time",
    "timestamp",
    "decimal",
    "text",
    "dictionary",
    "binary",
    "list",
];

#[rstest]
fn every_type_with_every_pattern_of_nulls(
    #[values(Nulls::None, Nulls::All, Nulls::Some, Nulls::First, Nulls::Last)] nulls: Nulls,
    #[values(Values::One, Values::Few, Values::Many)] values: Values,
    #[values("", " with (compression = none)", " with (compression = snappy)")] with: &str,
) {
    let columns = KINDS.iter().map(|kind| (*kind, column(kind, values, nulls, 5_000))).collect();
    round_trip(columns, with, &RunOptions::new().threads(2));
}

/// A dictionary that grows too large in the middle of a row group, and pages of many rows.
#[rstest]
fn dictionaries_that_grow_too_large(#[values("int", "float", "text", "timestamp")] kind: &'static str) {
    let columns = vec![(kind, column(kind, Values::More, Nulls::Some, 300_000))];
    round_trip(columns, "", &RunOptions::new().threads(2));
}

/// Columns that are many have small pages and dictionaries.
#[test]
fn columns_that_are_many() {
    let names: Vec<String> = (0..120).map(|i| format!("c{i}")).collect();
    let of = |(i, name): (usize, &'_ String)| {
        let values = [Values::Few, Values::Many, Values::More][i % 3];
        (name.clone(), column(KINDS[i % KINDS.len()], values, Nulls::Some, 3_000))
    };
    let columns: Vec<(String, ArrayRef)> = names.iter().enumerate().map(of).collect();
    let columns = columns.iter().map(|(name, column)| (name.as_str(), column.clone())).collect();
    round_trip(columns, "", &RunOptions::new().threads(3));
}

/// Row groups end at a million rows, and before where memory is small: the rows are the same.
#[rstest]
#[case(None, 2)]
#[case(Some(1), 1)]
fn row_groups(#[case] memory: Option<u64>, #[case] least: usize) {
    let columns = vec![("int", column("int", Values::Many, Nulls::None, 1_100_000))];
    let options = memory.map_or_else(RunOptions::new, |memory| RunOptions::new().memory(memory));
    assert!(round_trip(columns, "", &options) >= least);
}

#[test]
fn no_rows_at_all() {
    let columns = KINDS.iter().map(|kind| (*kind, column(kind, Values::One, Nulls::None, 0))).collect();
    round_trip(columns, "", &RunOptions::new());
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(40) })]

    #[test]
    fn any_rows(
        kinds in prop::collection::vec(prop::sample::select(KINDS.to_vec()), 1..6),
        rows in 0usize..3_000,
        values in prop::sample::select(vec![Values::One, Values::Few, Values::Many]),
        nulls in prop::sample::select(vec![Nulls::None, Nulls::All, Nulls::Some, Nulls::First, Nulls::Last]),
        batch_rows in 1usize..700,
        threads in 1usize..4,
    ) {
        let names: Vec<String> = (0..kinds.len()).map(|i| format!("c{i}")).collect();
        let columns = names.iter().zip(&kinds).map(|(name, kind)| (name.as_str(), column(kind, values, nulls, rows)));
        round_trip(columns.collect(), "", &RunOptions::new().threads(threads).batch_rows(batch_rows));
    }
}
