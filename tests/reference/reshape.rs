//! Wide to long and long to wide in the reference interpreter.

use std::fmt;

use super::aggregates::Agg;
use super::steps::numbers;
use super::value::{Data, Ty, V, date};

#[derive(Clone, Debug)]
pub struct Unpivot {
    pub value: String,
    pub name: String,
    pub columns: Vec<String>,
    pub skip_nulls: bool,
}

#[derive(Clone, Debug)]
pub struct Pivot {
    pub key: String,
    /// The values that become columns; else those that occur.
    pub values: Option<Vec<V>>,
    pub by: Vec<String>,
    pub items: Vec<(String, Agg)>,
}

#[derive(Clone, Debug)]
pub enum Cut {
    At(&'static str),
    After(Vec<usize>),
}

#[derive(Clone, Debug)]
pub struct Split {
    pub column: String,
    pub cut: Cut,
    pub names: Vec<String>,
    pub keep: bool,
}

#[derive(Clone, Debug)]
pub struct Unnest {
    pub columns: Vec<String>,
    pub skip_nulls: bool,
}

impl fmt::Display for Split {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names = self.names.join(", ");
        let keep = if self.keep { " keep" } else { "" };
        match &self.cut {
            Cut::At(separator) => write!(f, "split {} at '{separator}' as {names}{keep}", self.column),
            Cut::After(places) => {
                let places: Vec<String> = places.iter().map(ToString::to_string).collect();
                write!(f, "split {} after {} as {names}{keep}", self.column, places.join(", "))
            }
        }
    }
}

impl fmt::Display for Unnest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "unnest {}{}", self.columns.join(", "), if self.skip_nulls { " skip nulls" } else { "" })
    }
}

impl Cut {
    /// The parts of a text; of a position cut, those that are not empty.
    pub fn parts(&self, value: &V) -> Option<Vec<String>> {
        let V::Text(text) = value else { return None };
        Some(match self {
            Cut::At(separator) => text.split(separator).map(str::to_owned).collect(),
            Cut::After(places) => {
                let chars: Vec<char> = text.chars().collect();
                let mut starts = vec![0];
                starts.extend(places);
                let ends = places.iter().copied().chain([chars.len()]);
                let part = |(start, end): (usize, usize)| chars[start..end.min(chars.len())].iter().collect();
                starts.into_iter().zip(ends).filter(|(start, _)| *start < chars.len()).map(part).collect()
            }
        })
    }
}

impl Split {
    pub fn apply(&self, data: &Data) -> Data {
        let place = data.place(&self.column);
        let parts = |row: &Vec<V>| {
            let mut parts = self.cut.parts(&row[place]).unwrap_or_default().into_iter();
            self.names.iter().map(|_| parts.next().map_or(V::Null, V::Text)).collect::<Vec<V>>()
        };
        let (at, gone) = if self.keep { (place + 1, 0) } else { (place, 1) };
        let mut columns = data.columns.clone();
        columns.splice(at..at + gone, self.names.iter().map(|n| (n.clone(), Ty::Text)));
        let rows = data.rows.iter().map(|row| {
            let mut new = row.clone();
            new.splice(at..at + gone, parts(row));
            new
        });
        Data { columns, rows: rows.collect() }
    }
}

impl Unnest {
    pub fn apply(&self, data: &Data) -> Data {
        let places: Vec<usize> = self.columns.iter().map(|c| data.place(c)).collect();
        let mut columns = data.columns.clone();
        for place in &places {
            if let Ty::List(item) = columns[*place].1 {
                columns[*place].1 = *item;
            }
        }
        let mut rows = Vec::new();
        for row in &data.rows {
            let lists: Vec<Vec<V>> = places
                .iter()
                .map(|place| match &row[*place] {
                    V::List(items) => items.clone(),
                    _ => Vec::new(),
                })
                .collect();
            let length = lists[0].len();
            for i in 0..length.max(usize::from(!self.skip_nulls)) {
                let mut new = row.clone();
                for (place, list) in places.iter().zip(&lists) {
                    new[*place] = list.get(i).cloned().unwrap_or(V::Null);
                }
                rows.push(new);
            }
        }
        Data { columns, rows }
    }
}

