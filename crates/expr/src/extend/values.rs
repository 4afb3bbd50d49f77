//! Closures over single values, of one to four arguments.

use arrow_array::ArrayRef;
use churn_core::scalar::array_of;
use churn_core::{Scalar, Type};
use jiff::civil::{Date, DateTime, Time};

/// What a single value of an argument or a result can be: `bool`, `i64`, `f64`, `String`, days and times of `jiff`.
pub trait Value: Sized {
    /// Its type in the language.
    const TYPE: Type;
    /// The value, if it is one.
    fn of(value: Scalar) -> Option<Self>;
    /// As a value of the language.
    fn scalar(self) -> Scalar;
}

macro_rules! values {
    ($($kind:ty: $variant:ident),*) => {$(
        impl Value for $kind {
            const TYPE: Type = Type::$variant;

            fn of(value: Scalar) -> Option<$kind> {
                value.try_into().ok()
            }

            fn scalar(self) -> Scalar {
                self.into()
            }
        }
    )*};
}

values!(bool: Bool, i64: Int, f64: Float, String: Text, Date: Date, Time: Time, DateTime: Timestamp);

/// Results of the language's type as a column; none is null.
pub(super) fn column_of<R: Value>(values: impl Iterator<Item = Option<R>>) -> ArrayRef {
    let values: Vec<Scalar> = values.map(|value| value.map_or(Scalar::Null, R::scalar)).collect();
    array_of(&values.iter().collect::<Vec<_>>(), &R::TYPE)
}

/// The values of a row of some columns, in order.
pub struct RowValues<'a> {
    columns: std::slice::Iter<'a, ArrayRef>,
    row: usize,
}

impl RowValues<'_> {
    pub(super) fn new(columns: &[ArrayRef], row: usize) -> RowValues<'_> {
        RowValues { columns: columns.iter(), row }
    }

    /// The next one; none if it is null.
    fn next<A: Value>(&mut self) -> Option<A> {
        self.columns.next().and_then(|column| A::of(Scalar::from_array(column, self.row)))
    }
}

/// A closure that gives a value of the values of a row: `Fn(Option<A>, …) -> Option<R>`.
pub trait OverValues<A>: Send + Sync + 'static {
    /// What it gives.
    type Gives: Value;
    /// The types of its arguments.
    fn takes() -> Vec<Type>;
    /// What it gives for a row.
    fn value(&self, row: RowValues<'_>) -> Option<Self::Gives>;
}

/// A closure that adds the values of a row to a state: `Fn(&mut S, Option<A>, …)`.
pub trait AddValues<S, A>: Send + Sync + 'static {
    /// The types of its arguments.
    fn takes() -> Vec<Type>;
    /// Adds a row.
    fn add(&self, state: &mut S, row: RowValues<'_>);
}

/// A closure that is called row after row, and may remember: `FnMut(Option<A>, …) -> Option<R>`.
pub trait RowAfterRow<A>: 'static {
    /// What it gives.
    type Gives: Value;
    /// The types of its arguments.
    fn takes() -> Vec<Type>;
    /// What it gives for the next row.
    fn value(&mut self, row: RowValues<'_>) -> Option<Self::Gives>;
}

macro_rules! closures {
    ($($($arg:ident),+;)*) => {$(
        impl<F, R: Value, $($arg: Value),+> OverValues<($($arg,)+ R,)> for F
        where
            F: Fn($(Option<$arg>),+) -> Option<R> + Send + Sync + 'static,
        {
            type Gives = R;

            fn takes() -> Vec<Type> {
                vec![$($arg::TYPE),+]
            }

            fn value(&self, mut row: RowValues<'_>) -> Option<R> {
                self($(row.next::<$arg>()),+)
            }
        }

        impl<F, S, $($arg: Value),+> AddValues<S, ($($arg,)+)> for F
        where
            F: Fn(&mut S, $(Option<$arg>),+) + Send + Sync + 'static,
        {
            fn takes() -> Vec<Type> {
                vec![$($arg::TYPE),+]
            }

            fn add(&self, state: &mut S, mut row: RowValues<'_>) {
                self(state, $(row.next::<$arg>()),+);
            }
        }

        impl<F, R: Value, $($arg: Value),+> RowAfterRow<($($arg,)+ R,)> for F
        where
            F: FnMut($(Option<$arg>),+) -> Option<R> + 'static,
        {
            type Gives = R;

            fn takes() -> Vec<Type> {
                vec![$($arg::TYPE),+]
            }

            fn value(&mut self, mut row: RowValues<'_>) -> Option<R> {
                self($(row.next::<$arg>()),+)
            }
        }
    )*};
}

closures! {
    A;
    A, B;
    A, B, C;
    A, B, C, D;
}
