//! A checked plan: looked at, and run.

use std::fmt;
use std::io::Write;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::error::Result;
use crate::exec::{self, Columns, Ledger, RunOptions, Writer};
use crate::expr::Type;
use crate::io::binary::Out;
use crate::io::format::{Format, WriteOptions};
use crate::plan::{Plan, picture};
use crate::table::Table;

/// A checked plan: what will be read and done. It can be run any number of times; standard input, once.
///
/// `Display` shows the steps as written beside as they will run.
#[derive(Clone)]
pub struct CheckedPlan(pub(super) Plan);

impl CheckedPlan {
    /// The columns of the result, with their types.
    pub fn columns(&self) -> impl Iterator<Item = (&str, &Type)> {
        self.0.main.fields.iter().map(|f| (f.name.as_str(), &f.kind))
    }

    /// The steps in canonical text, each with the columns after it.
    pub fn steps(&self) -> impl Iterator<Item = (&str, &[(String, Type)])> {
        self.0.steps.iter().filter(|s| !s.aside).map(|s| (s.text.as_str(), s.columns.as_slice()))
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

    /// Runs the plan and holds its rows.
    ///
    /// # Errors
    /// Whatever the data hold against it.
    pub fn run_with(&self, options: &RunOptions) -> Result<Table> {
        let (batches, ledger) = exec::run(&self.0, options, || Ok(exec::Collect::sink()))?;
        Ok(Table::new(self.0.main.fields.clone(), batches, None, ledger))
    }

    /// Runs the plan, counts its rows and holds the first of them.
    ///
    /// # Errors
    /// As [`CheckedPlan::run_with`].
    pub fn run_head(&self, rows: usize, options: &RunOptions) -> Result<Table> {
        let total = Arc::new(AtomicU64::new(0));
        let counted = total.clone();
        let (batches, ledger) = exec::run(&self.0, options, || Ok(exec::Head::sink(rows, counted)))?;
        Ok(Table::new(self.0.main.fields.clone(), batches, Some(total.load(Ordering::Relaxed)), ledger))
    }

    /// Runs the plan and writes its rows to a writer, in a format: `csv`, `tsv`, `json`, `ndjson`,
    /// `parquet` or `arrow`.
    ///
    /// # Errors
    /// As [`CheckedPlan::run_with`]; there is no such format; the writer fails.
    pub fn write_to(
        &self,
        out: impl Write + Send + 'static,
        format: &str,
        options: &RunOptions,
    ) -> Result<Ledger> {
        let (format, fields) = (Format::named(format)?, &self.0.main.fields);
        let with = WriteOptions::default();
        let sink = || match format.encoder(fields, &with) {
            Some(encoder) => Writer::sink(out, encoder),
            None => {
                let writer = format.writer(Out::new(out), fields, &with, options.thread_count())?;
                Ok(writer.map_or_else(exec::Discard::sink, Columns::sink))
            }
        };
        Ok(exec::run(&self.0, options, sink)?.1)
    }

    /// Runs the plan for what its steps write and require, and drops its rows.
    ///
    /// # Errors
    /// As [`CheckedPlan::run_with`].
    pub fn run_for_effect(&self, options: &RunOptions) -> Result<Ledger> {
        exec::run_for_effect(&self.0, options)
    }

    /// Files, bytes and rows of the sources: as far as they are known before the run.
    pub fn sources(&self) -> Vec<SourceView> {
        crate::exec::scans(&self.0)
            .into_iter()
            .map(|(_, scan)| {
                let about = scan.source.about();
                SourceView {
                    files: about.files,
                    bytes: about.bytes,
                    rows: about.rows,
                    rows_about: about.rows_about,
                }
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

impl fmt::Display for CheckedPlan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        picture::write(&self.0, f)
    }
}

impl fmt::Debug for CheckedPlan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}
