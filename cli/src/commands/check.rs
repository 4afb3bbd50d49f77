//! `churn check` and `churn plan`: what can be said before the run.

use std::io::Write;
use std::path::Path;

use churn::{CheckedPlan, Flow, readable_count};

use super::{chain_of, recipe_of};
use crate::Outcome;
use crate::arguments::{Check, Plan, PlanShape};
use crate::terminal::{aligned, out, width};

/// A recipe if it is a recipe's name, else a chain.
fn flow(arguments: &Check) -> Result<Flow, crate::terminal::Failure> {
    let is_named_so = [".churn", ".sql"].iter().any(|ending| arguments.input.ends_with(ending));
    let is_recipe = arguments.steps.is_empty() && (is_named_so || arguments.input == "-");
    let flow = if is_recipe {
        recipe_of(Path::new(&arguments.input))?
    } else {
        chain_of(&arguments.input, &arguments.steps)
    };
    Ok(arguments.given.iter().fold(flow, |flow, (name, value)| flow.given(name, value)))
}

pub(crate) fn check(arguments: &Check) -> Outcome {
    let plan = flow(arguments)?.plan()?;
    plan.notes().iter().for_each(crate::terminal::note);
    let steps = match plan.steps().count() {
        1 => "1 step".to_owned(),
        steps => format!("{steps} steps"),
    };
    if let Some(why) = plan.open() {
        return out(format!("No mistakes in the first {steps}.\n\n{why}\n"));
    }
    out(format!("No mistakes in {steps}.{} The result's columns:\n\n", inferred(&plan)))?;
    out(aligned("  ", plan.columns().map(|(name, kind)| (name, kind.to_string()))))
}

/// What the types of columns were inferred from, of all sources together.
fn inferred(plan: &CheckedPlan) -> String {
    let sources = plan.sources();
    let looked: Vec<_> = sources.iter().filter_map(|source| source.rows_looked_at).collect();
    let is_all = sources.iter().all(|source| source.rows_looked_at.is_none() || source.looked_at_all);
    match looked.iter().sum::<u64>() {
        _ if looked.is_empty() => String::new(),
        _ if is_all => " Column types were inferred from all rows.".to_owned(),
        rows => format!(" Column types were inferred from {} rows here and there.", readable_count(rows)),
    }
}

pub(crate) fn plan(arguments: &Plan) -> Outcome {
    let plan: CheckedPlan = flow(&arguments.chain)?.plan()?;
    if arguments.format == Some(PlanShape::Svg) {
        return Ok(std::io::stdout().lock().write_all(plan.svg(false).as_bytes())?);
    }
    let why = plan.open().map(|why| format!("\n{why}\n")).unwrap_or_default();
    out(format!("{}{why}", plan.picture(width())))
}
