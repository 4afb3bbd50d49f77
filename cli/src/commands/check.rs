//! `churn check` and `churn plan`: what can be said before the run.

use churn::{CheckedPlan, Flow};

use super::input;
use crate::Outcome;
use crate::arguments::Check;
use crate::terminal::{aligned, out};

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
    let steps = plan.steps().count();
    if let Some(why) = plan.open() {
        return out(format!("No mistakes in the first {steps} steps.\n\n{why}\n"));
    }
    out(format!("No mistakes in {steps} steps. The result's columns:\n\n"))?;
    out(aligned("  ", plan.columns().map(|(name, kind)| (name, kind.to_string()))))
}

pub(crate) fn plan(arguments: &Check) -> Outcome {
    let plan: CheckedPlan = flow(arguments)?.plan()?;
    let why = plan.open().map(|why| format!("\n{why}\n")).unwrap_or_default();
    out(format!("{plan}{why}"))
}