impl fmt::Display for Unpivot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let skip = if self.skip_nulls { " skip nulls" } else { "" };
        write!(f, "unpivot {} for {} in {}{skip}", self.value, self.name, self.columns.join(", "))
    }
}

impl fmt::Display for Pivot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "pivot {}", self.key)?;
        if let Some(values) = &self.values {
            write!(f, " in ({})", values.iter().map(V::literal).collect::<Vec<_>>().join(", "))?;
        }
        write!(f, " by {}", self.by.join(", "))?;
        self.items.iter().try_for_each(|(name, agg)| write!(f, "\n  {name} = {agg}"))
    }
}

impl Unpivot {
    pub fn apply(&self, data: &Data) -> Data {
        let places: Vec<usize> = self.columns.iter().map(|c| data.place(c)).collect();
        let kept: Vec<usize> = (0..data.columns.len()).filter(|i| !places.contains(i)).collect();
        let is_float = places.iter().any(|i| data.columns[*i].1 == Ty::Float);
        let ty = if is_float { Ty::Float } else { data.columns[places[0]].1 };
        let mut columns: Vec<(String, Ty)> = kept.iter().map(|i| data.columns[*i].clone()).collect();
        columns.extend([(self.name.clone(), Ty::Text), (self.value.clone(), ty)]);
        let mut rows = Vec::new();
        for row in &data.rows {
            for place in &places {
                let value = match &row[*place] {
                    V::Int(v) if is_float => V::Float(*v as f64),
                    other => other.clone(),
                };
                if !(self.skip_nulls && value.is_null()) {
                    let name = V::Text(data.columns[*place].0.clone());
                    rows.push(kept.iter().map(|i| row[*i].clone()).chain([name, value]).collect());
                }
            }
        }
        Data { columns, rows }
    }
}

fn plain(v: &V) -> String {
    match v {
        V::Null => "null".into(),
        V::Text(text) => text.clone(),
        V::Date(days) => date(*days),
        other => other.literal(),
    }
}

impl Pivot {
    pub fn apply(&self, data: &Data) -> Data {
        let place = data.place(&self.key);
        let values = self.values.clone().unwrap_or_else(|| {
            let mut found: Vec<V> = Vec::new();
            for row in &data.rows {
                if !found.iter().any(|v| v.same(&row[place])) {
                    found.push(row[place].clone());
                }
            }
            found.sort_by(|a, b| match (a.is_null(), b.is_null()) {
                (false, false) => a.order(b),
                (a, b) => a.cmp(&b),
            });
            found
        });
        let known = |row: &&Vec<V>| values.iter().any(|v| v.same(&row[place]));
        let kept =
            Data { columns: data.columns.clone(), rows: data.rows.iter().filter(known).cloned().collect() };
        let groups = numbers(&kept, &self.by);
        let mut columns: Vec<(String, Ty)> =
            self.by.iter().map(|n| (n.clone(), data.columns[data.place(n)].1)).collect();
        for value in &values {
            for (name, agg) in &self.items {
                let value = plain(value);
                columns.push((if self.items.len() == 1 { value } else { format!("{value}_{name}") }, agg.ty));
            }
        }
        let row = |group: usize| {
            let members: Vec<&Vec<V>> =
                kept.rows.iter().zip(&groups).filter(|(_, g)| **g == group).map(|(r, _)| r).collect();
            let mut row: Vec<V> = self.by.iter().map(|n| members[0][data.place(n)].clone()).collect();
            for value in &values {
                let cell: Vec<&Vec<V>> = members.iter().copied().filter(|r| value.same(&r[place])).collect();
                let value = |agg: &Agg| if cell.is_empty() { V::Null } else { agg.of(&kept, &cell) };
                row.extend(self.items.iter().map(|(_, agg)| value(agg)));
            }
            row
        };
        Data { columns, rows: (0..groups.iter().max().map_or(0, |g| g + 1)).map(row).collect() }
    }
}
