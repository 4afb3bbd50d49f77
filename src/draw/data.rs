//! The figures of a chart as a table.

use std::sync::Arc;

use arrow_array::{
    ArrayRef, Date32Array, Float64Array, Int64Array, StringViewArray, Time64MicrosecondArray,
    TimestampMicrosecondArray,
};
use churn_core::{Batch, ColumnId, Field, Ledger, Result, Type};
use churn_draw::figure::{Colours, Extent, Figure, Place, Series, Shape};
use churn_draw::scale::Measure;

use crate::table::Table;

/// A column as it grows.
struct Column {
    name: String,
    values: Values,
}

enum Values {
    Texts(Vec<String>),
    Numbers(Measure, Vec<Option<f64>>),
}

/// A cell of a row.
enum Value {
    Text(String),
    Number(Measure, Option<f64>),
}

/// The rows as they are drawn.
pub(super) fn table(figure: &Figure) -> Result<Table> {
    let mut columns: Vec<Column> = Vec::new();
    for panel in &figure.panels {
        for (place, series) in panel.strips.iter().enumerate() {
            for one in series {
                rows(figure, place, one, &mut |mut row| {
                    if !panel.name.is_empty() {
                        row.insert(0, ("panel".to_owned(), Value::Text(panel.name.clone())));
                    }
                    push(&mut columns, row);
                });
            }
        }
    }
    let rows = columns.iter().map(|column| column.values.len()).max().unwrap_or(0);
    let mut fields = Vec::new();
    let mut arrays = Vec::new();
    for (number, column) in columns.into_iter().enumerate() {
        let (kind, array) = column.values.into_array();
        fields.push(Field::new(number as ColumnId, column.name, kind));
        arrays.push(array);
    }
    Ok(Table::new(fields, vec![Batch { columns: arrays, rows }], None, Ledger::default()))
}

fn push(columns: &mut Vec<Column>, row: Vec<(String, Value)>) {
    for (name, value) in row {
        if !columns.iter().any(|column| column.name == name) {
            let values = match &value {
                Value::Text(_) => Values::Texts(Vec::new()),
                Value::Number(measure, _) => Values::Numbers(*measure, Vec::new()),
            };
            columns.push(Column { name: name.clone(), values });
        }
        let Some(column) = columns.iter_mut().find(|column| column.name == name) else { continue };
        match (&mut column.values, value) {
            (Values::Texts(texts), Value::Text(text)) => texts.push(text),
            (Values::Numbers(_, numbers), Value::Number(_, number)) => numbers.push(number),
            _ => {}
        }
    }
}

impl Values {
    fn len(&self) -> usize {
        match self {
            Values::Texts(texts) => texts.len(),
            Values::Numbers(_, numbers) => numbers.len(),
        }
    }

    fn into_array(self) -> (Type, ArrayRef) {
        match self {
            Values::Texts(texts) => (Type::Text, Arc::new(StringViewArray::from_iter_values(texts))),
            Values::Numbers(measure, numbers) => {
                let micros = |numbers: Vec<Option<f64>>| {
                    numbers.into_iter().map(|x| x.map(|x| (x * 1e6).round() as i64)).collect::<Vec<_>>()
                };
                match measure {
                    Measure::Number => (Type::Float, Arc::new(Float64Array::from(numbers))),
                    Measure::Whole => {
                        let whole = numbers.into_iter().map(|x| x.map(|x| x.round() as i64));
                        (Type::Int, Arc::new(Int64Array::from_iter(whole)))
                    }
                    Measure::Date => {
                        let days: Vec<Option<i32>> =
                            numbers.into_iter().map(|x| x.map(|x| x.round() as i32)).collect();
                        (Type::Date, Arc::new(Date32Array::from(days)))
                    }
                    Measure::Time => (Type::Time, Arc::new(Time64MicrosecondArray::from(micros(numbers)))),
                    Measure::Moment => {
                        (Type::Timestamp, Arc::new(TimestampMicrosecondArray::from(micros(numbers))))
                    }
                }
            }
        }
    }
}

fn measure_of(extent: Option<&Extent>) -> Measure {
    match extent {
        Some(Extent::Range(range)) => range.measure,
        _ => Measure::Number,
    }
}

