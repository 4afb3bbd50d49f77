//! Steps of the reference interpreter.

use std::fmt;

use super::aggregates::Agg;
use super::eval::{E, eval};
use super::reshape::{Pivot, Split, Unnest, Unpivot};
use super::two_tables::{Join, Other, append};
use super::value::{Data, Ty, V};
use super::windows::Window;
use crate::densify::Densify;
use crate::table_values::TableUse;

#[derive(Clone, Debug)]
pub enum Step {
    Filter(E),
    /// `filter x op AGG per keys`.
    FilterPer(E, &'static str, Agg, Vec<String>),
    Select(Vec<(String, E, Ty)>),
    Drop(Vec<String>),
    Rename(Vec<(String, String)>),
    Add(Vec<(String, E, Ty)>),
    AddPer(String, Agg, Vec<String>),
    Sort(Vec<(E, bool, bool)>),
    First(usize, usize),
    FirstPer(usize, Vec<String>),
    Last(usize, Vec<String>),
    Distinct(Vec<String>),
    Group(Vec<(String, E, Ty)>, Vec<(String, Agg)>),
    Fill(String, E),
    Join(Box<Join>),
    Append(Other),
    Window(Window),
    /// `fill … down` or `up`.
    Carry(String, bool, Vec<String>),
    Unpivot(Unpivot),
    Pivot(Pivot),
    Split(Split),
    Unnest(Unnest),
    Densify(Densify),
    TableUse(Box<TableUse>),
    /// `group by KEYS: NAME = quantile(x, (SHARES))`: each share with what is added to the name.
    Quantiles(Vec<(String, E, Ty)>, String, E, Vec<(f64, &'static str)>),
}

fn items(items: &[(String, E, Ty)]) -> String {
    items.iter().map(|(n, e, _)| format!("{n} = {e}")).collect::<Vec<_>>().join(", ")
}

fn per(keys: &[String]) -> String {
    if keys.is_empty() { "table".into() } else { format!("({})", keys.join(", ")) }
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Step::Filter(e) => write!(f, "filter {e}"),
            Step::FilterPer(e, op, agg, keys) => write!(f, "filter {e} {op} {agg} per {}", per(keys)),
            Step::Select(columns) => write!(f, "select {}", items(columns)),
            Step::Drop(names) => write!(f, "drop {}", names.join(", ")),
            Step::Rename(pairs) => {
                let pairs: Vec<String> = pairs.iter().map(|(new, old)| format!("{new} = {old}")).collect();
                write!(f, "rename {}", pairs.join(", "))
            }
            Step::Add(columns) => write!(f, "add {}", items(columns)),
            Step::AddPer(name, agg, keys) => write!(f, "add {name} = {agg} per {}", per(keys)),
            Step::Sort(keys) => {
                let key = |(e, desc, nulls_first): &(E, bool, bool)| {
                    format!(
                        "{e}{}{}",
                        if *desc { " desc" } else { "" },
                        if *nulls_first { " nulls first" } else { "" }
                    )
                };
                write!(f, "sort {}", keys.iter().map(key).collect::<Vec<_>>().join(", "))
            }
            Step::First(n, 0) => write!(f, "first {n}"),
            Step::First(n, after) => write!(f, "first {n} after {after}"),
            Step::FirstPer(n, keys) => write!(f, "first {n} per {}", keys.join(", ")),
            Step::Last(n, keys) if keys.is_empty() => write!(f, "last {n}"),
            Step::Last(n, keys) => write!(f, "last {n} per {}", keys.join(", ")),
            Step::Distinct(keys) if keys.is_empty() => f.write_str("distinct"),
            Step::Distinct(keys) => write!(f, "distinct by {}", keys.join(", ")),
            Step::Group(keys, aggs) => {
                match keys.as_slice() {
                    [] => f.write_str("total")?,
                    keys => write!(f, "group by {}", items(keys))?,
                }
                aggs.iter().try_for_each(|(name, agg)| write!(f, "\n  {name} = {agg}"))
            }
            Step::Fill(name, e) => write!(f, "fill {name} with {e}"),
            Step::Join(join) => join.fmt(f),
            Step::Window(window) => window.fmt(f),
            Step::Carry(name, up, by) => {
                let by = if by.is_empty() { String::new() } else { format!(" by {}", by.join(", ")) };
                write!(f, "fill {name} {}{by}", if *up { "up" } else { "down" })
            }
            Step::Unpivot(unpivot) => unpivot.fmt(f),
            Step::Pivot(pivot) => pivot.fmt(f),
            Step::Split(split) => split.fmt(f),
            Step::Unnest(unnest) => unnest.fmt(f),
            Step::Densify(densify) => densify.fmt(f),
            Step::TableUse(of) => of.fmt(f),
            Step::Quantiles(keys, name, x, shares) => {
                match keys.as_slice() {
                    [] => f.write_str("total")?,
                    keys => write!(f, "group by {}", items(keys))?,
                }
                let shares: Vec<String> = shares.iter().map(|(share, _)| format!("{share:?}")).collect();
                write!(f, ": {name} = quantile({x}, ({}))", shares.join(", "))
            }
            Step::Append(other) => write!(f, "append {}", other.name),
        }
    }
}

impl Step {
    pub fn apply(&self, data: &Data) -> Data {
        let keep = |f: &dyn Fn(usize) -> bool| Data {
            columns: data.columns.clone(),
            rows: data.rows.iter().enumerate().filter(|(i, _)| f(*i)).map(|(_, r)| r.clone()).collect(),
        };
        match self {
            Step::Filter(e) => keep(&|i| matches!(eval(e, data, &data.rows[i]), V::Bool(true))),
            Step::FilterPer(e, op, agg, keys) => {
                let beside = beside(data, agg, keys);
                keep(&|i| {
                    let holds = E::Op(op, Box::new(e.clone()), Box::new(E::Lit(beside[i].clone())));
                    matches!(eval(&holds, data, &data.rows[i]), V::Bool(true))
                })
            }
            Step::Select(columns) => Data {
                columns: columns.iter().map(|(n, _, t)| (n.clone(), *t)).collect(),
                rows: data
                    .rows
                    .iter()
                    .map(|r| columns.iter().map(|(_, e, _)| eval(e, data, r)).collect())
                    .collect(),
            },
            Step::Drop(names) => {
                let kept: Vec<usize> =
                    (0..data.columns.len()).filter(|i| !names.contains(&data.columns[*i].0)).collect();
                Data {
                    columns: kept.iter().map(|i| data.columns[*i].clone()).collect(),
                    rows: data.rows.iter().map(|r| kept.iter().map(|i| r[*i].clone()).collect()).collect(),
                }
            }
            Step::Rename(pairs) => {
                let mut data = data.clone();
                for (name, _) in &mut data.columns {
                    if let Some((new, _)) = pairs.iter().find(|(_, old)| old == name) {
                        name.clone_from(new);
                    }
                }
                data
            }
            Step::Add(columns) => columns.iter().fold(data.clone(), |data, (name, e, ty)| {
                let values = data.rows.iter().map(|r| eval(e, &data, r)).collect();
                put_column(&data, name, *ty, values)
            }),
            Step::AddPer(name, agg, keys) => put_column(data, name, agg.ty, beside(data, agg, keys)),
            Step::Sort(keys) => {
                let mut data = data.clone();
                let shape = Data { columns: data.columns.clone(), rows: Vec::new() };
                data.rows.sort_by(|a, b| compare_keys(keys, &shape, a, b));
                data
            }
            Step::First(n, after) => keep(&|i| i >= *after && i < after + n),
            Step::FirstPer(n, keys) => {
                let groups = numbers(data, keys);
                keep(&|i| groups[..i].iter().filter(|g| **g == groups[i]).count() < *n)
            }
            Step::Last(n, keys) => {
                let groups = numbers(data, keys);
                keep(&|i| groups[i + 1..].iter().filter(|g| **g == groups[i]).count() < *n)
            }
            Step::Distinct(keys) => {
                let all: Vec<String> = data.names().iter().map(ToString::to_string).collect();
                let groups = numbers(data, if keys.is_empty() { &all } else { keys });
                keep(&|i| !groups[..i].contains(&groups[i]))
            }
            Step::Group(keys, aggs) => group(data, keys, aggs),
            Step::Join(join) => join.apply(data),
            Step::Window(window) => window.apply(data),
            Step::Carry(name, up, by) => {
                let (place, groups) = (data.place(name), numbers(data, by));
                let value = |at: usize| {
                    let mut near: Box<dyn Iterator<Item = usize>> =
                        if *up { Box::new(at..data.rows.len()) } else { Box::new((0..=at).rev()) };
                    let found = near.find(|i| groups[*i] == groups[at] && !data.rows[*i][place].is_null());
                    found.map_or(V::Null, |i| data.rows[i][place].clone())
                };
                put_column(data, name, data.columns[place].1, (0..data.rows.len()).map(value).collect())
            }
            Step::Unpivot(unpivot) => unpivot.apply(data),
            Step::Pivot(pivot) => pivot.apply(data),
            Step::Split(split) => split.apply(data),
            Step::Unnest(unnest) => unnest.apply(data),
            Step::Densify(densify) => densify.apply(data),
            Step::TableUse(of) => of.apply(data),
            Step::Quantiles(keys, name, x, shares) => {
                let agg = |(share, suffix): &(f64, &'static str)| {
                    let (args, last) = (vec![x.clone()], Some(V::Float(*share)));
                    let agg = Agg { name: "quantile", args, last, only: None, ty: Ty::Float };
                    (format!("{name}_{suffix}"), agg)
                };
                group(data, keys, &shares.iter().map(agg).collect::<Vec<_>>())
            }
            Step::Append(other) => append(data, &other.data),
            Step::Fill(name, e) => {
                let place = data.place(name);
                let mut filled = data.clone();
                for (row, old) in filled.rows.iter_mut().zip(&data.rows) {
                    if row[place].is_null() {
                        row[place] = eval(e, data, old);
                    }
                }
                filled
            }
        }
    }
}

/// The order of two rows by keys: descending or not, nulls first or last.
pub fn compare_keys(keys: &[(E, bool, bool)], shape: &Data, a: &[V], b: &[V]) -> std::cmp::Ordering {
    use std::cmp::Ordering::{Equal, Greater, Less};
    for (e, desc, nulls_first) in keys {
        let (x, y) = (eval(e, shape, a), eval(e, shape, b));
        let order = match (x.is_null(), y.is_null()) {
            (true, true) => Equal,
            (true, false) => {
                if *nulls_first {
                    Less
                } else {
                    Greater
                }
            }
            (false, true) => {
                if *nulls_first {
                    Greater
                } else {
                    Less
                }
            }
            _ if *desc => y.order(&x),
            _ => x.order(&y),
        };
        if order.is_ne() {
            return order;
        }
    }
    Equal
}

pub fn put_column(data: &Data, name: &str, ty: Ty, values: Vec<V>) -> Data {
    let mut data = data.clone();
    match data.columns.iter().position(|(n, _)| n == name) {
        Some(place) => {
            data.columns[place].1 = ty;
            data.rows.iter_mut().zip(values).for_each(|(r, v)| r[place] = v);
        }
        None => {
            data.columns.push((name.to_owned(), ty));
            data.rows.iter_mut().zip(values).for_each(|(r, v)| r.push(v));
        }
    }
    data
}

/// The number of each row's group, in order of first appearance.
pub fn numbers(data: &Data, keys: &[String]) -> Vec<usize> {
    let key = |row: &Vec<V>| keys.iter().map(|k| row[data.place(k)].clone()).collect::<Vec<V>>();
    number_keys(data.rows.iter().map(key))
}

fn number_keys(keys: impl Iterator<Item = Vec<V>>) -> Vec<usize> {
    let mut seen: Vec<Vec<V>> = Vec::new();
    keys.map(|key| {
        let found = seen.iter().position(|s| s.iter().zip(&key).all(|(a, b)| a.same(b)));
        found.unwrap_or_else(|| {
            seen.push(key);
            seen.len() - 1
        })
    })
    .collect()
}

fn beside(data: &Data, agg: &Agg, keys: &[String]) -> Vec<V> {
    let groups = numbers(data, keys);
    let of = |group: usize| {
        let rows: Vec<&Vec<V>> =
            data.rows.iter().zip(&groups).filter(|(_, g)| **g == group).map(|(r, _)| r).collect();
        agg.of(data, &rows)
    };
    groups.iter().map(|g| of(*g)).collect()
}

fn group(data: &Data, keys: &[(String, E, Ty)], aggs: &[(String, Agg)]) -> Data {
    let key = |row: &Vec<V>| keys.iter().map(|(_, e, _)| eval(e, data, row)).collect::<Vec<V>>();
    let groups = number_keys(data.rows.iter().map(key));
    let count = if keys.is_empty() { 1 } else { groups.iter().max().map_or(0, |m| m + 1) };
    let mut columns: Vec<(String, Ty)> = keys.iter().map(|(n, _, t)| (n.clone(), *t)).collect();
    columns.extend(aggs.iter().map(|(n, a)| (n.clone(), a.ty)));
    let rows = (0..count).map(|g| {
        let members: Vec<&Vec<V>> =
            data.rows.iter().zip(&groups).filter(|(_, n)| **n == g).map(|(r, _)| r).collect();
        let mut row = members.first().map(|r| key(r)).unwrap_or_default();
        row.extend(aggs.iter().map(|(_, a)| a.of(data, &members)));
        row
    });
    Data { columns, rows: rows.collect() }
}
