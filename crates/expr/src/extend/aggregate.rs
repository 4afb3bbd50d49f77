//! Aggregates of a user's own.

use std::sync::Arc;

use arrow_array::ArrayRef;
use churn_core::{Result, Type};

use super::signature::{Bind, Signature, described};
use super::values::{AddValues, RowValues, Value, column_of};
use crate::aggregates::{AggregateState, Made, made};
use crate::functions::Arguments;

/// An aggregate of a user's own: a value for each group of rows, in `group`, `total`, `per`, `pivot` and `window`.
///
/// ```
/// # extern crate churn_expr as churn;
/// use churn::extend::{AggregateFunction, AggregateState};
/// use serde::{Deserialize, Serialize};
///
/// #[derive(Clone, Default, Serialize, Deserialize)]
/// struct Logs { sum: f64, count: u32 }
///
/// impl AggregateState for Logs {
///     fn merge(&mut self, later: &mut Logs) {
///         self.sum += later.sum;
///         self.count += later.count;
///     }
/// }
///
/// let geometric_mean = AggregateFunction::of_values(
///     "geometric_mean",
///     |logs: &mut Logs, x: Option<f64>| if let Some(x) = x {
///         logs.sum += x.ln();
///         logs.count += 1;
///     },
///     |logs: &Logs| (logs.count > 0).then(|| (logs.sum / f64::from(logs.count)).exp()),
/// );
/// assert_eq!(geometric_mean.usage(), "geometric_mean(float)");
/// ```
#[derive(Clone)]
pub struct AggregateFunction {
    pub(super) signature: Signature,
    pub(super) bind: Arc<Bind<Made>>,
}

impl AggregateFunction {
    /// An aggregate over columns: `add` is given the states of all groups, the group of each row, and the arguments as
    /// arrays of as many rows, carried as [`Type::arrow`] says; `finish` gives an array with the result of each state.
    pub fn of_columns<S: AggregateState>(
        name: &str,
        takes: impl IntoIterator<Item = Type>,
        gives: Type,
        add: impl Fn(&mut [S], &[u32], &[ArrayRef]) -> Result<()> + Send + Sync + 'static,
        finish: impl Fn(&mut [S]) -> Result<ArrayRef> + Send + Sync + 'static,
    ) -> AggregateFunction {
        let signature = Signature::new(name, takes, gives);
        let (own, add, finish) = (Arc::new(signature.clone()), Arc::new(add), Arc::new(finish));
        let bind = move |mut args: Arguments| {
            own.fit(&mut args)?;
            let (add, adding) = (add.clone(), own.clone());
            let (finish, finishing) = (finish.clone(), own.clone());
            Ok(made(
                args,
                own.gives.clone(),
                move |states: &mut [S], groups, args| adding.guarded(|| add(states, groups, args)),
                move |states: &mut [S]| finishing.checked(states.len(), || finish(states)),
            ))
        };
        AggregateFunction { signature, bind: Arc::new(bind) }
    }

    /// An aggregate over single values, of one to four arguments: `Option` of a [`Value`](super::Value) or of `&str`, null being
    /// none. `add` is called for each row of a group, nulls too; `finish` gives what a state comes to.
    pub fn of_values<S: AggregateState, A, F: AddValues<S, A>, R: Value>(
        name: &str,
        add: F,
        finish: impl Fn(&S) -> Option<R> + Send + Sync + 'static,
    ) -> AggregateFunction {
        AggregateFunction::of_columns(
            name,
            F::takes(),
            R::TYPE,
            move |states: &mut [S], groups, columns| {
                for (row, group) in groups.iter().enumerate() {
                    if let Some(state) = states.get_mut(*group as usize) {
                        add.add(state, RowValues::new(columns, row));
                    }
                }
                Ok(())
            },
            move |states| Ok(column_of(states.iter().map(&finish))),
        )
    }
}

described!(AggregateFunction);
