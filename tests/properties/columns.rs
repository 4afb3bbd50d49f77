//! Tables that tests draw, and what expressions give over them.

use std::sync::Arc;

use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Float64Array, Int64Array, RecordBatch, StringArray,
    TimestampMicrosecondArray,
};
use churn::{Flow, RunOptions, Scalar, Table};
use proptest::prelude::*;

/// A column of some type, its nulls as none.
#[derive(Clone, Debug)]
pub enum Values {
    Bool(Vec<Option<bool>>),
    Int(Vec<Option<i64>>),
    Float(Vec<Option<f64>>),
    Text(Vec<Option<String>>),
    /// Days from 1970-01-01.
    Date(Vec<Option<i32>>),
    /// Microseconds from 1970-01-01.
    Timestamp(Vec<Option<i64>>),
}

impl Values {
    pub fn array(&self) -> ArrayRef {
        match self {
            Values::Bool(values) => Arc::new(BooleanArray::from(values.clone())),
            Values::Int(values) => Arc::new(Int64Array::from(values.clone())),
            Values::Float(values) => Arc::new(Float64Array::from(values.clone())),
            Values::Text(values) => Arc::new(StringArray::from(values.clone())),
            Values::Date(values) => Arc::new(Date32Array::from(values.clone())),
            Values::Timestamp(values) => Arc::new(TimestampMicrosecondArray::from(values.clone())),
        }
    }

    /// The value of a row.
    pub fn at(&self, row: usize) -> Scalar {
        match self {
            Values::Bool(values) => values[row].map_or(Scalar::Null, Scalar::Bool),
            Values::Int(values) => values[row].map_or(Scalar::Null, Scalar::Int),
            Values::Float(values) => values[row].map_or(Scalar::Null, Scalar::Float),
            Values::Text(values) => values[row].clone().map_or(Scalar::Null, Scalar::Text),
            Values::Date(values) => values[row].map_or(Scalar::Null, Scalar::Date),
            Values::Timestamp(values) => values[row].map_or(Scalar::Null, Scalar::Timestamp),
        }
    }
}

/// A flow over columns, in two batches where there are rows for them.
pub fn flow(columns: &[(&str, Values)]) -> Flow {
    let whole = RecordBatch::try_from_iter(columns.iter().map(|(name, values)| (*name, values.array())))
        .expect("columns of one length");
    let half = whole.num_rows() / 2;
    Flow::batches_of(vec![whole.slice(0, half), whole.slice(half, whole.num_rows() - half)]).expect("a flow")
}

/// The rows of a table.
pub fn rows(table: &Table) -> Vec<Vec<Scalar>> {
    let names: Vec<String> = table.columns().map(|(name, _)| name.to_owned()).collect();
    let columns: Vec<Vec<Scalar>> =
        names.iter().map(|name| table.values(name).expect("a column of the table")).collect();
    (0..table.len()).map(|row| columns.iter().map(|column| column[row].clone()).collect()).collect()
}

/// What an expression gives in each row.
pub fn evaluated(flow: &Flow, expression: &str) -> Vec<Scalar> {
    let flow = flow.clone().select(format!("v = {expression}"));
    let table = flow.run().unwrap_or_else(|error| panic!("{expression}: {error}"));
    table.values("v").expect("the column that was selected")
}

/// A setting of a run: its name for messages, threads, rows in a batch, bytes of memory.
pub type Setting = (&'static str, usize, usize, Option<u64>);

pub const SETTINGS: [Setting; 4] = [
    ("alone", 1, 8192, None),
    ("small batches", 3, 7, None),
    ("no memory", 2, 100, Some(1)),
    ("little memory", 2, 1000, Some(1 << 14)),
];

/// The options of a setting.
pub fn options((_, threads, batch, memory): Setting) -> RunOptions {
    let options = RunOptions::new().threads(threads).batch_rows(batch);
    match memory {
        Some(memory) => options.memory(memory),
        None => options,
    }
}

/// Texts as they come: empty, of several scripts, with what other formats take for their own.
pub fn text() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => "[a-cA-C /%_'0-9-]{0,8}",
        1 => "[äÖß€µ日本🐄\u{301} ]{0,5}",
        1 => "(ab|b/|//|%|_){0,12}",
        1 => Just("a text that is too long to stand beside its length".to_owned()),
    ]
}

/// Some rows of texts, one in five null.
pub fn texts() -> impl Strategy<Value = Vec<Option<String>>> {
    prop::collection::vec(prop::option::weighted(0.8, text()), 1..40)
}
