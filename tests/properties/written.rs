//! What is written, as other crates read it.

use std::fs::{self, File};
use std::io::BufReader;

use arrow_array::RecordBatch;
use churn::{Flow, Scalar};
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use proptest::prelude::*;
use rstest::rstest;
use tempfile::TempDir;

use crate::columns::{SETTINGS, Values, evaluated, flow, options, rows, text};

/// A table with a column of each type.
fn columns() -> impl Strategy<Value = Vec<(&'static str, Values)>> {
    (0..60usize).prop_flat_map(|count| {
        let bools = prop::collection::vec(prop::option::weighted(0.8, any::<bool>()), count);
        let ints = prop::collection::vec(prop::option::weighted(0.8, any::<i64>()), count);
        let floats = prop::collection::vec(prop::option::weighted(0.8, -1e15..1e15f64), count);
        let texts = prop::collection::vec(prop::option::weighted(0.8, text()), count);
        let days = prop::collection::vec(prop::option::weighted(0.8, -20_000..60_000i32), count);
        let moments = prop::collection::vec(prop::option::weighted(0.8, any::<i32>()), count);
        (bools, ints, floats, texts, days, moments).prop_map(|(bools, ints, floats, texts, days, moments)| {
            let moments = moments.into_iter().map(|at| at.map(|at| i64::from(at) * 1_000_123)).collect();
            vec![
                ("flag", Values::Bool(bools)),
                ("n", Values::Int(ints)),
                ("x", Values::Float(floats)),
                ("note, \"as written\"", Values::Text(texts)),
                ("day", Values::Date(days)),
                ("at", Values::Timestamp(moments)),
            ]
        })
    })
}

fn expected(columns: &[(&str, Values)], count: usize) -> Vec<Vec<Scalar>> {
    (0..count).map(|row| columns.iter().map(|(_, values)| values.at(row)).collect()).collect()
}

fn length(columns: &[(&str, Values)]) -> usize {
    columns[0].1.array().len()
}

fn arrow_file(folder: &TempDir) -> Vec<RecordBatch> {
    let file = BufReader::new(File::open(folder.path().join("out.arrow")).unwrap());
    arrow_ipc::reader::FileReader::try_new(file, None).unwrap().map(Result::unwrap).collect()
}

