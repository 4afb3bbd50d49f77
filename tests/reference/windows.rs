//! Windows of the reference interpreter: for each row, its partition in order, and the rows that a call sees.

use std::cmp::Ordering;
use std::fmt;

use super::aggregates::Agg;
use super::eval::{E, eval};
use super::steps::{compare_keys, numbers, put_column};
use super::value::{Data, Ty, V};

/// An end of a frame, in rows or in units of the first key.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Edge {
    Unbounded,
    /// So far on; negative is before.
    At(i64),
}

#[derive(Clone, Debug)]
pub enum Frame {
    Rows(Edge, Edge),
    Range(Edge, Edge),
    /// `last N days`, `next N days`.
    Days(bool, i64),
}

#[derive(Clone, Debug)]
pub enum Call {
    Agg(Agg),
    /// `row_number()`, `rank()`, …; `ntile(n)`, `nth_value(x, n)` and `lag(x, n, default)` have more.
    Function(&'static str, Option<E>, Option<i64>, Option<E>),
}

#[derive(Clone, Debug)]
pub struct Item {
    pub name: String,
    pub ty: Ty,
    pub call: Call,
    pub frame: Option<Frame>,
}

#[derive(Clone, Debug)]
pub struct Window {
    pub by: Vec<String>,
    pub order: Vec<(E, bool, bool)>,
    /// The first key's type.
    pub key: Ty,
    pub items: Vec<Item>,
}

fn edge(edge: Edge, is_start: bool, unit: &str) -> String {
    match edge {
        Edge::Unbounded if is_start => "unbounded preceding".into(),
        Edge::Unbounded => "unbounded following".into(),
        Edge::At(0) => "current row".into(),
        Edge::At(n) => {
            let side = if n < 0 { "preceding" } else { "following" };
            let n = n.abs();
            if unit.is_empty() { format!("{n} {side}") } else { format!("interval '{n}' {unit} {side}") }
        }
    }
}

impl Window {
    fn frame(&self, frame: &Frame) -> String {
        let between = |what: &str, a: Edge, b: Edge, unit: &str| {
            format!("{what} between {} and {}", edge(a, true, unit), edge(b, false, unit))
        };
        match frame {
            Frame::Rows(Edge::At(n @ ..0), Edge::At(0)) => format!("last {} rows", 1 - n),
            Frame::Rows(Edge::At(0), Edge::At(n @ 1..)) => format!("next {} rows", n + 1),
            Frame::Rows(Edge::Unbounded, Edge::At(0)) => "rows so far".into(),
            Frame::Rows(Edge::At(0), Edge::Unbounded) => "rows from here".into(),
            Frame::Rows(a, b) => between("rows", *a, *b, ""),
            Frame::Range(a, b) => between("range", *a, *b, if self.key == Ty::Date { "day" } else { "" }),
            Frame::Days(last, n) => format!("{} {n} days", if *last { "last" } else { "next" }),
        }
    }
}

impl fmt::Display for Window {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("window")?;
        if !self.by.is_empty() {
            write!(f, " by {}", self.by.join(", "))?;
        }
        for (i, (e, desc, nulls_first)) in self.order.iter().enumerate() {
            f.write_str(if i == 0 { " order by " } else { ", " })?;
            let (desc, first) =
                (if *desc { " desc" } else { "" }, if *nulls_first { " nulls first" } else { "" });
            write!(f, "{e}{desc}{first}")?;
        }
        for Item { name, call, frame, .. } in &self.items {
            write!(f, "\n  {name} = ")?;
            match call {
                Call::Agg(agg) => write!(f, "{agg}")?,
                Call::Function(function, x, n, default) => {
                    let mut args: Vec<String> = x.iter().map(ToString::to_string).collect();
                    args.extend(n.iter().map(ToString::to_string));
                    args.extend(default.iter().map(ToString::to_string));
                    write!(f, "{function}({})", args.join(", "))?;
                }
            }
            if let Some(frame) = frame {
                write!(f, " over {}", self.frame(frame))?;
            }
        }
        Ok(())
    }
}

impl Window {
    pub fn apply(&self, data: &Data) -> Data {
        let groups = numbers(data, &self.by);
        let shape = Data { columns: data.columns.clone(), rows: Vec::new() };
        let mut partitions: Vec<Vec<usize>> = vec![Vec::new(); groups.iter().max().map_or(0, |g| g + 1)];
        groups.iter().enumerate().for_each(|(row, group)| partitions[*group].push(row));
        for partition in &mut partitions {
            partition.sort_by(|a, b| compare_keys(&self.order, &shape, &data.rows[*a], &data.rows[*b]));
        }
        self.items.iter().fold(data.clone(), |out, item| {
            let mut values = vec![V::Null; data.rows.len()];
            for partition in &partitions {
                for at in 0..partition.len() {
                    values[partition[at]] = self.value(item, data, &shape, partition, at);
                }
            }
            put_column(&out, &item.name, item.ty, values)
        })
    }

