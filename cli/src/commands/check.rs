//! `churn check` and `churn plan`: what can be said before the run.

use churn::{CheckedPlan, Flow};

use super::input;
use crate::Outcome;
use crate::arguments::Check;
use crate::terminal::out;

/// A recipe if it is a recipe's name, else a chain.
fn flow(arguments: &Check) -> Result<Flow, crate::terminal::Failure> {
    let is_recipe = arguments.steps.is_empty() && arguments.input.ends_with(".churn");
    let flow = if is_recipe { Flow::recipe_file(&arguments.input)? } else { input(&arguments.input) };
    let flow = arguments.steps.iter().fold(flow, |flow, step| flow.then(step));
    Ok(arguments.given.iter().fold(flow, |flow, (name, value)| flow.given(name, value)))
}

pub(crate) fn check(arguments: &Check) -> Outcome {
    let plan = flow(arguments)?.plan()?;
    plan.notes().iter().for_each(crate::terminal::note);
    let columns: Vec<String> = plan.columns().map(|(name, kind)| format!("  {name}  {kind}\n")).collect();
    out(format!("No mistakes in {} steps. The result's columns:\n\n", plan.steps().count()))?;
    out(aligned(&columns))
}

/// Names padded so that the types stand below each other.
fn aligned(lines: &[String]) -> String {
    let cells: Vec<(&str, &str)> = lines.iter().filter_map(|l| l.trim().rsplit_once("  ")).collect();
    let width = cells.iter().map(|(name, _)| unicode_width::UnicodeWidthStr::width(*name)).max().unwrap_or(0);
    cells.iter().fold(String::new(), |text, (name, kind)| {
        let gap = width - unicode_width::UnicodeWidthStr::width(*name);
        format!("{text}  {name}{:gap$}  {kind}\n", "")
    })
}

pub(crate) fn plan(arguments: &Check) -> Outcome {
    let plan: CheckedPlan = flow(arguments)?.plan()?;
    out(plan)
}
