//! A checked plan: looked at, and run.

use std::fmt;
use std::io::Write;
use std::ops::Deref;
use std::path::Path;

use churn_core::{Error, ErrorKind, Ledger, Result, Type, deep};
use churn_exec::{ColumnarOutput, Writer};
use churn_io::binary::Out;
use churn_io::files::WrittenPart;
use churn_io::format::WriteOptions;
use churn_io::target;
use churn_plan::{Plan, picture};

use super::Flow;
use crate::options::RunOptions;
use crate::table::Table;

/// The width of a plan's picture where none is asked for.
const PICTURE_WIDTH: usize = 120;

/// A checked plan: what will be read and done. It can be run any number of times; standard input, once.
///
/// `Display` shows the steps as written beside as they will run.
pub struct CheckedPlan {
    pub(crate) plan: Plan,
    pub(crate) flow: Flow,
    /// What the chain draws that the program takes, if it ends so.
    #[cfg(feature = "charts")]
    pub(crate) drawing: Option<std::sync::Arc<crate::draw::Drawing>>,
    /// The charts that its steps write.
    #[cfg(feature = "charts")]
    pub(crate) charts: Vec<crate::draw::WrittenChart>,
}

impl Clone for CheckedPlan {
    fn clone(&self) -> CheckedPlan {
        let plan = deep::with_room_for(self.plan.length(), || self.plan.clone());
        CheckedPlan {
            plan,
            flow: self.flow.clone(),
            #[cfg(feature = "charts")]
            drawing: self.drawing.clone(),
            #[cfg(feature = "charts")]
            charts: self.charts.clone(),
        }
    }
}

impl Drop for CheckedPlan {
    fn drop(&mut self) {
        // An operator holds the one below it, and so on down to the source.
        let length = self.plan.length();
        let nodes = self.plan.take_nodes();
        deep::with_room_for(length, || drop(nodes));
    }
}

/// A plan with all its columns known: from the start, or found by a run.
pub(crate) enum Complete<'a> {
    Known(&'a CheckedPlan),
    Found(Box<CheckedPlan>),
}

impl Deref for Complete<'_> {
    type Target = Plan;

    fn deref(&self) -> &Plan {
        &self.checked().plan
    }
}

impl Complete<'_> {
    /// With what it draws.
    pub(crate) fn checked(&self) -> &CheckedPlan {
        match self {
            Complete::Known(plan) => plan,
            Complete::Found(plan) => plan,
        }
    }
}

