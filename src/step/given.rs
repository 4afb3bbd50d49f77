//! The start of a chain over batches that the caller has in memory; it has no text of its own.

use std::fmt;
use std::sync::Arc;

use super::{Checker, Step};
use crate::io::source::Source;
use crate::plan::Relation;

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
