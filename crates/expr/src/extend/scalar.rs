//! Scalar functions of a user's own.

use std::sync::Arc;

use arrow_array::ArrayRef;
use churn_core::{Column, Result, Type};

use super::signature::{Bind, Signature, described};
use super::values::{OverValues, RowValues, Value, column_of};
use crate::Bound;
use crate::functions::{Arguments, arg};

/// A scalar function of a user's own: a value for each row, from the values of that row.
///
/// It is called from many threads at once, with some rows at a time, in no order and as often as the run likes: what it gives
/// must depend on its arguments alone. A panic in it is an error that names it.
///
/// ```
/// # extern crate churn_expr as churn;
/// use churn::extend::ScalarFunction;
///
/// let quality = ScalarFunction::of_values("quality", |fat: Option<f64>, cells: Option<i64>| {
///     Some(fat? * 10.0 - cells? as f64 / 100.0)
/// });
/// assert_eq!(quality.usage(), "quality(float, int)");
/// ```
#[derive(Clone)]
pub struct ScalarFunction {
    pub(super) signature: Signature,
    pub(super) bind: Arc<Bind<Bound>>,
}

impl ScalarFunction {
    /// A function over whole columns: arrays of as many rows, carried as [`Type::arrow`] says, and the number of rows. It
    /// gives an array of the type that it gives, with as many rows.
    pub fn of_columns(
        name: &str,
        takes: impl IntoIterator<Item = Type>,
        gives: Type,
        function: impl Fn(&[ArrayRef], usize) -> Result<ArrayRef> + Send + Sync + 'static,
    ) -> ScalarFunction {
        let signature = Signature::new(name, takes, gives);
        let (own, function) = (Arc::new(signature.clone()), Arc::new(function));
        let bind = move |mut args: Arguments| {
            own.fit(&mut args)?;
            let (own, function) = (own.clone(), function.clone());
            Ok(args.fallible_call(own.gives.clone(), move |args, rows, _| {
                let columns: Vec<ArrayRef> = (0..own.takes.len()).map(|i| arg(args, i).array(rows)).collect();
                own.checked(rows, || function(&columns, rows)).map(Column::Array)
            }))
        };
        ScalarFunction { signature, bind: Arc::new(bind) }
    }

    /// A function over single values, of one to four arguments: `Option` of a [`Value`](super::Value) or of `&str`, null being none.
    pub fn of_values<A, F: OverValues<A>>(name: &str, function: F) -> ScalarFunction {
        ScalarFunction::of_columns(name, F::takes(), F::Gives::TYPE, move |columns, rows| {
            Ok(column_of((0..rows).map(|row| function.value(RowValues::new(columns, row)))))
        })
    }
}

described!(ScalarFunction);

#[cfg(test)]
mod tests {
    use super::*;

    /// Closures take texts as they stand or as their own, beside values of other types, in any place.
    #[test]
    fn closures_take_arguments_of_either_kind() {
        let usages = [
            ScalarFunction::of_values("f", |x: Option<&str>| Some(x?.len() as i64)).usage(),
            ScalarFunction::of_values("f", |x: Option<String>| Some(x?.len() as i64)).usage(),
            ScalarFunction::of_values("f", |x: Option<&str>, y: Option<f64>| Some(x?.len() as f64 * y?))
                .usage(),
            ScalarFunction::of_values("f", |x: Option<bool>, y: Option<&str>| x.and(y).map(str::to_owned))
                .usage(),
            ScalarFunction::of_values("f", |x: Option<&str>, y: Option<&str>, z: Option<i64>| {
                Some(x? == y? && z? > 0)
            })
            .usage(),
            ScalarFunction::of_values(
                "f",
                |a: Option<i64>, b: Option<&str>, c: Option<bool>, d: Option<&str>| {
                    a.filter(|_| b == d && c == Some(true))
                },
            )
            .usage(),
        ];
        let expected = [
            "f(text)",
            "f(text)",
            "f(text, float)",
            "f(bool, text)",
            "f(text, text, int)",
            "f(int, text, bool, text)",
        ];
        assert_eq!(usages, expected);
    }
}
