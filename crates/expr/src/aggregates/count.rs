//! `count()`: rows, or rows with a value.

use std::sync::Arc;

use arrow_array::{Array, Int64Array};
use churn_core::{Result, Type};
use serde::{Deserialize, Serialize};

use super::super::functions::{Arguments, Complaint};
use super::{Aggregate, AggregateState, Made, each_valid, made};

pub(super) const AGGREGATES: &[Aggregate] = &[Aggregate {
    name: "count",
    usage: "count() or count(x)",
    summary: "The number of rows; with x, of those where x is not null.",
    example: "group by farm: n = count()",
    bind: count,
}];

#[derive(Clone, Default, Serialize, Deserialize)]
struct CountState(i64);

impl AggregateState for CountState {
    fn merge(&mut self, later: &mut Self) {
        self.0 += later.0;
    }
}

fn count(args: Arguments) -> Result<Made, Complaint> {
    args.count(0..=1)?;
    Ok(made(
        args,
        Type::Int,
        |states: &mut [CountState], groups, args| {
            let columns: Vec<_> = args.iter().collect();
            if let ([state], [] | [_]) = (&mut *states, columns.as_slice()) {
                let missing = columns.first().map_or(0, |column| column.logical_null_count());
                state.0 += (groups.len() - missing) as i64;
                return Ok(());
            }
            each_valid(states, groups, &columns, |state, _| state.0 += 1);
            Ok(())
        },
        |states| Ok(Arc::new(states.iter().map(|s| s.0).collect::<Int64Array>())),
    ))
}
