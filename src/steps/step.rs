//! A step, whatever it is: as data that is compared and printed, and as what the checker asks of it.

use std::any::Any;
use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use churn_core::{Error, ErrorKind, JoinKind, SourceText};
use churn_plan::Relation;

use super::Checker;
use crate::lang::recipe;

/// A step of a chain: [`Filter`](super::Filter), [`Group`](super::Group), … or one that was read from text.
///
/// `Display` gives its text in the language, which reads back as an equal step. Steps are equal if they say the same.
///
/// ```
/// use churn::{column, steps};
///
/// let built = steps::Step::from(steps::Filter::new(column("litres").gt(0)));
/// let read: steps::Step = "filter litres > 0".parse()?;
/// assert_eq!(built, read);
/// assert_eq!(built.to_string(), "filter litres > 0");
/// # Ok::<(), churn::Error>(())
/// ```
#[derive(Clone)]
pub struct Step(Arc<dyn Check>);

impl Step {
    /// What the checker asks of it.
    pub(crate) fn check(&self) -> &dyn Check {
        &*self.0
    }
}

impl<T: Check> From<T> for Step {
    fn from(step: T) -> Step {
        Step(Arc::new(step))
    }
}

impl PartialEq for Step {
    fn eq(&self, other: &Step) -> bool {
        self.0.is_same(other.0.as_any())
    }
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl fmt::Debug for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(&self.0, f)
    }
}

impl FromStr for Step {
    type Err = Error;

    /// Reads one step: its line, and the lines below it.
    fn from_str(text: &str) -> Result<Step, Error> {
        let source = Arc::new(SourceText { name: "step".into(), text: text.to_owned() });
        let mut steps = recipe::parse_chain(&source)?.into_iter();
        match (steps.next(), steps.next()) {
            (Some(placed), None) => Ok(placed.step),
            (None, _) => Err(Error::new(ErrorKind::Syntax, "There is no step in this text.")),
            (Some(_), Some(second)) => {
                let error = Error::new(ErrorKind::Syntax, "One step is wanted here, and these are several.");
                Err(error.at(&source, second.span).next("Add each with a call of its own, or all with then."))
            }
        }
    }
}

/// Compares steps that are known by what they do alone.
pub trait Same {
    /// The step as it is.
    fn as_any(&self) -> &dyn Any;
    /// Whether the other one is of this kind, and says the same.
    fn is_same(&self, other: &dyn Any) -> bool;
}

impl<T: PartialEq + 'static> Same for T {
    fn as_any(&self) -> &dyn Any {
        self
    }

    fn is_same(&self, other: &dyn Any) -> bool {
        other.downcast_ref::<T>() == Some(self)
    }
}

/// What the checker asks of a step.
pub trait Check: Same + fmt::Display + fmt::Debug + Send + Sync + 'static {
    /// Checks the step against the relation before it and gives the one after it.
    ///
    /// Mistakes are noted with the checker; `None` where nothing can be said of what follows.
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation>;

    /// Whether it may only start a chain.
    fn starts(&self) -> bool {
        false
    }

    /// Whether as many rows leave it as come in.
    fn keeps_rows(&self) -> bool {
        false
    }

    /// Whether it does something that must be done even if nobody needs its rows.
    fn acts(&self) -> bool {
        false
    }

    /// The table whose rows it starts with.
    fn table(&self) -> Option<&str> {
        None
    }

    /// The query that it is.
    #[cfg(feature = "sql")]
    fn query(&self) -> Option<&super::Sql> {
        None
    }

    /// How it brings tables together, if it does.
    fn joins(&self) -> Option<JoinKind> {
        None
    }

    /// Whether it writes what flows by.
    fn writes(&self) -> bool {
        false
    }

    /// Whether it draws what flows here for the program to take.
    fn shows(&self) -> bool {
        false
    }
}