impl CheckedPlan {
    /// The plan with all columns known.
    pub(crate) fn complete(&self, options: &RunOptions) -> Result<Complete<'_>> {
        if self.plan.open || self.plan.lacks_values {
            self.flow.rewritten(Some(options), &self.plan.moment).map(|plan| Complete::Found(Box::new(plan)))
        } else {
            Ok(Complete::Known(self))
        }
    }

    /// Why the plan goes no further than to some step, if it does: columns or bounds that only a run can tell. Steps after it
    /// are checked when the run has found them.
    pub fn open(&self) -> Option<&'static str> {
        self.plan.open.then_some(
            "The steps can be followed only to here: what comes next depends on values that\n\
             only a run finds. A run finds them first, and checks the rest before it goes on.\n\
             To check all of a pivot now, name the values: pivot grade in ('A', 'B').",
        )
    }

    /// The steps as written beside as they will run, in lines of so many characters at most, as far as words allow.
    pub fn picture(&self, width: usize) -> String {
        struct Picture<'a>(&'a Plan, usize);
        impl fmt::Display for Picture<'_> {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                picture::write(self.0, self.1, f)
            }
        }
        deep::with_room_for(self.plan.length(), || Picture(&self.plan, width).to_string())
    }

    /// The columns of the result, with their types.
    pub fn columns(&self) -> impl Iterator<Item = (&str, &Type)> {
        self.plan.main.fields.iter().map(|f| (f.name.as_str(), &f.kind))
    }

    /// The steps in canonical text, each with the columns after it; without them in a chain so long that these are
    /// more than a million.
    pub fn steps(&self) -> impl Iterator<Item = (&str, &[(String, Type)])> {
        self.plan.steps.iter().filter(|s| !s.aside).map(|s| (s.text.as_str(), s.columns.as_slice()))
    }

    /// What should be known before the run: a column that looks like dates but stays text, a table that nobody
    /// needs.
    pub fn notes(&self) -> &[String] {
        &self.plan.notes
    }

    /// The rewrites that were made, by name.
    pub fn rewrites(&self) -> &[&'static str] {
        &self.plan.fired
    }

    /// Whether the chain ends in `write`, so that its rows need not be shown.
    pub fn ends_in_write(&self) -> bool {
        self.plan.ends_in_write
    }

    /// Whether a step writes to standard output, so that nothing else should be printed there.
    pub fn writes_to_standard_output(&self) -> bool {
        self.plan.files.writes_to_standard()
    }

    /// Checks that a file of the caller's own, such as one for the ledger, can be written beside what the plan reads
    /// and writes.
    ///
    /// # Errors
    /// The plan reads or writes that file; it is a folder, or stands in none.
    pub fn may_write(&self, path: impl AsRef<Path>) -> Result<()> {
        let path = path.as_ref();
        target::may_be_written(path)?;
        self.plan.files.clone().writes(path, &path.display().to_string(), WrittenPart::File)
    }

    /// Runs the plan and holds its rows.
    ///
    /// # Errors
    /// Whatever the data hold against it.
    pub fn run_with(&self, options: &RunOptions) -> Result<Table> {
        let plan = &*self.complete(options)?;
        let (batches, ran) = churn_exec::run(plan, options.settings(), |_| Ok(churn_exec::Collect::sink()))?;
        Ok(Table::new(plan.main.fields.clone(), batches, None, ran.ledger))
    }

    /// Runs the plan, counts its rows and holds the first of them.
    ///
    /// # Errors
    /// As [`CheckedPlan::run_with`].
    pub fn run_head(&self, rows: usize, options: &RunOptions) -> Result<Table> {
        let plan = &*self.complete(options)?;
        let ((batches, total), ran) =
            churn_exec::run(plan, options.settings(), |_| Ok(churn_exec::Head::sink(rows)))?;
        Ok(Table::new(plan.main.fields.clone(), batches, Some(total), ran.ledger))
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
        let plan = &*self.complete(options)?;
        let catalogue = self.flow.catalogue_with(Some(options))?;
        let (format, fields) = (catalogue.formats().named(format)?, &plan.main.fields);
        let with = WriteOptions::default();
        let ((), ran) = match format.encoder(fields, &with) {
            Some(encoder) => {
                let last = plan.steps.len().saturating_sub(1);
                churn_exec::run(plan, options.settings(), |_| Writer::sink(out, encoder, last))
            }
            None => churn_exec::run(plan, options.settings(), |run| {
                let writer = format.writer(Out::new(out), fields, &with, run)?;
                let lost =
                    || Error::new(ErrorKind::Internal, "A format has neither an encoder nor a writer.");
                Ok(ColumnarOutput::sink(writer.ok_or_else(lost)?))
            }),
        }?;
        Ok(ran.ledger)
    }

    /// Runs the plan for what its steps write and require, and drops its rows.
    ///
    /// # Errors
    /// As [`CheckedPlan::run_with`].
    pub fn run_for_effect(&self, options: &RunOptions) -> Result<Ledger> {
        let plan = self.complete(options)?;
        Ok(churn_exec::run_for_effect(&plan, options.settings())?.ledger)
    }

    /// Files, bytes and rows of the sources: as far as they are known before the run.
    pub fn sources(&self) -> Vec<SourceView> {
        deep::with_room_for(self.plan.length(), || churn_exec::scans(&self.plan))
            .into_iter()
            .map(|(_, scan)| {
                let about = scan.source.about();
                SourceView {
                    files: about.files,
                    bytes: about.bytes,
                    rows: about.rows,
                    rows_about: about.rows_about,
                    rows_looked_at: about.looked.map(|looked| looked.rows),
                    looked_at_all: about.looked.is_some_and(|looked| looked.whole),
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
    /// Rows that the types of columns were inferred from; `None` where the format tells them.
    pub rows_looked_at: Option<u64>,
    /// Whether these are all rows that there are.
    pub looked_at_all: bool,
}

impl fmt::Display for CheckedPlan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.picture(PICTURE_WIDTH))
    }
}

impl fmt::Debug for CheckedPlan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}
