//! `churn report`: a recipe, run, and a page of what the run did.

use std::io::Write;
use std::path::Path;

use super::{of_trial, prepared, recipe_of};
use crate::Outcome;
use crate::arguments::Report;
use crate::progress;

pub(crate) fn run(arguments: &Report) -> Outcome {
    let recipe = recipe_of(&arguments.recipe)?;
    let (flow, options) = of_trial(recipe, &arguments.trial, &arguments.resources);
    let plan = prepared(&flow, &options, &arguments.resources)?;
    if let Some(path) = &arguments.output {
        plan.may_write(path)?;
    }
    let (options, bar) = progress::shown(options, arguments.resources.quiet);
    let report = plan.report_with(&options)?;
    drop(bar);
    let report = report.titled(&arguments.title.clone().unwrap_or_else(|| name_of(&arguments.recipe)));
    let report = match &arguments.date {
        Some(date) => report.dated(date),
        None => report,
    };
    let report = if arguments.digests { report.with_digests()? } else { report };
    let text = if arguments.json { report.json()? } else { report.html() };
    match &arguments.output {
        Some(path) => churn::write_file(path, text.as_bytes())?,
        None => std::io::stdout().lock().write_all(text.as_bytes())?,
    }
    Ok(())
}

/// A recipe's name without its folder and ending.
fn name_of(recipe: &Path) -> String {
    let stem = recipe.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    if recipe.as_os_str() == "-" { "A recipe".to_owned() } else { stem }
}
