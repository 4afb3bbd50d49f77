//! Formats that this build lacks: their files are known, and the feature that reads them is told.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use churn_core::{Error, ErrorKind, Result};

use super::known::Known;
use super::{FileFormat, Opening};
use crate::source::Source;

/// A format behind a feature that this build was made without.
#[derive(Debug)]
pub(super) struct Absent {
    pub(super) known: Known,
    /// The feature that has it.
    pub(super) feature: &'static str,
}

impl Absent {
    fn told(&self) -> Error {
        let what = format!("This build can neither read nor write {} files.", self.known.title);
        Error::new(ErrorKind::Input, what)
            .next(format!("Build it with the feature {} of the crate churn.", self.feature))
    }
}

impl FileFormat for Absent {
    fn title(&self) -> &str {
        self.known.title
    }

    fn names(&self) -> Vec<&str> {
        self.known.names.to_vec()
    }

    fn is_text(&self) -> bool {
        false
    }

    fn starts(&self, first: &[u8]) -> bool {
        (self.known.starts)(first)
    }

    fn reads_with(&self, _: &str) -> bool {
        true
    }

    fn open(&self, _: &[PathBuf], _: Opening) -> Result<Arc<dyn Source>> {
        Err(self.told())
    }

    fn may_be_written(&self, _: &Path) -> Result<()> {
        Err(self.told())
    }
}
