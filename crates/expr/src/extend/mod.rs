//! Functions of a user's own, and the one catalogue in which the checker looks up these and ours.
//!
//! | file | holds |
//! | --- | --- |
//! | `scalar`, `aggregate`, `window` | the three kinds of function |
//! | `values` | closures over single values |
//! | `signature` | what the kinds have in common |

mod aggregate;
mod scalar;
mod signature;
mod values;
mod window;

use std::collections::BTreeMap;
use std::sync::Arc;

use churn_core::{Error, ErrorKind, Result};

pub use aggregate::AggregateFunction;
pub use scalar::ScalarFunction;
pub use values::{AddValues, Argument, OverValues, RowAfterRow, RowValues, Str, Value};
pub use window::{PartitionFunction, PartitionRun, WindowFunction};

pub use crate::aggregates::AggregateState;

use crate::aggregates::Made;
use crate::windows::WindowTask;
use crate::{Bound, aggregates, functions, windows};
pub(crate) use signature::Callable;
use signature::Signature;

/// A function of a user's own, of any kind.
#[derive(Clone, Debug)]
pub enum OwnFunction {
    /// A value for each row.
    Scalar(ScalarFunction),
    /// A value for each group of rows.
    Aggregate(AggregateFunction),
    /// A value for each row of a window.
    Window(WindowFunction),
}

impl OwnFunction {
    fn signature(&self) -> &Signature {
        match self {
            OwnFunction::Scalar(function) => &function.signature,
            OwnFunction::Aggregate(function) => &function.signature,
            OwnFunction::Window(function) => &function.signature,
        }
    }

    /// Whether both are copies of one function.
    fn is(&self, other: &OwnFunction) -> bool {
        match (self, other) {
            (OwnFunction::Scalar(one), OwnFunction::Scalar(other)) => Arc::ptr_eq(&one.bind, &other.bind),
            (OwnFunction::Aggregate(one), OwnFunction::Aggregate(other)) => {
                Arc::ptr_eq(&one.bind, &other.bind)
            }
            (OwnFunction::Window(one), OwnFunction::Window(other)) => Arc::ptr_eq(&one.bind, &other.bind),
            _ => false,
        }
    }

    /// Its name, its usage, its summary and its example, for the help.
    pub fn described(&self) -> [&'static str; 4] {
        let Signature { name, summary, example, .. } = self.signature();
        [name.as_str(), &self.signature().usage(), summary, example].map(signature::interned)
    }
}

macro_rules! kinds {
    ($($kind:ident $function:ty),*) => {$(
        impl From<$function> for OwnFunction {
            fn from(function: $function) -> OwnFunction {
                OwnFunction::$kind(function)
            }
        }
    )*};
}

kinds!(Scalar ScalarFunction, Aggregate AggregateFunction, Window WindowFunction);

/// The functions that expressions may call: those of the language, and a user's own.
#[derive(Clone, Debug, Default)]
pub struct Functions {
    own: BTreeMap<String, OwnFunction>,
}

/// A window function, as the binder asks for it.
pub(crate) struct WindowCallable<'a> {
    pub(crate) call: Callable<'a, WindowTask>,
    pub(crate) needs_order: bool,
    pub(crate) takes_frame: bool,
}

/// A scalar function, as the binder asks for it.
pub(crate) struct ScalarCallable<'a> {
    pub(crate) call: Callable<'a, Bound>,
    /// Whether the first argument is a unit of time, written as a word.
    pub(crate) takes_unit: bool,
}

impl Functions {
    /// With one more function. Names are written in any case.
    ///
    /// # Errors
    /// There is one of that name; the name is none that a call can be written with.
    pub fn with(mut self, function: OwnFunction) -> Result<Functions> {
        let written = &function.signature().name;
        let name = written.to_ascii_lowercase();
        if self.names().any(|known| known == name) {
            return Err(Error::new(ErrorKind::Name, format!("There is a function {name} already."))
                .next("Give yours another name."));
        }
        if churn_core::names::name(&name) != name || ["cast", "try_cast"].contains(&name.as_str()) {
            let what = format!("A function cannot be called {}.", churn_core::names::name(written));
            return Err(
                Error::new(ErrorKind::Name, what).next("Its name is a word of letters, digits and _.")
            );
        }
        self.own.insert(name, function);
        Ok(self)
    }

    /// The names of all functions.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        let ours = functions::all().map(|f| f.name).chain(aggregates::all().map(|a| a.name));
        ours.chain(windows::all().map(|w| w.name)).chain(self.own.keys().map(String::as_str))
    }

    /// A user's own, in order of their names.
    pub fn own(&self) -> impl Iterator<Item = &OwnFunction> {
        self.own.values()
    }

    /// Whether a name is that of a user's own function.
    pub fn has_own(&self, name: &str) -> bool {
        self.own.contains_key(name)
    }

    /// The scalar function of a name.
    pub(crate) fn scalar(&self, name: &str) -> Option<ScalarCallable<'_>> {
        if let Some(ours) = functions::find(name) {
            let call = Callable::ours(ours.name, ours.usage, &ours.bind);
            return Some(ScalarCallable { call, takes_unit: ours.takes_unit() });
        }
        let Some(OwnFunction::Scalar(own)) = self.own.get(name) else { return None };
        Some(ScalarCallable { call: Callable::own(&own.signature, &*own.bind), takes_unit: false })
    }

    /// The aggregate of a name.
    pub(crate) fn aggregate(&self, name: &str) -> Option<Callable<'_, Made>> {
        if let Some(ours) = aggregates::find(name) {
            return Some(Callable::ours(ours.name, ours.usage, &ours.bind));
        }
        let Some(OwnFunction::Aggregate(own)) = self.own.get(name) else { return None };
        Some(Callable::own(&own.signature, &*own.bind))
    }

    /// Whether a name is that of an aggregate.
    pub fn has_aggregate(&self, name: &str) -> bool {
        self.aggregate(name).is_some()
    }

    /// Whether a function looks at more rows than the one that it stands in: an aggregate, or a window function.
    pub(crate) fn looks_at_rows(&self, name: &str) -> bool {
        self.has_aggregate(name) || self.window(name).is_some()
    }

    /// The window function of a name.
    pub(crate) fn window(&self, name: &str) -> Option<WindowCallable<'_>> {
        if let Some(ours) = windows::find(name) {
            let call = Callable::ours(ours.name, ours.usage, &ours.bind);
            let (needs_order, takes_frame) = (ours.needs_order, ours.takes_frame);
            return Some(WindowCallable { call, needs_order, takes_frame });
        }
        let Some(OwnFunction::Window(own)) = self.own.get(name) else { return None };
        let call = Callable::own(&own.signature, &*own.bind);
        Some(WindowCallable { call, needs_order: own.needs_order, takes_frame: false })
    }

    /// Both together; a function of both must be the same one.
    ///
    /// # Errors
    /// Both have a function of one name, and not the same.
    pub fn together(mut self, other: &Functions) -> Result<Functions> {
        for (name, function) in &other.own {
            match self.own.get(name) {
                Some(own) if !own.is(function) => {
                    let what = format!("There are two functions {name}, and not alike.");
                    return Err(Error::new(ErrorKind::Name, what).next("Give one of them another name."));
                }
                Some(_) => {}
                None => drop(self.own.insert(name.clone(), function.clone())),
            }
        }
        Ok(self)
    }
}
