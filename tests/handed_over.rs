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
