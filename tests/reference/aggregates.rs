//! Aggregates of the reference interpreter, over the values of a group as they stand.

use std::fmt;

use super::eval::{E, eval};
use super::value::{Data, Ty, V};

#[derive(Clone, Debug)]
pub struct Agg {
    pub name: &'static str,
    pub args: Vec<E>,
    /// A literal after the arguments: the share of `quantile`, the separator of `listagg`.
    pub last: Option<V>,
    pub only: Option<E>,
    pub ty: Ty,
}

impl fmt::Display for Agg {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut args: Vec<String> = self.args.iter().map(ToString::to_string).collect();
        args.extend(self.last.as_ref().map(V::literal));
        write!(f, "{}({})", self.name, args.join(", "))?;
        match &self.only {
            Some(only) => write!(f, " where ({only})"),
            None => Ok(()),
        }
    }
}

impl Agg {
    pub fn of(&self, data: &Data, rows: &[&Vec<V>]) -> V {
        let kept = |row: &&&Vec<V>| {
            self.only.as_ref().is_none_or(|only| matches!(eval(only, data, row), V::Bool(true)))
        };
        let rows: Vec<Vec<V>> = rows
            .iter()
            .filter(kept)
            .map(|row| self.args.iter().map(|a| eval(a, data, row)).collect())
            .collect();
        if self.name == "array_agg" {
            return if rows.is_empty() {
                V::Null
            } else {
                V::List(rows.into_iter().map(|r| r[0].clone()).collect())
            };
        }
        let full: Vec<&Vec<V>> = rows.iter().filter(|r| r.iter().all(|v| !v.is_null())).collect();
        let values: Vec<&V> = full.iter().filter_map(|r| r.first()).collect();
        let numbers = || values.iter().map(|v| v.number()).collect::<Vec<f64>>();
        let n = full.len();
        match self.name {
            "count" => return V::Int(n as i64),
            "count_distinct" => {
                let mut seen: Vec<&V> = Vec::new();
                values.iter().for_each(|v| {
                    if !seen.iter().any(|s| s.same(v)) {
                        seen.push(v)
                    }
                });
                return V::Int(seen.len() as i64);
            }
            _ if n == 0 => return V::Null,
            _ => {}
        }
        match self.name {
            "sum" => match values[0] {
                V::Int(_) => V::Int(values.iter().map(|v| if let V::Int(v) = v { *v } else { 0 }).sum()),
                _ => V::Float(numbers().iter().sum()),
            },
            "mean" => match whole(&full, 0) {
                Some(whole) => V::Float(whole.iter().sum::<i128>() as f64 / n as f64),
                None => V::Float(numbers().iter().sum::<f64>() / n as f64),
            },
            "min" => (*values.iter().min_by(|a, b| a.order(b)).unwrap()).clone(),
            "max" => (*values.iter().rev().max_by(|a, b| a.order(b)).unwrap()).clone(),
            "first" => values[0].clone(),
            "last" => values[n - 1].clone(),
            "median" => quantile(numbers(), 0.5),
            "quantile" => quantile(numbers(), self.last.as_ref().unwrap().number()),
            "stddev" | "variance" if n < 2 => V::Null,
            "stddev" => V::Float(covariance(&full, 0).sqrt()),
            "variance" => V::Float(covariance(&full, 0)),
            "any" => V::Bool(values.iter().any(|v| matches!(v, V::Bool(true)))),
            "every" => V::Bool(values.iter().all(|v| matches!(v, V::Bool(true)))),
            "mode" => {
                let count = |v: &V| values.iter().filter(|w| w.same(v)).count();
                let most = values.iter().map(|v| count(v)).max().unwrap();
                (*values.iter().find(|v| count(v) == most).unwrap()).clone()
            }
            "listagg" => {
                let V::Text(separator) = self.last.as_ref().unwrap() else { panic!("no separator") };
                let texts: Vec<&str> =
                    values.iter().map(|v| if let V::Text(t) = v { t } else { "" }).collect();
                V::Text(texts.join(separator))
            }
            "min_by" | "max_by" => {
                let mut best = full[0];
                for row in &full {
                    let order = row[1].order(&best[1]);
                    if if self.name == "min_by" { order.is_lt() } else { order.is_gt() } {
                        best = row;
                    }
                }
                best[0].clone()
            }
            "weighted_mean" => {
                let (values, weights) = (whole(&full, 0).unwrap(), whole(&full, 1).unwrap());
                let weight: i128 = weights.iter().sum();
                let sum: i128 = values.iter().zip(&weights).map(|(v, w)| v * w).sum();
                if weight == 0 { V::Null } else { V::Float(sum as f64 / weight as f64) }
            }
            "covar" if n < 2 => V::Null,
            "covar" => V::Float(covariance(&full, 1)),
            other => panic!("{other} is not known here"),
        }
    }
}

/// Whole numbers of a column, to be added without rounding; `None` if it holds others.
fn whole(rows: &[&Vec<V>], column: usize) -> Option<Vec<i128>> {
    rows.iter().map(|row| if let V::Int(v) = row[column] { Some(v.into()) } else { None }).collect()
}

/// The covariance of the first column with another one, both of whole numbers; exact but for one division.
fn covariance(rows: &[&Vec<V>], other: usize) -> f64 {
    let (a, b) = (whole(rows, 0).unwrap(), whole(rows, other).unwrap());
    let n = a.len() as i128;
    let products: i128 = a.iter().zip(&b).map(|(a, b)| a * b).sum();
    let spread = n * products - a.iter().sum::<i128>() * b.iter().sum::<i128>();
    spread as f64 / (n * (n - 1)) as f64
}

fn quantile(mut values: Vec<f64>, p: f64) -> V {
    values.sort_by(|a, b| V::Float(*a).order(&V::Float(*b)));
    let place = p * (values.len() - 1) as f64;
    let (below, share) = (place.floor() as usize, place.fract());
    let low = values[below];
    let high = values[(below + 1).min(values.len() - 1)];
    V::Float(if share == 0.0 || low == high { low } else { low + (high - low) * share })
}
