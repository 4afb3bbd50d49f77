//! `mode`: the most frequent value; of equally frequent ones the one that comes first.

use hashbrown::HashMap;

use serde::{Deserialize, Serialize};

use super::super::functions::{Arguments, Complaint};
use super::super::{Scalar, array_of};
use super::{Aggregate, Made, State, column, each_valid, made};
use crate::error::Result;

pub(super) const AGGREGATES: &[Aggregate] = &[Aggregate {
    name: "mode",
    usage: "mode(x)",
    summary: "The most frequent value; of equally frequent ones the first.",
    bind: mode,
}];

/// How often each value came, in order of first appearance.
#[derive(Clone, Default, Serialize, Deserialize)]
struct Counts {
    places: HashMap<String, usize>,
    values: Vec<(Scalar, u64)>,
}

impl Counts {
    fn add(&mut self, value: Scalar, count: u64) {
        let value = if value == Scalar::Float(-0.0) { Scalar::Float(0.0) } else { value };
        let next = self.values.len();
        let place = *self.places.entry(value.to_string()).or_insert(next);
        match self.values.get_mut(place) {
            Some((_, seen)) => *seen += count,
            None => self.values.push((value, count)),
        }
    }
}

impl State for Counts {
    fn merge(&mut self, later: &mut Self) {
        later.places.clear();
        for (value, count) in later.values.drain(..) {
            self.add(value, count);
        }
    }

    fn heap(&self) -> usize {
        self.values.len() * (size_of::<(Scalar, u64)>() + 48)
    }
}

fn mode(args: Arguments) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    let kind = args.kind(0);
    let result = kind.clone();
    Ok(made(
        args,
        kind,
        |states: &mut [Counts], groups, args| {
            let array = column(args, 0)?;
            each_valid(states, groups, &[array], |state, row| state.add(Scalar::from_array(array, row), 1));
            Ok(())
        },
        move |states| {
            let null = Scalar::Null;
            let values: Vec<&Scalar> = states
                .iter()
                .map(|s| {
                    let best = s.values.iter().rev().max_by_key(|(_, count)| *count);
                    best.map_or(&null, |(value, _)| value)
                })
                .collect();
            Ok(array_of(&values, &result))
        },
    ))
}
