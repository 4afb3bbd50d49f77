//! Functions of a user's own, which the checker knows as it knows ours.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::ArrayRef;
use churn_core::names::comma;
use churn_core::parallel::caught;
use churn_core::scalar::array_of;
use churn_core::{Column, Error, ErrorKind, Result, Scalar, Type};

use crate::functions::{self, Arguments, Complaint, arg};
use crate::{Bound, aggregates, windows};

type OverColumns = dyn Fn(&[ArrayRef], usize) -> Result<ArrayRef> + Send + Sync;

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
    name: String,
    takes: Vec<Type>,
    gives: Type,
    over_columns: Arc<OverColumns>,
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
        let (name, takes) = (name.to_owned(), takes.into_iter().collect());
        ScalarFunction { name, takes, gives, over_columns: Arc::new(function) }
    }

    /// A function over single values, of one to four arguments: `Option` of `bool`, `i64`, `f64` or `String`, null being none.
    pub fn of_values<A>(name: &str, function: impl OverValues<A>) -> ScalarFunction {
        let (takes, gives) = function.types();
        let kind = gives.clone();
        ScalarFunction::of_columns(name, takes, gives, move |columns, rows| {
            let value = |row: usize| {
                let values: Vec<Scalar> =
                    columns.iter().map(|column| Scalar::from_array(column, row)).collect();
                function.value(values)
            };
            let values: Vec<Scalar> = (0..rows).map(value).collect();
            Ok(array_of(&values.iter().collect::<Vec<_>>(), &kind))
        })
    }

    /// Its name in the language.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// How it is called, by the types of its arguments.
    pub fn usage(&self) -> String {
        format!("{}({})", self.name, comma(&self.takes))
    }

    /// The call, its arguments turned into the types that it takes.
    pub(crate) fn bound(&self, values: Vec<Bound>) -> std::result::Result<Bound, Complaint> {
        let (name, usage) = (interned(&self.name), interned(&self.usage()));
        let mut args = Arguments { name, usage, values };
        args.count(self.takes.len()..=self.takes.len())?;
        for (i, kind) in self.takes.iter().enumerate() {
            args.want(i, kind)?;
        }
        let (function, gives) = (self.clone(), self.gives.clone());
        Ok(args.fallible_call(gives, move |args, rows, _| {
            let columns: Vec<ArrayRef> =
                (0..function.takes.len()).map(|i| arg(args, i).array(rows)).collect();
            function.checked(&columns, rows).map(Column::Array)
        }))
    }

    /// What it gives, held to what it promises.
    fn checked(&self, columns: &[ArrayRef], rows: usize) -> Result<ArrayRef> {
        let failed = |why: String| {
            Error::new(ErrorKind::Data, format!("The function {} of your own failed.", self.name)).why(why)
        };
        let made = caught(|| (self.over_columns)(columns, rows));
        let array = made.map_err(|why| failed(format!("It panicked: {why}.")))??;
        if array.len() != rows {
            return Err(failed(format!("It gave {} values for {rows} rows.", array.len())));
        }
        if *array.data_type() != self.gives.arrow() {
            return Err(failed(format!(
                "It gave {} where {}, carried as {}, was promised.",
                array.data_type(),
                self.gives,
                self.gives.arrow()
            )));
        }
        Ok(array)
    }
}

impl fmt::Debug for ScalarFunction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} -> {}", self.usage(), self.gives)
    }
}

/// Names live as long as the program, as those of our functions do; each different one is kept once.
fn interned(text: &str) -> &'static str {
    static NAMES: Mutex<BTreeSet<&'static str>> = Mutex::new(BTreeSet::new());
    let mut names = NAMES.lock().unwrap_or_else(PoisonError::into_inner);
    match names.get(text) {
        Some(known) => known,
        None => {
            let known: &'static str = Box::leak(text.to_owned().into_boxed_str());
            names.insert(known);
            known
        }
    }
}

/// What a single value of an argument or a result can be.
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
                if let Scalar::$variant(value) = value { Some(value) } else { None }
            }

            fn scalar(self) -> Scalar {
                Scalar::$variant(self)
            }
        }
    )*};
}

values!(bool: Bool, i64: Int, f64: Float, String: Text);

/// A closure over single values.
pub trait OverValues<A>: Send + Sync + 'static {
    /// The types of its arguments and of its result.
    fn types(&self) -> (Vec<Type>, Type);
    /// What it gives for the values of a row.
    fn value(&self, values: Vec<Scalar>) -> Scalar;
}

macro_rules! closures {
    ($($($arg:ident),+;)*) => {$(
        impl<F, R: Value, $($arg: Value),+> OverValues<($($arg,)+ R,)> for F
        where
            F: Fn($(Option<$arg>),+) -> Option<R> + Send + Sync + 'static,
        {
            fn types(&self) -> (Vec<Type>, Type) {
                (vec![$($arg::TYPE),+], R::TYPE)
            }

            fn value(&self, values: Vec<Scalar>) -> Scalar {
                let mut values = values.into_iter();
                let made = self($(values.next().and_then($arg::of)),+);
                made.map_or(Scalar::Null, R::scalar)
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

/// Functions of a user's own, for the flows that are given them.
#[derive(Clone, Debug, Default)]
pub struct Catalogue {
    functions: BTreeMap<String, ScalarFunction>,
}

impl Catalogue {
    /// Nothing beside what the language has.
    pub fn new() -> Catalogue {
        Catalogue::default()
    }

    /// The catalogue with one more function. Names are written in any case.
    ///
    /// # Errors
    /// The language, or this catalogue, has one of that name; the name is none that a call can be written with.
    pub fn with(mut self, function: ScalarFunction) -> Result<Catalogue> {
        let name = function.name.to_ascii_lowercase();
        let is_ours = functions::find(&name).is_some()
            || aggregates::find(&name).is_some()
            || windows::find(&name).is_some();
        if is_ours || self.functions.contains_key(&name) {
            return Err(Error::new(ErrorKind::Name, format!("There is a function {name} already."))
                .next("Give yours another name."));
        }
        if churn_core::names::name(&name) != name || ["cast", "try_cast"].contains(&name.as_str()) {
            let what = format!("A function cannot be called {}.", churn_core::names::name(&function.name));
            return Err(
                Error::new(ErrorKind::Name, what).next("Its name is a word of letters, digits and _.")
            );
        }
        self.functions.insert(name, function);
        Ok(self)
    }

    /// The function of a name.
    pub fn find(&self, name: &str) -> Option<&ScalarFunction> {
        self.functions.get(name)
    }

    /// The names of all functions.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.functions.keys().map(String::as_str)
    }

    /// Both catalogues together; a function of both must be the same one.
    ///
    /// # Errors
    /// Both have a function of one name, and not the same.
    pub fn together(mut self, other: &Catalogue) -> Result<Catalogue> {
        for (name, function) in &other.functions {
            match self.functions.get(name) {
                Some(own) if !Arc::ptr_eq(&own.over_columns, &function.over_columns) => {
                    let what = format!("There are two functions {name}, and not alike.");
                    return Err(Error::new(ErrorKind::Name, what).next("Give one of them another name."));
                }
                Some(_) => {}
                None => drop(self.functions.insert(name.clone(), function.clone())),
            }
        }
        Ok(self)
    }
}
