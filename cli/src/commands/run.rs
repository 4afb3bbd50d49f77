//! `churn do` and `churn run`: a chain or a recipe, its rows shown or written.

use churn::{CheckedPlan, ErrorKind, Flow, RunOptions};

use super::{account, chain_of, draw, of_trial, prepared, recipe_of};
use crate::Outcome;
use crate::arguments::{ChartShape, Do, Run, Running, Shape, Trial};
use crate::terminal::Failure;
use crate::{progress, terminal};

pub(crate) fn chain(arguments: &Do) -> Outcome {
    let outcome = tried(chain_of(&arguments.input, &arguments.steps), &arguments.trial, &arguments.running);
    outcome.map_err(|failure| match failure {
        Failure::Churn(error) if error.kind() == ErrorKind::Syntax && has_lone_word(&arguments.steps) => {
            Failure::Churn(
                error
                    .next("On the command line each step is one argument, in quotes: \"filter litres > 0\"."),
            )
        }
        other => other,
    })
}

/// Whether an argument is a step's first word alone: the rest of it was taken for arguments of their own.
fn has_lone_word(steps: &[String]) -> bool {
    steps.iter().any(|step| step.as_str() != "distinct" && churn::step(step).is_some())
}

pub(crate) fn recipe(arguments: &Run) -> Outcome {
    tried(recipe_of(&arguments.recipe)?, &arguments.trial, &arguments.running)
}

/// Runs a chain with the values that it is given.
pub(super) fn tried(flow: Flow, trial: &Trial, running: &Running) -> Outcome {
    let (flow, options) = of_trial(flow, trial, &running.resources);
    give(&flow, options, running)
}

/// Runs a chain and gives its rows as they were asked for.
fn give(flow: &Flow, options: RunOptions, running: &Running) -> Outcome {
    if running.format == Some(Shape::Recipe) {
        return terminal::out(flow.expanded()?);
    }
    let resources = &running.resources;
    if flow.ends_in_chart() {
        return give_chart(&prepared(flow, &options, resources)?, options, running);
    }
    let flow = match &running.output {
        Some(path) => flow.clone().then_write(path),
        None => flow.clone(),
    };
    let plan = prepared(&flow, &options, resources)?;
    if plan.writes_to_standard_output() && !plan.ends_in_write() {
        return Err(Failure::Request(
            "The result and a step would both write to standard output, among each other.\n  \
             Write one of them to a file: -o result.csv."
                .to_owned(),
        ));
    }
    let (options, bar) = progress::shown(options, resources.quiet);
    let shape = running.format.unwrap_or(if terminal::is_terminal() { Shape::Table } else { Shape::Csv });
    let written = |format: &str| plan.write_to(std::io::stdout(), format, &options);
    let ledger = if plan.ends_in_write() {
        plan.run_for_effect(&options)?
    } else {
        match shape {
            Shape::Table => {
                let table = plan.run_head(running.rows, &options)?;
                drop(bar);
                terminal::out(table.view(terminal::width(), running.rows))?;
                return account(table.ledger(), resources);
            }
            Shape::Markdown => written("markdown")?,
            Shape::Csv => written("csv")?,
            Shape::Tsv => written("tsv")?,
            Shape::Json => written("json")?,
            Shape::Ndjson => written("ndjson")?,
            Shape::Recipe => return Ok(()),
        }
    };
    drop(bar);
    account(&ledger, resources)
}

/// Runs a chain that ends in a chart, and shows or writes it.
fn give_chart(plan: &CheckedPlan, options: RunOptions, running: &Running) -> Outcome {
    let shape = match running.format {
        None => None,
        Some(Shape::Table) => Some(ChartShape::Table),
        Some(Shape::Csv) => Some(ChartShape::Csv),
        Some(_) => {
            return Err(Failure::Request(
                "The chain ends in a chart, whose figures are shown as a table or as csv.".to_owned(),
            ));
        }
    };
    draw::give(plan, options, running.output.as_deref(), shape, &running.resources, |chart| chart)
}
