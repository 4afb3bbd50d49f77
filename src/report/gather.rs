//! The parts of a report, gathered from a run.

use std::fs::File;
use std::io::Read;
use std::path::Path;
use std::sync::PoisonError;

use churn_core::readable::shown;
use churn_core::{Error, ErrorKind, Ledger, Result, Scalar};
use churn_exec::{Both, ColumnarOutput, Head, Ran, RunFigures};
use churn_io::files::WrittenPart;
use jiff::Timestamp;
use sha2::{Digest, Sha256};

use super::{Report, ReportChart, ReportInput, ReportOutput, ReportRows, ReportStep};
use crate::draw::{Chart, FigureOutput, plan_picture};
use crate::flow::{CheckedPlan, Flow};
use crate::options::RunOptions;
use crate::profile::{Detail, Profile, asked};
use crate::table::Table;

/// Rows that are shown of each table.
const ROWS: usize = 10;

impl Flow {
    /// Runs the chain and reports the run: its steps with what became of every row and what they took, the first rows and a
    /// profile of the result, what was written and drawn, and what was read.
    ///
    /// # Errors
    /// As [`Flow::run`].
    pub fn report(&self, options: &RunOptions) -> Result<Report> {
        let plan = self.plan_with(options)?;
        plan.report_with(options)
    }
}

/// What a run gave.
struct Given {
    ran: Ran,
    result: Option<ReportRows>,
    profile: Option<Profile>,
    chart: Option<Chart>,
}

impl CheckedPlan {
    /// Runs the plan and reports the run.
    ///
    /// # Errors
    /// As [`CheckedPlan::run_with`].
    pub fn report_with(&self, options: &RunOptions) -> Result<Report> {
        let complete = self.complete(options)?;
        let checked = complete.checked();
        let inputs = checked.plan.files.all_read().into_iter().map(input).collect();
        let Given { ran, result, profile, chart } = checked.given(options)?;
        let (written, profile_of_last) = checked.outputs(options);
        let profile = profile.or(profile_of_last);
        let Ran { ledger, figures } = ran;
        let notes = checked.plan.notes.iter().cloned().chain(ledger.warnings()).collect();
        let picture = |ground| churn_draw::svg::write(&plan_picture(&checked.plan, ground));
        Ok(Report {
            title: "Report of a run".to_owned(),
            date: Timestamp::now().to_string().get(..10).unwrap_or_default().to_owned(),
            version: env!("CARGO_PKG_VERSION"),
            recipe: checked.flow.to_string(),
            given: checked.flow.given_values().to_vec(),
            notes,
            inputs,
            steps: steps(checked, &ledger, &figures),
            result,
            profile,
            written,
            charts: checked.drawn(chart),
            rewrites: checked.plan.fired.iter().map(|name| (*name).to_owned()).collect(),
            plan: [picture(churn_draw::colour::Ground::Light), picture(churn_draw::colour::Ground::Dark)],
            seconds: figures.elapsed.as_secs_f64(),
            threads: figures.threads,
            memory: figures.memory,
            most_held: figures.most_held,
            spilled: figures.spilled,
        })
    }

    /// Runs the plan for what it gives: a chart, files, or rows.
    fn given(&self, options: &RunOptions) -> Result<Given> {
        let (plan, settings) = (&self.plan, options.settings());
        let none = |ran| Given { ran, result: None, profile: None, chart: None };
        if let Some(drawing) = &self.drawing {
            let (output, figure) = FigureOutput::new(drawing);
            let ((), ran) = churn_exec::run(plan, settings, |_| Ok(ColumnarOutput::sink(Box::new(output))))?;
            let figure = figure.lock().unwrap_or_else(PoisonError::into_inner).take();
            return Ok(Given { chart: figure.map(|figure| Chart::new(figure, drawing)), ..none(ran) });
        }
        if plan.ends_in_write {
            return Ok(none(churn_exec::run_for_effect(plan, settings)?));
        }
        let fields = &plan.main.fields;
        let (((head, total), found), ran) = churn_exec::run(plan, settings, |run| {
            let profile = churn_exec::profile::sink(asked(fields, Detail::Columns)?, run.threads().clone())?;
            Ok(Both::sink(Head::sink(ROWS), profile))
        })?;
        let table = Table::new(fields.clone(), head, Some(total), Ledger::default());
        let profile = Profile::new(fields, Detail::Columns, found, Ledger::default())?;
        Ok(Given { result: Some(rows_of(&table)?), profile: Some(profile), ..none(ran) })
    }

