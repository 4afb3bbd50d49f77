//! Tables handed to other code and taken from it: batches, readers, streams, columns of Rust's own types.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::sync::Arc;

use churn::arrow_array::{
    ArrayRef, Int64Array, RecordBatch, RecordBatchIterator, RecordBatchReader, StringArray,
};
use churn::arrow_schema::{ArrowError, DataType, Field, Schema};
use churn::{Error, ErrorKind, Flow, Scalar};
use jiff::civil;
use rstest::rstest;

fn milk() -> Flow {
    Flow::steps(
        "values farm, litres, day, at, is_good
          'F001', 120.5, date '2026-03-01', timestamp '2026-03-01 06:30:00', true
          'F002', null, date '1969-12-31', timestamp '1969-12-31 23:59:59', false",
    )
}

#[test]
fn columns_are_values_of_rust() {
    let table = milk().run().unwrap();
    assert_eq!(table.column::<String>("farm").unwrap(), ["F001", "F002"]);
    assert_eq!(table.column::<Option<f64>>("litres").unwrap(), [Some(120.5), None]);
    assert_eq!(table.column::<bool>("is_good").unwrap(), [true, false]);
    let days = [civil::date(2026, 3, 1), civil::date(1969, 12, 31)];
    assert_eq!(table.column::<civil::Date>("day").unwrap(), days);
    let moments = [days[0].at(6, 30, 0, 0), days[1].at(23, 59, 59, 0)];
    assert_eq!(table.column::<civil::DateTime>("at").unwrap(), moments);
    assert_eq!(table.column::<Scalar>("litres").unwrap(), [Scalar::Float(120.5), Scalar::Null]);
}

#[rstest]
#[case(milk().run().unwrap().column::<i64>("farm").map(drop), "The column farm is text, and i64 was asked for.")]
#[case(milk().run().unwrap().column::<f64>("litres").map(drop), "The column litres is null in row 2.")]
#[case(milk().run().unwrap().column::<f64>("liters").map(drop), "There is no column liters.")]
fn what_a_column_is_not_is_told(#[case] read: Result<(), Error>, #[case] what: &str) {
    let error = read.unwrap_err();
    assert_eq!(error.what(), what);
    assert!(!error.advice().is_empty(), "{error}");
}

#[test]
fn a_run_is_a_reader_of_arrow() {
    let reader = milk().batches().unwrap().into_arrow();
    let names: Vec<String> = reader.schema().fields().iter().map(|field| field.name().clone()).collect();
    assert_eq!(names, ["farm", "litres", "day", "at", "is_good"]);
    let again = Flow::of_reader(reader).unwrap().run().unwrap();
    assert_eq!(again.column::<Option<f64>>("litres").unwrap(), [Some(120.5), None]);
}

#[test]
fn a_run_that_fails_is_an_error_of_the_reader() {
    let flow = milk().require("litres > 0");
    let error = flow.batches().unwrap().into_arrow().find_map(Result::err).expect("an error");
    let ArrowError::ExternalError(source) = error else { panic!("{error} is another one") };
    let ours = source.downcast_ref::<Error>().expect("our own error");
    assert_eq!(ours.kind(), ErrorKind::Require);
    assert!(ours.reasons().iter().any(|reason| reason.contains("F002")), "{ours}");
}

#[cfg(feature = "ffi")]
#[rstest]
fn streams_go_out_and_come_in(#[values(0, 1, 3000)] rows: i64) {
    let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(0..rows));
    let texts: ArrayRef = Arc::new(StringArray::from_iter_values((0..rows).map(|n| format!("note {n}"))));
    let batch = RecordBatch::try_from_iter([("n", numbers), ("note", texts)]).unwrap();
    let flow = Flow::batches_of(vec![batch]).unwrap().filter("n mod 3 <> 1");
    let taken = Flow::of_stream(flow.batches().unwrap().into_stream()).unwrap();
    let (ours, theirs) = (flow.run().unwrap(), taken.run().unwrap());
    assert_eq!(ours.column::<i64>("n").unwrap(), theirs.column::<i64>("n").unwrap());
    assert_eq!(ours.column::<String>("note").unwrap(), theirs.column::<String>("note").unwrap());
}

/// A stream that is dropped before its end stops the run that makes it.
#[cfg(feature = "ffi")]
#[test]
fn a_stream_may_be_dropped() {
    let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(0..200_000));
    let batch = RecordBatch::try_from_iter([("n", numbers)]).unwrap();
    let flow = Flow::batches_of(vec![batch.slice(0, 100_000), batch.slice(100_000, 100_000)]).unwrap();
    drop(flow.sort("n desc").batches().unwrap().into_stream());
}

