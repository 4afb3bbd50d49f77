//! Closures over single values, of one to four arguments.

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef};
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
}

/// What a closure takes as one of its arguments: a [`Value`], or a [`Str`] as `&str`.
pub trait Argument {
    /// Its type in the language.
    const TYPE: Type;
    /// What the closure is given of it.
    type Given<'a>;
    /// Takes the next value of a row; none if it is null.
    fn take<'a>(row: &mut RowValues<'a>) -> Option<Self::Given<'a>>;
}

impl<V: Value> Argument for V {
    const TYPE: Type = V::TYPE;
    type Given<'a> = V;

    fn take<'a>(row: &mut RowValues<'a>) -> Option<V> {
        row.columns.next().and_then(|column| V::of(Scalar::from_array(column, row.row)))
    }
}

/// A text that a closure is given where it stands, without a copy.
pub struct Str;

impl Argument for Str {
    const TYPE: Type = Type::Text;
    type Given<'a> = &'a str;

    fn take<'a>(row: &mut RowValues<'a>) -> Option<&'a str> {
        let texts = row.columns.next()?.as_string_view_opt()?;
        texts.is_valid(row.row).then(|| texts.value(row.row))
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

/// Closures whose arguments are of these kinds, by what each is and what the closure is given of it.
macro_rules! closures {
    ([$($value:ident)*] [$(($arg:ty, $given:ty))+]) => {
        impl<F, R: Value, $($value: Value),*> OverValues<($($arg,)+ R,)> for F
        where
            F: Fn($($given),+) -> Option<R> + Send + Sync + 'static,
        {
            type Gives = R;

            fn takes() -> Vec<Type> {
                vec![$(<$arg as Argument>::TYPE),+]
            }

            fn value(&self, mut row: RowValues<'_>) -> Option<R> {
                self($(<$arg as Argument>::take(&mut row)),+)
            }
        }

        impl<F, S, $($value: Value),*> AddValues<S, ($($arg,)+)> for F
        where
            F: Fn(&mut S, $($given),+) + Send + Sync + 'static,
        {
            fn takes() -> Vec<Type> {
                vec![$(<$arg as Argument>::TYPE),+]
            }

            fn add(&self, state: &mut S, mut row: RowValues<'_>) {
                self(state, $(<$arg as Argument>::take(&mut row)),+);
            }
        }

        impl<F, R: Value, $($value: Value),*> RowAfterRow<($($arg,)+ R,)> for F
        where
            F: FnMut($($given),+) -> Option<R> + 'static,
        {
            type Gives = R;

            fn takes() -> Vec<Type> {
                vec![$(<$arg as Argument>::TYPE),+]
            }

            fn value(&mut self, mut row: RowValues<'_>) -> Option<R> {
                self($(<$arg as Argument>::take(&mut row)),+)
            }
        }
    };
}

/// Closures of so many arguments, each of either kind: a value, or a text where it stands.
macro_rules! of_either_kind {
    ([$($value:ident)*] [$($done:tt)*]) => {
        closures!([$($value)*] [$($done)*]);
    };
    ([$($value:ident)*] [$($done:tt)*] $next:ident $($rest:ident)*) => {
        of_either_kind!([$($value)* $next] [$($done)* ($next, Option<$next>)] $($rest)*);
        of_either_kind!([$($value)*] [$($done)* (Str, Option<&str>)] $($rest)*);
    };
}

of_either_kind!([] [] A);
of_either_kind!([] [] A B);
of_either_kind!([] [] A B C);
of_either_kind!([] [] A B C D);
