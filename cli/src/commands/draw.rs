//! `churn draw`: a chart of an input, shown or written.

use std::io::Write;
use std::path::Path;

use churn::{Chart, RunOptions};

use super::{account, chain_of, options, prepared};
use crate::Outcome;
use crate::arguments::{ChartShape, Draw, Resources};
use crate::terminal::{Failure, is_terminal, out, screen};
use crate::{progress, terminal};

pub(crate) fn run(arguments: &Draw) -> Outcome {
    let Some((chart, steps)) = arguments.steps.split_last() else { return Ok(()) };
    let chart =
        if chart.split_whitespace().next() == Some("draw") { chart.clone() } else { format!("draw {chart}") };
    let steps: Vec<String> = steps.iter().cloned().chain([chart]).collect();
    let flow = chain_of(&arguments.input, &steps);
    let flow = arguments.trial.given.iter().fold(flow, |flow, (name, value)| flow.given(name, value));
    let mut options = options(&arguments.resources);
    if let Some(rows) = arguments.trial.first {
        options = options.first_rows(rows);
    }
    let plan = prepared(&flow, &options, &arguments.resources)?;
    if !flow.ends_in_chart() {
        // The chart says itself where it goes.
        let (options, _bar) = progress::shown(options, arguments.resources.quiet);
        return account(&plan.run_for_effect(&options)?, &arguments.resources);
    }
    if let Some(path) = &arguments.output {
        check_target(path)?;
        plan.may_write(path)?;
    }
    let (chart, ledger) = drawn(&plan, options, &arguments.resources)?;
    let chart = match arguments.size {
        Some((width, height)) => chart.size(width, height),
        None => chart,
    };
    let chart = if arguments.dark { chart.dark(true) } else { chart };
    match &arguments.output {
        Some(path) => write_file(&chart, path)?,
        None => show(&chart, arguments.format)?,
    }
    account(&ledger, &arguments.resources)
}

/// Runs a plan that ends in a chart.
pub(super) fn drawn(
    plan: &churn::CheckedPlan,
    options: RunOptions,
    resources: &Resources,
) -> Result<(Chart, churn::Ledger), Failure> {
    let (options, bar) = progress::shown(options, resources.quiet);
    let drawn = plan.drawn_with(&options)?;
    drop(bar);
    Ok(drawn)
}

fn ending(path: &Path) -> String {
    path.extension().map(|ending| ending.to_string_lossy().to_ascii_lowercase()).unwrap_or_default()
}

pub(super) fn check_target(path: &Path) -> Outcome {
    if matches!(ending(path).as_str(), "svg" | "png" | "csv") {
        return Ok(());
    }
    Err(Failure::Request(format!(
        "The name {} tells no picture that can be drawn.\n  Charts are written as .svg or .png, and their figures as .csv.",
        path.display()
    )))
}

/// Writes a chart to a file, in the format of its name.
pub(super) fn write_file(chart: &Chart, path: &Path) -> Outcome {
    let bytes = match ending(path).as_str() {
        "png" => chart.png(1.0)?,
        "csv" => return Ok(churn::write_file(path, &figures(chart)?)?),
        _ => chart.svg().into_bytes(),
    };
    Ok(churn::write_file(path, &bytes)?)
}

/// The figures of a chart as delimited text.
fn figures(chart: &Chart) -> Result<Vec<u8>, Failure> {
    let mut text = Vec::new();
    let table = chart.data()?;
    let batches = table.batches()?;
    let flow = churn::Flow::batches_of(batches)?;
    let (to, from) = std::sync::mpsc::channel();
    flow.plan()?.write_to(Sender(to), "csv", &RunOptions::new())?;
    from.into_iter().for_each(|bytes: Vec<u8>| text.extend(bytes));
    Ok(text)
}

/// Hands over what is written.
struct Sender(std::sync::mpsc::Sender<Vec<u8>>);

impl Write for Sender {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.send(bytes.to_vec()).map_err(std::io::Error::other)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Shows a chart on standard output.
pub(super) fn show(chart: &Chart, format: Option<ChartShape>) -> Outcome {
    match format.unwrap_or(if is_terminal() { ChartShape::Text } else { ChartShape::Svg }) {
        ChartShape::Text => terminal::drawn(chart.text(screen())),
        ChartShape::Svg => {
            std::io::stdout().lock().write_all(chart.svg().as_bytes())?;
            Ok(())
        }
        ChartShape::Csv => {
            std::io::stdout().lock().write_all(&figures(chart)?)?;
            Ok(())
        }
        ChartShape::Table => out(chart.data()?.view(terminal::width(), 1000)),
    }
}