    /// The files that were written, each with its first rows as it is read again; and of a chain that ends in `write` the
    /// profile of the last one.
    fn outputs(&self, options: &RunOptions) -> (Vec<ReportOutput>, Option<Profile>) {
        let last = self.plan.files.all_written().count().checked_sub(1).filter(|_| self.plan.ends_in_write);
        let mut profile = None;
        let output = |(number, (path, shown, part)): (usize, (&Path, &str, &WrittenPart))| {
            let again = self.read_again(path, part).plan_with(options);
            let rows = again.and_then(|again| match last {
                Some(last) if last == number => {
                    let given = again.given(options)?;
                    profile = given.profile;
                    Ok(given.result)
                }
                _ => rows_of(&again.run_head(ROWS, options)?).map(Some),
            });
            let about = std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file);
            // A picture and what is only written cannot be read.
            ReportOutput {
                path: shown.to_owned(),
                bytes: about.map(|about| about.len()),
                rows: rows.ok().flatten(),
            }
        };
        (self.plan.files.all_written().enumerate().map(output).collect(), profile)
    }

    /// A chain that reads what was written.
    fn read_again(&self, path: &Path, part: &WrittenPart) -> Flow {
        let options = match part {
            WrittenPart::Sheet(sheet) => crate::steps::ReadOptions::new().option("sheet", sheet.as_str()),
            _ => crate::steps::ReadOptions::new(),
        };
        self.flow.start_again(crate::steps::Read::new(path).with(options))
    }

    /// The charts of all steps that draw, in order.
    fn drawn(&self, last: Option<Chart>) -> Vec<ReportChart> {
        let written = self.charts.iter().filter_map(|chart| {
            let figure = chart.figure.lock().unwrap_or_else(PoisonError::into_inner).clone()?;
            Some(chart_of(&Chart::new(figure, &chart.drawing), Some(&chart.file)))
        });
        written.chain(last.map(|chart| chart_of(&chart, None))).collect()
    }
}

fn chart_of(chart: &Chart, file: Option<&str>) -> ReportChart {
    ReportChart {
        title: chart.title().to_owned(),
        description: chart.description(),
        file: file.map(str::to_owned),
        svg: [chart.clone().dark(false).svg(), chart.clone().dark(true).svg()],
    }
}

/// The steps of the ledger with the time of each; that of a step beside others goes to the one that it stands for.
fn steps(checked: &CheckedPlan, ledger: &Ledger, figures: &RunFigures) -> Vec<ReportStep> {
    let mut times = Vec::new();
    let mut aside = std::time::Duration::ZERO;
    for (number, info) in checked.plan.steps.iter().enumerate().filter(|(_, info)| info.runs) {
        aside += figures.time(number);
        if !info.aside {
            times.push(std::mem::take(&mut aside));
        }
    }
    let step = |(number, step): (usize, &churn_core::LedgerStep)| ReportStep {
        table: step.table.clone(),
        step: step.step.clone(),
        rows_in: step.rows_in,
        rows_out: step.rows_out,
        happened: step.what_happened(),
        examples: step.examples.iter().map(|(_, example)| example.clone()).collect(),
        seconds: times.get(number).map_or(0.0, std::time::Duration::as_secs_f64),
    };
    ledger.steps().iter().enumerate().map(step).collect()
}

fn input(path: &Path) -> ReportInput {
    let about = std::fs::metadata(path).ok();
    let modified = about.as_ref().and_then(|about| about.modified().ok());
    let modified = modified.and_then(|time| Timestamp::try_from(time).ok());
    ReportInput {
        path: path.display().to_string(),
        bytes: about.map(|about| about.len()),
        modified: modified.map(|time| time.strftime("%Y-%m-%d %H:%M:%S").to_string()),
        digest: None,
    }
}

/// The digest of a file's bytes.
pub(super) fn digest(path: &str) -> Result<String> {
    let failed = |error: std::io::Error| {
        Error::new(ErrorKind::Input, format!("{path} cannot be read for its digest: {error}."))
            .caused_by_io(&error)
    };
    let mut file = File::open(path).map_err(failed)?;
    let (mut hasher, mut buffer) = (Sha256::new(), vec![0; 1 << 18]);
    loop {
        let read = file.read(&mut buffer).map_err(failed)?;
        if read == 0 {
            break;
        }
        hasher.update(buffer.get(..read).unwrap_or_default());
    }
    Ok(hasher.finalize().iter().map(|byte| format!("{byte:02x}")).collect())
}

/// The rows of a table as texts.
fn rows_of(table: &Table) -> Result<ReportRows> {
    let columns: Vec<(String, String)> =
        table.columns().map(|(name, kind)| (name.to_owned(), kind.to_string())).collect();
    let values: Vec<Vec<Scalar>> =
        columns.iter().map(|(name, _)| table.values(name)).collect::<Result<_>>()?;
    let cell = |value: &Scalar| match value {
        Scalar::Null => None,
        Scalar::Float(value) => Some(shown(*value)),
        other => Some(other.plain()),
    };
    let row = |row: usize| values.iter().map(|column| column.get(row).and_then(cell)).collect();
    Ok(ReportRows { rows: (0..table.len()).map(row).collect(), columns, total: table.total_rows() })
}
