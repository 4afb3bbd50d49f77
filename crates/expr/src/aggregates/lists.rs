//! `array_agg` and `listagg`: all values of a group, in row order.

use std::sync::Arc;

use arrow_array::ListArray;
use arrow_buffer::OffsetBuffer;
use arrow_schema::Field;
use churn_core::scalar::array_of;
use churn_core::{Error, ErrorKind, Result, Scalar, Type};
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;

use super::super::functions::{Arguments, Complaint};
use super::{Aggregate, AggregateState, Made, column, each_valid, made};

pub(super) const AGGREGATES: &[Aggregate] = &[
    Aggregate {
        name: "array_agg",
        usage: "array_agg(x)",
        summary: "The list of all values, nulls included, in row order.",
        example: "group by farm: litres = array_agg(litres)",
        bind: array_agg,
    },
    Aggregate {
        name: "listagg",
        usage: "listagg(x, sep)",
        summary: "The texts that are not null, in row order, joined with a separator.",
        example: "group by farm: grades = listagg(grade, ', ')",
        bind: listagg,
    },
];

/// The values of a list; many lists hold one.
#[derive(Clone, Default, Serialize, Deserialize)]
struct ListState(Option<SmallVec<[Scalar; 1]>>);

impl AggregateState for ListState {
    fn merge(&mut self, later: &mut Self) {
        match (&mut self.0, later.0.take()) {
            (Some(ours), Some(mut theirs)) => ours.append(&mut theirs),
            (None, theirs) => self.0 = theirs,
            (Some(_), None) => {}
        }
    }

    fn heap(&self) -> usize {
        self.0.as_ref().filter(|v| v.spilled()).map_or(0, |v| v.capacity() * size_of::<Scalar>())
    }
}

fn array_agg(args: Arguments) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    let item = args.kind(0);
    let kind = Type::List(Box::new(item.clone()));
    let field = Arc::new(Field::new_list_field(item.arrow(), true));
    Ok(made(
        args,
        kind,
        |states: &mut [ListState], groups, args| {
            let array = column(args, 0)?;
            each_valid(states, groups, &[], |state, row| {
                state.0.get_or_insert_default().push(Scalar::from_array(array, row));
            });
            Ok(())
        },
        move |states| {
            let values: Vec<&Scalar> = states.iter().flat_map(|state| state.0.iter().flatten()).collect();
            if i32::try_from(values.len()).is_err() {
                return Err(Error::new(ErrorKind::Memory, "Lists have more than 2 billion values."));
            }
            let lengths = states.iter().map(|state| state.0.as_ref().map_or(0, SmallVec::len));
            let nulls = states.iter().map(|state| state.0.is_some()).collect();
            let (offsets, values) = (OffsetBuffer::from_lengths(lengths), array_of(&values, &item));
            let list = ListArray::try_new(field.clone(), offsets, values, Some(nulls));
            Ok(Arc::new(list.map_err(churn_core::arrow_error)?))
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

impl AggregateState for Joined {
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
