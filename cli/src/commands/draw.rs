//! `churn draw`: a chart of an input, shown or written.

use std::io::Write;
use std::path::Path;

use churn::{Chart, CheckedPlan, Flow, RunOptions};

use super::{account, chain_of, of_trial, prepared};
use crate::Outcome;
use crate::arguments::{ChartShape, Draw, Resources};
use crate::terminal::{Failure, is_terminal, out, screen};
use crate::{progress, terminal};

pub(crate) fn run(arguments: &Draw) -> Outcome {
    let Some((chart, steps)) = arguments.steps.split_last() else { return Ok(()) };
    let chart =
        if chart.split_whitespace().next() == Some("draw") { chart.clone() } else { format!("draw {chart}") };
    let steps: Vec<String> = steps.iter().cloned().chain([chart]).collect();
    let resources = &arguments.resources;
    let (flow, options) = of_trial(chain_of(&arguments.input, &steps), &arguments.trial, resources);
    let plan = prepared(&flow, &options, resources)?;
    if !flow.ends_in_chart() {
        // The chart says itself where it goes.
        let (options, _bar) = progress::shown(options, resources.quiet);
        return account(&plan.run_for_effect(&options)?, resources);
    }
    give(&plan, options, arguments.output.as_deref(), arguments.format, resources, |chart| {
        let chart = match arguments.size {
            Some((width, height)) => chart.size(width, height),
            None => chart,
        };
        if arguments.dark { chart.dark(true) } else { chart }
    })
}

/// Runs a plan that ends in a chart, and writes the chart, as it is to look, or shows it.
pub(super) fn give(
    plan: &CheckedPlan,
    options: RunOptions,
    output: Option<&Path>,
    format: Option<ChartShape>,
    resources: &Resources,
    look: impl FnOnce(Chart) -> Chart,
) -> Outcome {
    if let Some(path) = output {
        check_target(path)?;
        plan.may_write(path)?;
    }
    let (options, bar) = progress::shown(options, resources.quiet);
    let (chart, ledger) = plan.drawn_with(&options)?;
    drop(bar);
    let chart = look(chart);
    match output {
        Some(path) if ending(path) == "csv" => drop(figures(&chart)?.write(path)?),
        Some(path) => chart.write(path)?,
        None => show(&chart, format)?,
    }
    account(&ledger, resources)
}

fn ending(path: &Path) -> String {
    path.extension().map(|ending| ending.to_string_lossy().to_ascii_lowercase()).unwrap_or_default()
}

fn check_target(path: &Path) -> Outcome {
    if matches!(ending(path).as_str(), "svg" | "png" | "csv") {
        return Ok(());
    }
    Err(Failure::Request(format!(
        "The name {} tells no picture that can be drawn.\n  Charts are written as .svg or .png, and their figures as .csv.",
        path.display()
    )))
}

/// The figures of a chart as the start of a chain.
fn figures(chart: &Chart) -> Result<Flow, Failure> {
    Ok(Flow::batches_of(chart.data()?.batches()?)?)
}

/// Shows a chart on standard output.
fn show(chart: &Chart, format: Option<ChartShape>) -> Outcome {
    match format.unwrap_or(if is_terminal() { ChartShape::Text } else { ChartShape::Svg }) {
        ChartShape::Text => terminal::drawn(chart.text(screen())),
        ChartShape::Svg => {
            std::io::stdout().lock().write_all(chart.svg().as_bytes())?;
            Ok(())
        }
        ChartShape::Csv => {
            figures(chart)?.plan()?.write_to(std::io::stdout(), "csv", &RunOptions::new())?;
            Ok(())
        }
        ChartShape::Table => out(chart.data()?.view(terminal::width(), 1000)),
    }
}
