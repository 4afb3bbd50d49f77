//! The start of a chain over batches that the caller has in memory; it has no text of its own.

use std::fmt;
use std::sync::Arc;

use churn_io::source::Source;
use churn_plan::Relation;

use super::{Checker, Step};

#[derive(Debug)]
pub(crate) struct Given(pub(crate) Arc<dyn Source>);

impl Step for Given {
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
