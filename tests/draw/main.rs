//! Charts: the figures that they show, what is refused, and what they are given out as.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod figures;
mod given_out;
mod golden;
mod random;
mod refused;
mod report;

use std::sync::Arc;

use churn::arrow_array::{ArrayRef, Int64Array, RecordBatch};
use churn::{Flow, Table};

/// So many rows with a number each, from 0.
fn numbered(rows: i64) -> Flow {
    let id: ArrayRef = Arc::new(Int64Array::from_iter_values(0..rows));
    Flow::batches_of(vec![RecordBatch::try_from_iter([("id", id)]).unwrap()]).unwrap()
}

/// Deliveries of four weeks of three farms, some without protein.
fn milk() -> Flow {
    Flow::steps(
        "values id: (1), (2), (3), (4), (5), (6), (7), (8), (9), (10), (11), (12), (13), (14), (15), (16), (17), (18)",
    )
    .add("farm = 'F' || cast(id mod 3 as text)")
    .add("day = date '2026-03-01' + (id div 3) * interval '1' day")
    .add("litres = id * 25.5, protein = case when id mod 5 > 0 then 3 + id / 20 end")
    .add("grade = case when id mod 2 = 0 then 'A' when id mod 3 = 0 then 'B' else 'C' end")
}

/// A table as text: names, then rows, cells between bars; null is `·`.
fn shown(table: &Table) -> String {
    let names: Vec<&str> = table.columns().map(|(name, _)| name).collect();
    let columns: Vec<Vec<churn::Scalar>> = names.iter().map(|name| table.values(name).unwrap()).collect();
    let cell = |value: &churn::Scalar| if value.is_null() { "·".to_owned() } else { value.plain() };
    let row = |i: usize| columns.iter().map(|column| cell(&column[i])).collect::<Vec<_>>().join(" | ");
    let rows: Vec<String> = (0..table.len()).map(row).collect();
    format!("{}\n{}", names.join(" | "), rows.join("\n"))
}
