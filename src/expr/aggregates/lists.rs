//! `array_agg` and `listagg`: all values of a group, in row order.

use serde::{Deserialize, Serialize};

use super::super::functions::{Arguments, Complaint};
use super::super::{Scalar, Type, array_of};
use super::{Aggregate, Made, State, column, each_valid, made};
use crate::error::Result;

pub(super) const AGGREGATES: &[Aggregate] = &[
    Aggregate {
        name: "array_agg",
        usage: "array_agg(x)",
        summary: "The list of all values, nulls included, in row order.",
        bind: array_agg,
    },
    Aggregate {
        name: "listagg",
        usage: "listagg(x, sep)",
        summary: "The texts that are not null, in row order, joined with a separator.",
        bind: listagg,
    },
];

#[derive(Clone, Default, Serialize, Deserialize)]
struct Values(Option<Vec<Scalar>>);

impl State for Values {
    fn merge(&mut self, later: &mut Self) {
        match (&mut self.0, later.0.take()) {
            (Some(ours), Some(mut theirs)) => ours.append(&mut theirs),
            (None, theirs) => self.0 = theirs,
            (Some(_), None) => {}
        }
    }

    fn heap(&self) -> usize {
        self.0.as_ref().map_or(0, |v| v.capacity() * size_of::<Scalar>())
    }
}

fn array_agg(args: Arguments) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    let item = args.kind(0);
    let kind = Type::List(Box::new(item.clone()));
    let result = kind.clone();
    Ok(made(
        args,
        kind,
        |states: &mut [Values], groups, args| {
            let array = column(args, 0)?;
            each_valid(states, groups, &[], |state, row| {
                // Many lists hold one value.
                state.0.get_or_insert_with(|| Vec::with_capacity(1)).push(Scalar::from_array(array, row));
            });
            Ok(())
        },
        move |states| {
            let lists: Vec<Scalar> = states
                .iter_mut()
                .map(|s| s.0.take().map_or(Scalar::Null, |values| Scalar::List(values, item.clone())))
                .collect();
            Ok(array_of(&lists.iter().collect::<Vec<_>>(), &result))
        },
    ))
}

/// Text so far and the separator of the later ones.
#[derive(Clone, Default, Serialize, Deserialize)]
struct Joined {
    text: Option<String>,
    separator: String,
}

impl Joined {
    fn push(&mut self, text: &str, separator: &str) {
        match &mut self.text {
            Some(all) => {
                all.push_str(separator);
                all.push_str(text);
            }
            None => {
                self.text = Some(text.to_owned());
                self.separator = separator.to_owned();
            }
        }
    }
}

impl State for Joined {
    fn merge(&mut self, later: &mut Self) {
        if let Some(text) = later.text.take() {
            let separator = std::mem::take(&mut later.separator);
            self.push(&text, &separator);
        }
    }

    fn heap(&self) -> usize {
        self.text.as_ref().map_or(0, String::capacity)
    }
}

fn listagg(mut args: Arguments) -> Result<Made, Complaint> {
    args.count(2..=2)?;
    args.want(0, &Type::Text)?;
    let separator = args.literal_text(1, "a separator")?;
    args.values.truncate(1);
    Ok(made(
        args,
        Type::Text,
        move |states: &mut [Joined], groups, args| {
            let array = column(args, 0)?;
            let texts = arrow_array::cast::AsArray::as_string_view(array);
            each_valid(states, groups, &[array], |state, row| state.push(texts.value(row), &separator));
            Ok(())
        },
        |states| {
            let texts: Vec<Scalar> =
                states.iter_mut().map(|s| s.text.take().map_or(Scalar::Null, Scalar::Text)).collect();
            Ok(array_of(&texts.iter().collect::<Vec<_>>(), &Type::Text))
        },
    ))
}
