//! What the functions of a user's own have in common: how they are called, what they give, and that they are held to it.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};

use arrow_array::ArrayRef;
use churn_core::names::comma;
use churn_core::parallel::guarded_own;
use churn_core::{Error, ErrorKind, Result, Type};

use crate::Bound;
use crate::functions::{Arguments, Complaint};

/// How a function is called, and what it gives.
#[derive(Clone, Debug)]
pub(super) struct Signature {
    pub(super) name: String,
    pub(super) takes: Vec<Type>,
    pub(super) gives: Type,
    pub(super) summary: String,
    pub(super) example: String,
}

impl Signature {
    pub(super) fn new(name: &str, takes: impl IntoIterator<Item = Type>, gives: Type) -> Signature {
        let (name, takes) = (name.to_owned(), takes.into_iter().collect());
        Signature { name, takes, gives, summary: String::new(), example: String::new() }
    }

    /// How it is called, by the types of its arguments.
    pub(super) fn usage(&self) -> String {
        format!("{}({})", self.name, comma(&self.takes))
    }

    /// The arguments of a call, turned into the types that it takes.
    pub(super) fn fit(&self, args: &mut Arguments) -> std::result::Result<(), Complaint> {
        args.count(self.takes.len()..=self.takes.len())?;
        self.takes.iter().enumerate().try_for_each(|(i, kind)| args.want(i, kind))
    }

    /// Runs code of the user's; a panic in it is an error that names the function.
    pub(super) fn guarded<T>(&self, run: impl FnOnce() -> Result<T>) -> Result<T> {
        guarded_own(|| self.failed(), run)
    }

    /// What the user's code gives for so many rows, held to what is promised.
    pub(super) fn checked(&self, rows: usize, run: impl FnOnce() -> Result<ArrayRef>) -> Result<ArrayRef> {
        let array = self.guarded(run)?;
        if array.len() != rows {
            let why = format!("It gave {} values for {rows} rows.", array.len());
            return Err(self.failed().why(why));
        }
        if *array.data_type() != self.gives.arrow() {
            let (found, gives, arrow) = (array.data_type(), &self.gives, self.gives.arrow());
            let why = format!("It gave {found} where {gives}, carried as {arrow}, was promised.");
            return Err(self.failed().why(why));
        }
        Ok(array)
    }

    fn failed(&self) -> Error {
        Error::new(ErrorKind::Data, format!("The function {} of your own failed.", self.name))
    }
}

/// A checked call of a function of the language or of a user's own: its name, its usage and its check.
pub(crate) struct Callable<'a, T> {
    pub(crate) name: &'static str,
    pub(crate) usage: &'static str,
    /// Whether it is a user's own.
    pub(crate) is_own: bool,
    pub(super) bind: &'a Bind<T>,
}

/// Checks the arguments of a call, and gives what computes it.
pub(super) type Bind<T> = dyn Fn(Arguments) -> std::result::Result<T, Complaint> + Send + Sync;

impl<'a, T: 'static> Callable<'a, T> {
    /// One of the language.
    pub(super) fn ours(
        name: &'static str,
        usage: &'static str,
        bind: &'a fn(Arguments) -> std::result::Result<T, Complaint>,
    ) -> Callable<'a, T> {
        Callable { name, usage, is_own: false, bind }
    }

    /// One of a user's own.
    pub(super) fn own(signature: &Signature, bind: &'a Bind<T>) -> Callable<'a, T> {
        let (name, usage) = (interned(&signature.name), interned(&signature.usage()));
        Callable { name, usage, is_own: true, bind }
    }

    /// The call with these arguments.
    pub(crate) fn bound(&self, values: Vec<Bound>) -> std::result::Result<T, Complaint> {
        (self.bind)(Arguments { name: self.name, usage: self.usage, values })
    }
}

/// Names live as long as the program, as those of our functions do; each different one is kept once.
pub(super) fn interned(text: &str) -> &'static str {
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

/// What each kind of function tells of itself.
macro_rules! described {
    ($function:ident) => {
        impl $function {
            /// Its name in the language.
            pub fn name(&self) -> &str {
                &self.signature.name
            }

            /// How it is called, by the types of its arguments.
            pub fn usage(&self) -> String {
                self.signature.usage()
            }

            /// What it gives, in a sentence, for the help.
            #[must_use]
            pub fn summary(mut self, summary: &str) -> Self {
                self.signature.summary = summary.to_owned();
                self
            }

            /// A step or an expression that calls it, for the help.
            #[must_use]
            pub fn example(mut self, example: &str) -> Self {
                self.signature.example = example.to_owned();
                self
            }
        }

        impl std::fmt::Debug for $function {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                write!(f, "{} -> {}", self.usage(), self.signature.gives)
            }
        }
    };
}

pub(super) use described;
