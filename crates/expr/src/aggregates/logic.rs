//! `any` and `every`.

use std::sync::Arc;

use arrow_array::BooleanArray;
use arrow_array::cast::AsArray;
use churn_core::{Result, Type};
use serde::{Deserialize, Serialize};

use super::super::functions::{Arguments, Complaint};
use super::{Aggregate, AggregateState, Made, column, each_valid, made};

pub(super) const AGGREGATES: &[Aggregate] = &[
    Aggregate {
        name: "any",
        usage: "any(c)",
        summary: "Whether c is true in any row.",
        example: "group by farm: warm = any(temp_c > 6)",
        bind: |args| truth(args, |seen| seen.is_true),
    },
    Aggregate {
        name: "every",
        usage: "every(c)",
        summary: "Whether c is true in every row where it is known.",
        example: "group by farm: cold = every(temp_c <= 6)",
        bind: |args| truth(args, |seen| !seen.is_false),
    },
];

#[derive(Clone, Default, Serialize, Deserialize)]
struct LogicState {
    is_true: bool,
    is_false: bool,
}

impl AggregateState for LogicState {
    fn merge(&mut self, later: &mut Self) {
        self.is_true |= later.is_true;
        self.is_false |= later.is_false;
    }
}

fn truth(mut args: Arguments, of: fn(&LogicState) -> bool) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    args.want(0, &Type::Bool)?;
    Ok(made(
        args,
        Type::Bool,
        |states: &mut [LogicState], groups, args| {
            let array = column(args, 0)?;
            let values = array.as_boolean();
            each_valid(states, groups, &[array], |state, row| {
                let value = values.value(row);
                state.is_true |= value;
                state.is_false |= !value;
            });
            Ok(())
        },
        move |states| {
            let results = states.iter().map(|s| (s.is_true || s.is_false).then(|| of(s)));
            Ok(Arc::new(results.collect::<BooleanArray>()))
        },
    ))
}