    fn value(&self, item: &Item, data: &Data, shape: &Data, partition: &[usize], at: usize) -> V {
        let row = |place: usize| &data.rows[partition[place]];
        let seen: Vec<usize> = match &item.frame {
            None => (0..partition.len()).collect(),
            Some(frame) => {
                (0..partition.len()).filter(|other| self.sees(frame, data, partition, at, *other)).collect()
            }
        };
        let equal = |a: usize, b: usize| compare_keys(&self.order, shape, row(a), row(b)).is_eq();
        let first = (0..=at).find(|other| equal(*other, at)).unwrap();
        let last = (at..partition.len()).rfind(|other| equal(*other, at)).unwrap();
        let n = partition.len();
        let (function, x, number, default) = match &item.call {
            Call::Agg(agg) => {
                return agg.of(data, &seen.iter().map(|place| row(*place)).collect::<Vec<_>>());
            }
            Call::Function(function, x, number, default) => (*function, x, *number, default),
        };
        let value =
            |place: Option<&usize>| place.map_or(V::Null, |p| eval(x.as_ref().unwrap(), data, row(*p)));
        match function {
            "row_number" => V::Int(at as i64 + 1),
            "rank" => V::Int(first as i64 + 1),
            "dense_rank" => V::Int((1..=first).filter(|p| !equal(*p, p - 1)).count() as i64 + 1),
            "percent_rank" => V::Float(if n < 2 { 0.0 } else { first as f64 / (n - 1) as f64 }),
            "cume_dist" => V::Float((last + 1) as f64 / n as f64),
            "ntile" => {
                // Parts are filled one after the other, the first ones with one row more.
                let parts = number.unwrap() as usize;
                let mut left = at;
                let part = (0..parts).find(|part| {
                    let rows = n / parts + usize::from(part < &(n % parts));
                    let is_here = left < rows;
                    left = left.wrapping_sub(rows);
                    is_here
                });
                V::Int(part.unwrap() as i64 + 1)
            }
            "lag" | "lead" => {
                let by = number.unwrap_or(1) * if function == "lag" { -1 } else { 1 };
                match usize::try_from(at as i64 + by).ok().filter(|p| *p < n) {
                    Some(place) => value(Some(&place)),
                    None => default.as_ref().map_or(V::Null, |d| eval(d, data, row(at))),
                }
            }
            "first_value" => value(seen.first()),
            "last_value" => value(seen.last()),
            _ => value(seen.get(number.unwrap() as usize - 1)),
        }
    }

    /// Whether the frame of the row at a place holds another one.
    fn sees(&self, frame: &Frame, data: &Data, partition: &[usize], at: usize, other: usize) -> bool {
        let far = other as i64 - at as i64;
        let key = |place: usize| eval(&self.order[0].0, data, &data.rows[partition[place]]);
        let reaches = |from: Edge, to: Edge, far: f64| {
            let after =
                |edge| matches!(edge, Edge::Unbounded) || matches!(edge, Edge::At(n) if far >= n as f64);
            let before =
                |edge| matches!(edge, Edge::Unbounded) || matches!(edge, Edge::At(n) if far <= n as f64);
            after(from) && before(to)
        };
        let (from, to) = match frame {
            Frame::Rows(from, to) => return reaches(*from, *to, far as f64),
            Frame::Range(from, to) => (*from, *to),
            Frame::Days(..) => (Edge::At(0), Edge::At(0)),
        };
        let (own, theirs) = (key(at), key(other));
        if own.is_null() || theirs.is_null() {
            let both = own.is_null() && theirs.is_null();
            let is_days = matches!(frame, Frame::Days(..));
            return both
                || (!is_days && far < 0 && from == Edge::Unbounded)
                || (!is_days && far > 0 && to == Edge::Unbounded);
        }
        let distance = match (&own, &theirs) {
            (V::Date(a), V::Date(b)) => f64::from(b - a),
            // However far from NaN is NaN.
            (V::Float(a), V::Float(b)) if a.is_nan() && b.is_nan() => return true,
            (a, b) if a.order(b).is_eq() => 0.0,
            (V::Text(_) | V::Bool(_), _) => match theirs.order(&own) {
                Ordering::Less => -1e30,
                _ => 1e30,
            },
            // NaN is beyond all numbers, and as far from each.
            (a, b) if b.number().is_nan() || a.number().is_nan() => {
                if b.number().is_nan() {
                    f64::INFINITY
                } else {
                    f64::NEG_INFINITY
                }
            }
            (a, b) => b.number() - a.number(),
        };
        match frame {
            Frame::Days(true, n) => distance <= 0.0 && distance > -(*n as f64),
            Frame::Days(false, n) => distance >= 0.0 && distance < *n as f64,
            _ => reaches(from, to, if self.order[0].1 { -distance } else { distance }),
        }
    }
}