/// A place on an axis: a key by its name, a part of a range by its ends.
fn placed(name: &str, extent: &Extent, place: Place, row: &mut Vec<(String, Value)>) {
    match (extent, place) {
        // A box of all rows has no key.
        (Extent::Keys { names, .. }, Place::Key(key)) if !name.is_empty() => {
            row.push((name.to_owned(), Value::Text(names.get(key).cloned().unwrap_or_default())));
        }
        (extent, Place::Between(from, to)) => {
            let measure = measure_of(Some(extent));
            row.push((format!("{name}_from"), Value::Number(measure, Some(from))));
            row.push((format!("{name}_to"), Value::Number(measure, Some(to))));
        }
        _ => {}
    }
}

/// The number or the key that a mark stands at.
fn standing(name: &str, extent: &Extent, x: f64, row: &mut Vec<(String, Value)>) {
    match extent {
        Extent::Keys { names, .. } => {
            row.push((name.to_owned(), Value::Text(names.get(x as usize).cloned().unwrap_or_default())));
        }
        Extent::Range(range) => row.push((name.to_owned(), Value::Number(range.measure, Some(x)))),
    }
}

/// The rows of a series.
fn rows(figure: &Figure, place: usize, series: &Series, row: &mut impl FnMut(Vec<(String, Value)>)) {
    let along = &figure.along;
    let Some(axis) = figure.measures.get(place) else { return };
    let measure = measure_of(Some(&axis.extent));
    let start = || {
        let mut start = Vec::new();
        if figure.measures.len() > 1 {
            start.push(("measure".to_owned(), Value::Text(axis.title.clone())));
        }
        if let Colours::Keys { title, names } = &figure.colours {
            start.push((title.clone(), Value::Text(names.get(series.colour).cloned().unwrap_or_default())));
        }
        start
    };
    let value_name = if figure.measures.len() > 1 { "value".to_owned() } else { axis.title.clone() };
    let number = |name: &str, x: f64| (name.to_owned(), Value::Number(measure, Some(x)));
    match &series.shape {
        Shape::Bars(bars) => bars.iter().for_each(|bar| {
            let mut cells = start();
            placed(&along.title, &along.extent, bar.at, &mut cells);
            cells.push(number(&value_name, bar.to - bar.from));
            row(cells);
        }),
        Shape::Lines(pieces) => pieces.iter().flatten().for_each(|[x, y]| {
            let mut cells = start();
            standing(&along.title, &along.extent, *x, &mut cells);
            cells.push(number(&value_name, *y));
            row(cells);
        }),
        Shape::Areas(pieces) => pieces.iter().flatten().for_each(|[x, from, to]| {
            let mut cells = start();
            standing(&along.title, &along.extent, *x, &mut cells);
            cells.push(number(&value_name, to - from));
            row(cells);
        }),
        Shape::Points(points) => points.iter().for_each(|point| {
            let mut cells = start();
            standing(&along.title, &along.extent, point.x, &mut cells);
            cells.push(number(&value_name, point.y));
            if let Colours::Values { title, .. } = &figure.colours {
                cells.push((title.clone(), Value::Number(Measure::Number, point.value)));
            }
            row(cells);
        }),
        Shape::Tiles(tiles) => tiles.iter().for_each(|tile| {
            let mut cells = start();
            placed(&along.title, &along.extent, tile.x, &mut cells);
            placed(&axis.title, &axis.extent, tile.y, &mut cells);
            let (name, measure) = match &figure.colours {
                Colours::Values { title, range } => (title.clone(), range.measure),
                _ => ("rows".to_owned(), Measure::Whole),
            };
            cells.push((name, Value::Number(measure, Some(tile.value))));
            row(cells);
        }),
        Shape::Boxes(boxes) => boxes.iter().for_each(|one| {
            let mut cells = start();
            placed(&along.title, &along.extent, Place::Key(one.at), &mut cells);
            let [lower, median, upper] = one.quartiles;
            let figures = [
                ("low", one.low),
                ("lower", lower),
                ("median", median),
                ("upper", upper),
                ("high", one.high),
            ];
            // Quartiles of whole numbers may lie between two of them.
            let measure = if measure == Measure::Whole { Measure::Number } else { measure };
            cells.extend(figures.map(|(name, x)| (name.to_owned(), Value::Number(measure, Some(x)))));
            let counts = [("rows", one.rows), ("outside", one.rows_outside)];
            cells.extend(
                counts.map(|(name, n)| (name.to_owned(), Value::Number(Measure::Whole, Some(n as f64)))),
            );
            row(cells);
        }),
    }
}
