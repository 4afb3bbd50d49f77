//! Joins and appends of the reference interpreter: every row against every row.

use std::fmt;

use super::eval::{E, eval};
use super::value::{Data, Ty, V};

/// A table that a recipe names, beside the main one.
#[derive(Clone, Debug)]
pub struct Other {
    pub name: &'static str,
    pub data: Data,
}

/// `left op other`.
#[derive(Clone, Debug)]
pub struct Condition {
    pub left: E,
    pub op: &'static str,
    pub other: E,
    /// The type that both sides have in the end.
    pub ty: Ty,
}

#[derive(Clone, Debug)]
pub struct Join {
    pub asof: bool,
    pub kind: &'static str,
    pub other: Other,
    pub on: Vec<Condition>,
    pub prefix: String,
}

impl fmt::Display for Join {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let asof = if self.asof { "asof " } else { "" };
        write!(f, "join {asof}{} {}", self.kind, self.other.name)?;
        if !self.on.is_empty() {
            let key = |c: &Condition| match (&c.left, &c.other) {
                (E::Col(a), E::Col(b)) if a == b && c.op == "=" => a.clone(),
                _ => format!("{} {} {}", c.left, c.op, c.other),
            };
            write!(f, " on {}", self.on.iter().map(key).collect::<Vec<_>>().join(", "))?;
        }
        if matches!(self.kind, "semi" | "anti") { Ok(()) } else { write!(f, " prefix '{}'", self.prefix) }
    }
}

fn as_type(v: V, ty: Ty) -> V {
    match (&v, ty) {
        (V::Int(i), Ty::Float) => V::Float(*i as f64),
        _ => v,
    }
}

impl Join {
    fn holds(&self, left: &Data, l: &[V], r: &[V]) -> bool {
        self.on.iter().all(|c| {
            let sides = [eval(&c.left, left, l), eval(&c.other, &self.other.data, r)];
            let [a, b] = sides.map(|v| Box::new(E::Lit(v)));
            matches!(eval(&E::Op(c.op, a, b), left, l), V::Bool(true))
        })
    }

    /// The places of the rows that a left row matches.
    fn matches(&self, left: &Data, l: &[V]) -> Vec<usize> {
        let rows = &self.other.data.rows;
        let mut found: Vec<usize> = (0..rows.len()).filter(|r| self.holds(left, l, &rows[*r])).collect();
        if self.asof {
            let near = self.on.iter().find(|c| c.op != "=").unwrap();
            let value = |r: &usize| eval(&near.other, &self.other.data, &rows[*r]);
            let best = found.iter().copied().reduce(|best, r| {
                let order = value(&r).order(&value(&best));
                let nearer = if near.op.starts_with('>') { order.is_ge() } else { order.is_le() };
                if nearer { r } else { best }
            });
            found = best.into_iter().collect();
        }
        found
    }

    pub fn apply(&self, data: &Data) -> Data {
        let matched: Vec<Vec<usize>> = data.rows.iter().map(|l| self.matches(data, l)).collect();
        if matches!(self.kind, "semi" | "anti") {
            let keep = |m: &Vec<usize>| m.is_empty() == (self.kind == "anti");
            let rows = data.rows.iter().zip(&matched).filter(|(_, m)| keep(m)).map(|(r, _)| r.clone());
            return Data { columns: data.columns.clone(), rows: rows.collect() };
        }
        let keeps_other = matches!(self.kind, "right" | "full");
        let mut columns = data.columns.clone();
        let mut dropped = Vec::new();
        // Left columns that take the key of whichever side has one.
        let mut merged: Vec<(usize, &Condition)> = Vec::new();
        for c in self.on.iter().filter(|c| c.op == "=") {
            let E::Col(name) = &c.left else { continue };
            if let E::Col(other) = &c.other {
                dropped.push(other.clone());
            }
            if keeps_other {
                // Of several keys of one column the last gives its type and its value.
                let place = data.place(name);
                columns[place].1 = c.ty;
                merged.retain(|(before, _)| *before != place);
                merged.push((place, c));
            }
        }
        let other = &self.other.data;
        let kept: Vec<usize> =
            (0..other.columns.len()).filter(|i| !dropped.contains(&other.columns[*i].0)).collect();
        let added = kept.iter().map(|i| &other.columns[*i]);
        columns.extend(added.map(|(n, t)| (format!("{}{n}", self.prefix), *t)));
        let beside = |r: Option<usize>| -> Vec<V> {
            kept.iter().map(|i| r.map_or(V::Null, |r| other.rows[r][*i].clone())).collect()
        };
        let mut rows = Vec::new();
        for (l, m) in data.rows.iter().zip(&matched) {
            let mut left = l.clone();
            merged.iter().for_each(|(place, c)| left[*place] = as_type(left[*place].clone(), c.ty));
            let none = m.is_empty() && matches!(self.kind, "left" | "full");
            let others = m.iter().map(|r| Some(*r)).chain(none.then_some(None));
            rows.extend(others.map(|r| left.iter().cloned().chain(beside(r)).collect()));
        }
        if keeps_other {
            for r in (0..other.rows.len()).filter(|r| !matched.iter().any(|m| m.contains(r))) {
                let mut row = vec![V::Null; data.columns.len()];
                merged.iter().for_each(|(place, c)| {
                    row[*place] = as_type(eval(&c.other, other, &other.rows[r]), c.ty);
                });
                row.extend(beside(Some(r)));
                rows.push(row);
            }
        }
        Data { columns, rows }
    }
}

/// The rows of both, columns by name.
pub fn append(data: &Data, other: &Data) -> Data {
    let mut columns = data.columns.clone();
    for (name, ty) in &other.columns {
        match columns.iter_mut().find(|(n, _)| n == name) {
            Some((_, own)) if *own != *ty => *own = Ty::Float,
            Some(_) => {}
            None => columns.push((name.clone(), *ty)),
        }
    }
    let part = |data: &Data| -> Vec<Vec<V>> {
        let place = |name: &str| data.columns.iter().position(|(n, _)| n == name);
        let cell = |row: &[V], (name, ty): &(String, Ty)| {
            as_type(place(name).map_or(V::Null, |i| row[i].clone()), *ty)
        };
        data.rows.iter().map(|row| columns.iter().map(|column| cell(row, column)).collect()).collect()
    };
    let rows = part(data).into_iter().chain(part(other)).collect();
    Data { columns: columns.clone(), rows }
}
