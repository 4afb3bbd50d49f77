//! The start of a chain over batches that the caller has, or over a source of the caller's own; it has no text in the
//! language.

use std::fmt;
use std::sync::Arc;

use churn_io::source::Source;
use churn_plan::Relation;

use super::{Check, Checker};

/// Two are equal if they are of the same source, not of equal ones.
#[derive(Clone, Debug)]
pub(crate) struct Given {
    pub(crate) source: Arc<dyn Source>,
    /// What it is called.
    pub(crate) shown: String,
}

impl PartialEq for Given {
    fn eq(&self, other: &Given) -> bool {
        Arc::ptr_eq(&self.source, &other.source)
    }
}

impl Check for Given {
    fn check(&self, _: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        Some(super::read::relation(self.source.clone(), None, checker))
    }

    fn starts(&self) -> bool {
        true
    }
}

impl fmt::Display for Given {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "read {}", self.shown)
    }
}
