//! The start of a chain over batches that the caller has in memory; it has no text of its own.

use std::fmt;
use std::sync::Arc;

use churn_io::source::Source;
use churn_plan::Relation;

use super::{Check, Checker};

/// Two are equal if they are of the same batches, not of equal ones.
#[derive(Clone, Debug)]
pub(crate) struct Given(pub(crate) Arc<dyn Source>);

impl PartialEq for Given {
    fn eq(&self, other: &Given) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl Check for Given {
    fn check(&self, _: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        Some(super::read::relation(self.0.clone(), None, checker))
    }

    fn starts(&self) -> bool {
        true
    }
}

impl fmt::Display for Given {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("read batches in memory")
    }
}