#[rstest]
#[case::a_type_that_the_language_lacks(Schema::new(vec![Field::new("u", DataType::Duration(churn::arrow_schema::TimeUnit::Second), true)]), "which the language lacks")]
fn readers_of_other_types_are_refused(#[case] schema: Schema, #[case] told: &str) {
    let batch = RecordBatch::new_empty(Arc::new(schema));
    let reader = RecordBatchIterator::new([Ok(batch.clone())], batch.schema());
    let error = Flow::of_reader(reader).unwrap_err();
    assert!(error.to_string().contains(told), "{error}");
}

#[test]
fn a_reader_that_fails_is_told() {
    let schema = Arc::new(Schema::new(vec![Field::new("n", DataType::Int64, true)]));
    let broken = Err(ArrowError::IoError("the line went dead".into(), std::io::Error::other("gone")));
    let error = Flow::of_reader(RecordBatchIterator::new([broken], schema)).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Input);
    assert!(error.to_string().contains("the line went dead"), "{error}");
}

#[derive(serde::Serialize, serde::Deserialize, Clone, Debug, PartialEq)]
struct Delivery {
    farm: String,
    litres: Option<f64>,
    grade: Grade,
    notes: Vec<String>,
    tank: u8,
}

#[derive(serde::Serialize, serde::Deserialize, Clone, Debug, PartialEq)]
enum Grade {
    A,
    Reject,
}

fn delivery(farm: &str, litres: Option<f64>, grade: Grade, notes: &[&str]) -> Delivery {
    Delivery {
        farm: farm.into(),
        litres,
        grade,
        notes: notes.iter().map(|note| (*note).into()).collect(),
        tank: 7,
    }
}

/// Structs become rows, and rows become the structs that they were, all at once and one after the other.
#[test]
fn structs_go_in_and_come_out() {
    let rows = vec![
        delivery("F001", Some(120.5), Grade::A, &[]),
        delivery("it's, \"F002\"", None, Grade::Reject, &["gate closed", ""]),
    ];
    let flow = Flow::of_rows(&rows).unwrap();
    assert_eq!(flow.run().unwrap().rows::<Delivery>().unwrap(), rows);
    assert_eq!(flow.rows::<Delivery>().unwrap().collect::<Result<Vec<_>, _>>().unwrap(), rows);
    let many: Vec<Delivery> = rows.iter().cycle().take(20_000).cloned().collect();
    let read: Vec<Delivery> =
        Flow::of_rows(&many).unwrap().rows().unwrap().collect::<Result<_, _>>().unwrap();
    assert!(read == many);
}

/// Records within records, and maps of fields that some rows lack.
#[test]
fn nested_records_are_columns_named_by_path() {
    let rows = serde_json::json!([
        {"farm": "F001", "results": {"urea": 21, "fat": 4.5}},
        {"farm": "F002", "results": {"urea": null}, "day": "2026-03-01"},
    ]);
    let table = Flow::of_rows(rows.as_array().unwrap()).unwrap().run().unwrap();
    let names: Vec<&str> = table.columns().map(|(name, _)| name).collect();
    // JSON as this crate has it keeps the order of fields.
    assert_eq!(names, ["farm", "results.urea", "results.fat", "day"]);
    assert_eq!(table.column::<Option<i64>>("results.urea").unwrap(), [Some(21), None]);
    assert_eq!(table.column::<Option<String>>("day").unwrap(), [None, Some("2026-03-01".into())]);
}

#[rstest]
#[case::no_rows(Flow::of_rows([] as [Delivery; 0]).map(drop), "There is no row")]
#[case::no_record(Flow::of_rows([1, 2]).map(drop), "Row 1 cannot become a row of a table: it is no record with fields.")]
#[case::several_types(
    Flow::of_rows(serde_json::json!([{"x": 1}, {"x": "one"}]).as_array().unwrap()).map(drop),
    "Row 2 cannot become a row of a table: x is int before and text here."
)]
#[case::too_large(Flow::of_rows([std::collections::BTreeMap::from([("x", u64::MAX)])]).map(drop), "beyond the largest whole number")]
#[case::records_in_a_list(
    Flow::of_rows(serde_json::json!([{"x": [{"y": 1}]}]).as_array().unwrap()).map(drop),
    "a list holds records"
)]
fn rows_that_are_none_are_told(#[case] made: Result<(), Error>, #[case] told: &str) {
    let error = made.unwrap_err();
    assert!(error.to_string().contains(told), "{error}");
}

/// A row that does not fit its struct is the last item, with its number.
#[test]
fn a_row_that_does_not_fit_is_told() {
    let rows = Flow::steps("values farm: ('F001'), (null)")
        .rows::<std::collections::BTreeMap<String, String>>()
        .unwrap();
    let read: Vec<_> = rows.collect();
    let error = read.last().unwrap().as_ref().unwrap_err();
    assert!(error.to_string().contains("Row 2 does not fit"), "{error}");
}
