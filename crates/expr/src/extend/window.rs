//! Window functions of a user's own.

use std::fmt;
use std::sync::Arc;

use arrow_array::ArrayRef;
use churn_core::{Result, Type};

use super::signature::{Bind, Signature, described};
use super::values::{RowAfterRow, RowValues, Value, column_of};
use crate::functions::Arguments;
use crate::windows::{Task, WindowTask};

/// A window function of a user's own: a value for each row of a partition, from that row and those before it in the order.
///
/// A partition may be larger than memory, so its rows are given in pieces, each once, from the first to the last: what the
/// function gives must not depend on where the pieces end. What it is to look ahead at, an order the other way shows it.
///
/// ```
/// # extern crate churn_expr as churn;
/// use churn::extend::WindowFunction;
///
/// // Each partition starts with nothing remembered.
/// let smoothed = WindowFunction::of_values("smoothed", || {
///     let mut level: Option<f64> = None;
///     move |x: Option<f64>, share: Option<f64>| {
///         let (x, share) = (x?, share?);
///         level = Some(level.map_or(x, |level| level + share * (x - level)));
///         level
///     }
/// });
/// assert_eq!(smoothed.usage(), "smoothed(float, float)");
/// ```
#[derive(Clone)]
pub struct WindowFunction {
    pub(super) signature: Signature,
    pub(super) bind: Arc<Bind<WindowTask>>,
    pub(super) needs_order: bool,
}

/// What works through one partition: columns of a piece, and its rows, to as many results.
type Pieces = Box<dyn FnMut(&[ArrayRef], usize) -> Result<ArrayRef>>;

/// What works through partitions, one after the other.
#[derive(Clone)]
pub struct PartitionFunction {
    signature: Arc<Signature>,
    start: Arc<dyn Fn() -> Pieces + Send + Sync>,
}

impl PartitionFunction {
    /// Starts a partition.
    ///
    /// # Errors
    /// The function panicked.
    pub fn start(&self) -> Result<PartitionRun> {
        let pieces = self.signature.guarded(|| Ok((self.start)()))?;
        Ok(PartitionRun { signature: self.signature.clone(), pieces })
    }
}

impl fmt::Debug for PartitionFunction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.signature.usage())
    }
}

/// A function on its way through a partition.
pub struct PartitionRun {
    signature: Arc<Signature>,
    pieces: Pieces,
}

impl PartitionRun {
    /// The results of the next rows of the partition.
    ///
    /// # Errors
    /// The function failed, or did not give what it promises.
    pub fn next(&mut self, columns: &[ArrayRef], rows: usize) -> Result<ArrayRef> {
        self.signature.checked(rows, || (self.pieces)(columns, rows))
    }
}

impl WindowFunction {
    /// A function over columns. `start` is called for each partition; what it gives is called with the partition's pieces:
    /// arrays, carried as [`Type::arrow`] says, and their number of rows. It gives an array with as many rows.
    pub fn of_columns<F>(
        name: &str,
        takes: impl IntoIterator<Item = Type>,
        gives: Type,
        start: impl Fn() -> F + Send + Sync + 'static,
    ) -> WindowFunction
    where
        F: FnMut(&[ArrayRef], usize) -> Result<ArrayRef> + 'static,
    {
        let signature = Signature::new(name, takes, gives);
        let own = Arc::new(signature.clone());
        let start: Arc<dyn Fn() -> Pieces + Send + Sync> = Arc::new(move || Box::new(start()));
        let bind = move |mut args: Arguments| {
            own.fit(&mut args)?;
            let task = Task::Own(PartitionFunction { signature: own.clone(), start: start.clone() });
            Ok(WindowTask { task, kind: own.gives.clone(), args: args.values })
        };
        WindowFunction { signature, bind: Arc::new(bind), needs_order: false }
    }

    /// A function over single values, of one to four arguments: `Option` of a [`Value`](super::Value) or of `&str`, null being
    /// none. `start` is called for each partition; what it gives is called for each row.
    pub fn of_values<A, F: RowAfterRow<A>>(
        name: &str,
        start: impl Fn() -> F + Send + Sync + 'static,
    ) -> WindowFunction {
        WindowFunction::of_columns(name, F::takes(), F::Gives::TYPE, move || {
            let mut function = start();
            move |columns: &[ArrayRef], rows| {
                Ok(column_of((0..rows).map(|row| function.value(RowValues::new(columns, row)))))
            }
        })
    }

    /// It means nothing without `order by`: a window that has none is a mistake.
    #[must_use]
    pub fn needs_order(self) -> WindowFunction {
        WindowFunction { needs_order: true, ..self }
    }
}

described!(WindowFunction);
