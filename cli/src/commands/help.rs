//! `churn help`: the language, from the catalogue that the checker uses.

use churn::{Family, Function};
use clap::CommandFactory;

use crate::Outcome;
use crate::arguments::{Arguments, Help};
use crate::terminal::{Failure, aligned, out};

pub(crate) fn run(arguments: &Help) -> Outcome {
    let topic = arguments.topic.as_deref().map(str::to_lowercase);
    match topic.as_deref() {
        None => {
            let mut command = Arguments::command();
            out(command.render_long_help())
        }
        Some("steps") => out(steps()),
        Some("functions") => out(functions()),
        Some(name) => out(one(name)?),
    }
}

fn steps() -> String {
    aligned("", churn::STEPS.iter().map(|step| (step.usage, step.summary.to_owned())))
}

fn functions() -> String {
    let mut text = String::new();
    for family in [Family::Number, Family::Text, Family::Date, Family::Null, Family::List] {
        let members = churn::functions().filter(|f| f.family == family);
        let members = members.map(|f| (f.usage, f.summary.to_owned()));
        text.push_str(&format!("{}\n{}\n", family.title(), aligned("  ", members)));
    }
    let members = churn::aggregates().map(|a| (a.usage, a.summary.to_owned()));
    text.push_str(&format!("{}\n{}\n", Family::Aggregate.title(), aligned("  ", members)));
    let members = churn::window_functions().map(|f| (f.usage, f.summary.to_owned()));
    text.push_str(&format!("In a window, with every aggregate\n{}\n", aligned("  ", members)));
    text
}

/// One step, function or aggregate.
fn one(name: &str) -> Result<String, Failure> {
    let mut parts = Vec::new();
    if let Some(step) = churn::step(name) {
        parts.push(format!("{}\n\n  {}\n\n  Example: {}\n", step.usage, step.summary, step.example));
    }
    for Function { usage, summary, example: (expression, value), .. } in
        churn::functions().filter(|f| f.name == name)
    {
        parts.push(format!("{usage}\n\n  {summary}\n\n  Example: {expression} is {value}\n"));
    }
    for aggregate in churn::aggregates().filter(|a| a.name == name) {
        parts.push(format!(
            "{}\n\n  {}\n\n  An aggregate: it stands in group and total, and elsewhere with per.\n",
            aggregate.usage, aggregate.summary
        ));
    }
    for function in churn::window_functions().filter(|f| f.name == name) {
        let frame = if function.takes_frame { ", with a frame: over last 7 rows" } else { "" };
        parts
            .push(format!("{}\n\n  {}\n\n  It stands in window{frame}.\n", function.usage, function.summary));
    }
    if parts.is_empty() {
        return Err(Failure::Request(format!(
            "There is no step or function {name}.\n  churn help steps and churn help functions list them."
        )));
    }
    Ok(parts.join("\n"))
}
