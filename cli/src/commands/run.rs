//! `churn do` and `churn run`: a chain or a recipe, its rows shown or written.

use churn::{Flow, RunOptions};

use super::{account, input, options, prepared};
use crate::Outcome;
use crate::arguments::{Do, Run, Running, Shape};
use crate::terminal::Failure;
use crate::{progress, terminal};

pub(crate) fn chain(arguments: &Do) -> Outcome {
    let flow = arguments.steps.iter().fold(input(&arguments.input), |flow, step| flow.then(step));
    give(&flow, options(&arguments.running.resources), &arguments.running)
}

pub(crate) fn recipe(arguments: &Run) -> Outcome {
    let flow = Flow::recipe_file(&arguments.recipe)?;
    let flow = arguments.given.iter().fold(flow, |flow, (name, value)| flow.given(name, value));
    let mut options = options(&arguments.running.resources);
    if let Some(rows) = arguments.first {
        options = options.first_rows(rows);
    }
    give(&flow, options, &arguments.running)
}

/// Runs a chain and gives its rows as they were asked for.
fn give(flow: &Flow, options: RunOptions, running: &Running) -> Outcome {
    let resources = &running.resources;
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
        }
    };
    drop(bar);
    account(&ledger, resources)
}
