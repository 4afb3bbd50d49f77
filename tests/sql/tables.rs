//! The tables that queries are asked over: small, with nulls, repeated values, and rows without a partner.

use std::path::Path;

use churn::{Flow, ReadOptions, Type};
use jiff::civil::Date;

use crate::value::V;

/// A table of the evaluator.
#[derive(Clone, Debug)]
pub struct Data {
    pub names: Vec<String>,
    pub rows: Vec<Vec<V>>,
}

/// Columns with their types, and cells with blanks between them; `·` is null.
const TABLES: [(&str, &str, &str); 3] = [
    (
        "milk",
        "id int, farm text, day date, litres float, grade text, cells int",
        "1 F1 2026-01-01 120.5 A 200 / 2 F2 2026-01-01 80.25 B 310 / 3 F1 2026-01-02 99.5 A · / 4 F3 2026-01-02 · C 150 /
         5 F2 2026-01-03 80.25 · 310 / 6 F9 2026-01-03 45 B 90 / 7 · 2026-01-04 60.75 A 120 / 8 F1 2026-01-04 120.5 B 200 /
         9 F3 · 33.25 A 410 / 10 F4 2026-02-01 0 C 0 / 11 F2 2026-02-02 75 B 280 / 12 F1 2026-02-02 99.5 A 205",
    ),
    (
        "farms",
        "farm text, district text, herd int, joined date",
        "F1 Lakes 40 2001-05-14 / F2 Vale 55 2010-02-01 / F3 Vale · 2015-07-30 / F4 Fen 12 · / F5 Lakes 40 2020-01-01 /
         F6 · 8 2021-03-03",
    ),
    (
        "prices",
        "grade text, since date, pence int, note text",
        "A 2025-12-01 42 first / A 2026-01-03 44 it's / B 2025-12-01 38 50%_off / C · 30 · / D 2026-01-01 · Höfe",
    ),
];

/// The type of a column by its word.
fn kind(word: &str) -> Type {
    match word {
        "int" => Type::Int,
        "float" => Type::Float,
        "date" => Type::Date,
        _ => Type::Text,
    }
}

fn cell(text: &str, kind: &Type) -> V {
    match (text, kind) {
        ("·", _) => V::Null,
        (text, Type::Int) => V::Int(text.parse().unwrap()),
        (text, Type::Float) => V::Float(text.parse().unwrap()),
        (text, Type::Date) => V::Date(text.parse::<Date>().unwrap()),
        (text, _) => V::Text(text.to_owned()),
    }
}

fn columns(text: &str) -> Vec<(&str, Type)> {
    text.split(", ")
        .map(|column| column.split_once(' ').unwrap())
        .map(|(name, word)| (name, kind(word)))
        .collect()
}

/// The table of a name.
pub fn data(name: &str) -> Option<Data> {
    let (_, heading, cells) = TABLES.iter().find(|(known, ..)| *known == name)?;
    let columns = columns(heading);
    let row =
        |row: &str| row.split_whitespace().zip(&columns).map(|(text, (_, kind))| cell(text, kind)).collect();
    let rows = cells.split('/').map(row).collect();
    Some(Data { names: columns.iter().map(|(name, _)| (*name).to_owned()).collect(), rows })
}

/// A format that the tables are read from.
#[derive(Clone, Copy, Debug)]
pub enum Form {
    Csv,
    Parquet,
    Lines,
}

/// Writes the tables into a folder, and gives a query over them.
pub fn query(folder: &Path, form: Form, text: &str) -> Flow {
    TABLES.iter().fold(Flow::sql(text), |flow, (name, ..)| flow.with_table(name, &table(folder, form, name)))
}

/// A table of the folder in some format.
pub fn table(folder: &Path, form: Form, name: &str) -> Flow {
    let (_, heading, _) = TABLES.iter().find(|(known, ..)| known == &name).unwrap();
    let typed = |ending: &str| {
        let options =
            columns(heading).into_iter().fold(ReadOptions::new(), |o, (name, kind)| o.type_of(name, kind));
        Flow::read_with(folder.join(format!("{name}.{ending}")), options)
    };
    match form {
        Form::Csv => typed("csv"),
        Form::Parquet => Flow::read(folder.join(format!("{name}.parquet"))),
        Form::Lines => typed("ndjson"),
    }
}

/// Writes the tables in every format.
pub fn write(folder: &Path) {
    for (name, heading, cells) in TABLES {
        let heading: Vec<&str> = columns(heading).iter().map(|(name, _)| *name).collect();
        let row = |row: &str| {
            row.split_whitespace().map(|c| if c == "·" { "" } else { c }).collect::<Vec<_>>().join(",")
        };
        let rows: Vec<String> = cells.split('/').map(row).collect();
        let csv = format!("{}\n{}\n", heading.join(","), rows.join("\n"));
        std::fs::write(folder.join(format!("{name}.csv")), csv).unwrap();
        for ending in ["parquet", "ndjson"] {
            table(folder, Form::Csv, name).write(folder.join(format!("{name}.{ending}"))).unwrap();
        }
    }
}
