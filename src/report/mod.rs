//! A report of a run: what was asked, what became of every row, what it took, and what came out, in one page.

mod gather;
mod html;
mod parts;
mod style;

use serde::Serialize;

use crate::profile::Profile;

/// A report of a run, as data; [`Report::html`] makes a page of it, and serde any other form.
///
/// ```
/// use churn::{Flow, RunOptions};
/// let flow = Flow::steps("values farm, litres: ('F001', 120.0), ('F002', 80.0)").sort("litres");
/// let report = flow.report(&RunOptions::new())?.titled("Milk").dated("2026-03-01");
/// assert_eq!(report.result.as_ref().map(|result| result.total), Some(2));
/// assert!(report.html().contains("<h1>Milk</h1>"));
/// # Ok::<(), churn::Error>(())
/// ```
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Report {
    /// What stands above it.
    pub title: String,
    /// The day that it is of, as text.
    pub date: String,
    /// The version of churn.
    pub version: &'static str,
    /// The steps, as the language writes them.
    pub recipe: String,
    /// Values that were given for parameters.
    pub given: Vec<(String, String)>,
    /// What should be known before the run, and what is suspicious after it.
    pub notes: Vec<String>,
    /// The files that were read.
    pub inputs: Vec<ReportInput>,
    /// What became of every row, and what it took, step by step.
    pub steps: Vec<ReportStep>,
    /// The first rows of the result; none of a chain that ends in `write` or in a chart.
    pub result: Option<ReportRows>,
    /// What the columns of the result hold; of a chain that ends in `write`, those of the last file.
    pub profile: Option<Profile>,
    /// The files that were written.
    pub written: Vec<ReportOutput>,
    /// The charts that were drawn.
    pub charts: Vec<ReportChart>,
    /// Rewrites of the plan that were made.
    pub rewrites: Vec<String>,
    /// The plan as a picture, on light ground and on dark.
    pub plan: [String; 2],
    /// Seconds from the start of the run to its end.
    pub seconds: f64,
    /// Threads that could be at work.
    pub threads: usize,
    /// Bytes that steps which hold rows could use.
    pub memory: u64,
    /// The most bytes that they held at once.
    pub most_held: u64,
    /// Bytes of rows that were put on disk since they did not fit.
    pub spilled: u64,
}

/// A file that was read.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ReportInput {
    /// Its path.
    pub path: String,
    /// Its size.
    pub bytes: Option<u64>,
    /// When it was changed last, in UTC.
    pub modified: Option<String>,
    /// The SHA-256 digest of its bytes, if it was asked for.
    pub digest: Option<String>,
}

/// A step of the run.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ReportStep {
    /// The table that it belongs to; none for the main chain.
    pub table: Option<String>,
    /// Its text.
    pub step: String,
    /// Rows that came in; none for a start.
    pub rows_in: Option<u64>,
    /// Rows that went out; none if the run stopped before all had come.
    pub rows_out: Option<u64>,
    /// What happened beside, in words.
    pub happened: Vec<String>,
    /// The first cells and rows that were made null or left out, with their places.
    pub examples: Vec<String>,
    /// Seconds that threads were at work for it, together.
    pub seconds: f64,
}

/// The first rows of a table.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ReportRows {
    /// The columns, with their types.
    pub columns: Vec<(String, String)>,
    /// Cells as tables show them; none for null.
    pub rows: Vec<Vec<Option<String>>>,
    /// Rows in all.
    pub total: u64,
}

/// A file that was written.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ReportOutput {
    /// Its path, as the step has it.
    pub path: String,
    /// Its size; of a folder none.
    pub bytes: Option<u64>,
    /// Its first rows, if it can be read.
    pub rows: Option<ReportRows>,
}

/// A chart that was drawn.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ReportChart {
    /// What stands above it.
    pub title: String,
    /// What it shows, in words.
    pub description: String,
    /// The file that it was written to, if it was.
    pub file: Option<String>,
    /// The chart as SVG, on light ground and on dark.
    pub svg: [String; 2],
}

impl Report {
    /// Under another title.
    #[must_use]
    pub fn titled(self, title: &str) -> Report {
        Report { title: title.to_owned(), ..self }
    }

    /// Of another day.
    #[must_use]
    pub fn dated(self, date: &str) -> Report {
        Report { date: date.to_owned(), ..self }
    }

    /// With the SHA-256 digests of the files that were read; each is read through once more.
    ///
    /// # Errors
    /// A file cannot be read any more.
    pub fn with_digests(mut self) -> churn_core::Result<Report> {
        for input in &mut self.inputs {
            input.digest = Some(gather::digest(&input.path)?);
        }
        Ok(self)
    }

    /// As a page that stands alone: nothing in it comes from elsewhere, and no script is in it.
    pub fn html(&self) -> String {
        html::page(self)
    }

    /// As JSON.
    ///
    /// # Errors
    /// A fault of this crate.
    pub fn json(&self) -> churn_core::Result<String> {
        let failed = |error: serde_json::Error| {
            churn_core::Error::new(
                churn_core::ErrorKind::Internal,
                format!("A report cannot be told: {error}."),
            )
        };
        serde_json::to_string_pretty(self).map(|text| text + "\n").map_err(failed)
    }
}