fn parquet_file(folder: &TempDir) -> Vec<RecordBatch> {
    let file = File::open(folder.path().join("out.parquet")).unwrap();
    ParquetRecordBatchReaderBuilder::try_new(file).unwrap().build().unwrap().map(Result::unwrap).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn columnar_files_hold_the_values(columns in columns()) {
        let count = length(&columns);
        for setting in SETTINGS {
            for name in ["out.arrow", "out.parquet"] {
                let folder = tempfile::tempdir().unwrap();
                flow(&columns).write_with(folder.path().join(name), &options(setting)).unwrap();
                let batches = if name == "out.arrow" { arrow_file(&folder) } else { parquet_file(&folder) };
                let found: usize = batches.iter().map(RecordBatch::num_rows).sum();
                prop_assert_eq!(found, count);
                if count == 0 {
                    continue;
                }
                let table = Flow::batches_of(batches).unwrap().run().unwrap();
                prop_assert_eq!(rows(&table), expected(&columns, count), "{}, {}", name, setting.0);
            }
        }
    }

    #[test]
    fn delimited_text_holds_the_cells(columns in columns(), tabs in any::<bool>()) {
        let count = length(&columns);
        let name = if tabs { "out.tsv" } else { "out.csv" };
        for setting in SETTINGS {
            let folder = tempfile::tempdir().unwrap();
            flow(&columns).write_with(folder.path().join(name), &options(setting)).unwrap();
            let separator = if tabs { b'\t' } else { b',' };
            let mut reader =
                csv::ReaderBuilder::new().delimiter(separator).from_path(folder.path().join(name)).unwrap();
            let heading: Vec<String> = reader.headers().unwrap().iter().map(str::to_owned).collect();
            prop_assert_eq!(heading, columns.iter().map(|(name, _)| (*name).to_owned()).collect::<Vec<_>>());
            let found: Vec<Vec<String>> =
                reader.records().map(|record| record.unwrap().iter().map(str::to_owned).collect()).collect();
            let plain = |value: &Scalar| if value.is_null() { String::new() } else { value.plain() };
            let expected: Vec<Vec<String>> =
                expected(&columns, count).iter().map(|row| row.iter().map(plain).collect()).collect();
            prop_assert_eq!(found, expected, "{}", setting.0);
        }
    }

    #[test]
    fn what_was_written_reads_back(columns in columns(), format in 0..5usize) {
        let count = length(&columns);
        prop_assume!(count > 0);
        let name = ["out.csv", "out.tsv", "out.parquet", "out.arrow", "out.avro"][format];
        let folder = tempfile::tempdir().unwrap();
        // Not every format lets a field be called anything.
        flow(&columns).rename("note = \"note, \"\"as written\"\"\"").write(folder.path().join(name)).unwrap();
        let types = "with (types = (flag bool, n int, x float, note text, day date, at timestamp))";
        let read = if format < 2 { format!("read '{name}' {types}") } else { format!("read '{name}'") };
        let back = Flow::steps(&read).in_folder(folder.path());
        for setting in SETTINGS {
            let table = back.run_with(&options(setting).block_bytes(333)).unwrap();
            prop_assert_eq!(rows(&table), expected(&columns, count), "{}, {}", name, setting.0);
        }
    }
}

/// Files of the same rows are the same bytes, whatever ran; only that is compared which a run may change.
#[rstest]
fn the_same_bytes(
    #[values("out.csv", "out.ndjson", "out.parquet", "out.arrow", "out.avro", "out.xlsx")] name: &str,
) {
    let numbers: Vec<Option<i64>> = (0..5000).map(|n| (n % 7 != 0).then_some(n * 7919 % 1009)).collect();
    let notes = numbers.iter().map(|n| n.map(|n| format!("note {n}"))).collect();
    let table = flow(&[("n", Values::Int(numbers)), ("note", Values::Text(notes))]);
    let mut first: Option<Vec<u8>> = None;
    for setting in SETTINGS {
        let folder = tempfile::tempdir().unwrap();
        table.clone().sort("n desc").write_with(folder.path().join(name), &options(setting)).unwrap();
        let bytes = fs::read(folder.path().join(name)).unwrap();
        assert!(*first.get_or_insert_with(|| bytes.clone()) == bytes, "{name}, {}", setting.0);
    }
}

/// A workbook does not say when it was written.
#[test]
fn a_workbook_has_no_clock() {
    let table = flow(&[("n", Values::Int(vec![Some(1), None]))]);
    let written = || {
        let folder = tempfile::tempdir().unwrap();
        table.write(folder.path().join("out.xlsx")).unwrap();
        fs::read(folder.path().join("out.xlsx")).unwrap()
    };
    let first = written();
    std::thread::sleep(std::time::Duration::from_millis(2100));
    assert!(first == written());
}

/// A value is written the same wherever it stands.
#[test]
fn a_cell_is_its_plain_text() {
    let values = [0.1, -0.0, 1e21, 1e-7, 123_456_789.125, 5e-324, f64::MAX];
    let table = flow(&[("x", Values::Float(values.iter().copied().map(Some).collect()))]);
    let texts = evaluated(&table, "cast(x as text)");
    for (value, text) in values.iter().zip(texts) {
        let Scalar::Text(text) = text else { panic!("{text:?} is no text") };
        assert_eq!(text.parse::<f64>().unwrap().to_bits(), value.to_bits(), "{text}");
        assert_eq!(text, Scalar::Float(*value).plain());
    }
}
