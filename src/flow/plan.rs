//! A checked plan as its user sees it.

use std::fmt;

use crate::expr::Type;
use crate::plan::{Plan, picture};

/// A checked plan: what will be read and done.
///
/// `Display` shows the steps as written beside as they will run.
#[derive(Clone)]
pub struct PlanView(pub(super) Plan);

impl PlanView {
    /// The columns of the result, with their types.
    pub fn columns(&self) -> impl Iterator<Item = (&str, &Type)> {
        self.0.main.fields.iter().map(|f| (f.name.as_str(), &f.kind))
    }

    /// The steps in canonical text, each with the columns after it.
    pub fn steps(&self) -> impl Iterator<Item = (&str, &[(String, Type)])> {
        self.0.steps.iter().map(|s| (s.text.as_str(), s.columns.as_slice()))
    }

    /// What should be known before the run: a column that looks like dates but stays text, a table that nobody
    /// needs.
    pub fn notes(&self) -> &[String] {
        &self.0.notes
    }

    /// The rewrites that were made, by name.
    pub fn rewrites(&self) -> &[&'static str] {
        &self.0.fired
    }

    /// Whether the chain ends in `write`, so that its rows need not be shown.
    pub fn ends_in_write(&self) -> bool {
        self.0.ends_in_write
    }

    /// Files, bytes and rows of the sources: as far as they are known before the run.
    pub fn sources(&self) -> Vec<SourceView> {
        crate::exec::scans(&self.0)
            .into_iter()
            .map(|(_, scan)| {
                let about = scan.source.about();
                SourceView { files: about.files, bytes: about.bytes, rows: about.rows, rows_about: about.rows_about }
            })
            .collect()
    }
}

/// What is known of a source before the run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct SourceView {
    /// Files.
    pub files: usize,
    /// Bytes on disk.
    pub bytes: Option<u64>,
    /// Rows, where the format tells.
    pub rows: Option<u64>,
    /// Rows by the average length of those that were looked at.
    pub rows_about: Option<u64>,
}

impl fmt::Display for PlanView {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        picture::write(&self.0, f)
    }
}

impl fmt::Debug for PlanView {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}
