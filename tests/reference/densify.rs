//! `densify`, row by row.

use std::fmt;

use crate::eval::shifted;
use crate::value::{Data, V};

/// Keys, each with the step of its series, and the columns of a group.
#[derive(Clone, Debug)]
pub struct Densify {
    pub keys: Vec<(String, Option<Series>)>,
    pub per: Vec<String>,
}

/// A series of days or months, or of whole numbers between two bounds.
#[derive(Clone, Debug)]
pub enum Series {
    Dates(i64, &'static str),
    Numbers { step: i64, from: i64, to: i64 },
}

impl fmt::Display for Densify {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let key = |(name, series): &(String, Option<Series>)| match series {
            None => name.clone(),
            Some(Series::Dates(n, unit)) => format!("{name} by interval '{n}' {unit}"),
            Some(Series::Numbers { step, from, to }) => format!("{name} by {step} from {from} to {to}"),
        };
        write!(f, "densify {}", self.keys.iter().map(key).collect::<Vec<_>>().join(", "))?;
        if self.per.is_empty() { Ok(()) } else { write!(f, " per {}", self.per.join(", ")) }
    }
}

impl Series {
    /// Its values in a group with these, which rise.
    fn values(&self, own: &[V]) -> Vec<V> {
        match self {
            Series::Numbers { step, from, to } => {
                (0..).map(|k| from + k * step).take_while(|n| n <= to).map(V::Int).collect()
            }
            Series::Dates(n, unit) => {
                let (Some(first), Some(last)) = (own.first(), own.last()) else { return Vec::new() };
                let steps = (0..).map(|k| shifted(first, k * n, unit));
                steps.take_while(|v| !v.is_null() && v.order(last).is_le()).collect()
            }
        }
    }
}

impl Densify {
    pub fn apply(&self, data: &Data) -> Data {
        let places =
            |names: &mut dyn Iterator<Item = &String>| names.map(|n| data.place(n)).collect::<Vec<_>>();
        let (per, keys) = (places(&mut self.per.iter()), places(&mut self.keys.iter().map(|(name, _)| name)));
        let alike = |a: &[V], b: &[V], places: &[usize]| places.iter().all(|p| a[*p].same(&b[*p]));
        // A row of each group.
        let mut groups: Vec<Vec<V>> = Vec::new();
        for row in &data.rows {
            if !groups.iter().any(|group| alike(group, row, &per)) {
                groups.push(row.clone());
            }
        }
        if per.is_empty() && groups.is_empty() {
            groups.push(vec![V::Null; data.columns.len()]);
        }
        let mut rows = data.rows.clone();
        for group in &groups {
            let own: Vec<&Vec<V>> = data.rows.iter().filter(|row| alike(group, row, &per)).collect();
            let mut combinations: Vec<Vec<V>> = vec![Vec::new()];
            for (place, (_, series)) in keys.iter().zip(&self.keys) {
                let mut values: Vec<V> = Vec::new();
                for row in own.iter().filter(|row| !row[*place].is_null()) {
                    if !values.iter().any(|value| value.same(&row[*place])) {
                        values.push(row[*place].clone());
                    }
                }
                values.sort_by(V::order);
                if let Some(series) = series {
                    values = series.values(&values);
                }
                let with = |combination: &Vec<V>| {
                    values
                        .iter()
                        .map(|v| [combination.as_slice(), std::slice::from_ref(v)].concat())
                        .collect::<Vec<_>>()
                };
                combinations = combinations.iter().flat_map(with).collect();
            }
            for combination in combinations {
                let occurs =
                    own.iter().any(|row| keys.iter().zip(&combination).all(|(p, v)| row[*p].same(v)));
                if !occurs {
                    let mut row = vec![V::Null; data.columns.len()];
                    per.iter().for_each(|p| row[*p] = group[*p].clone());
                    keys.iter().zip(combination).for_each(|(p, v)| row[*p] = v);
                    rows.push(row);
                }
            }
        }
        Data { columns: data.columns.clone(), rows }
    }
}
