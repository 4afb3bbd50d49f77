//! `churn help`: the language, from the catalogue that the checker uses.

use churn::{Family, Function};
use clap::CommandFactory;

use crate::Outcome;
use crate::arguments::{Arguments, Help};
use crate::terminal::{Failure, out};

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
    let width = churn::STEPS.iter().map(|s| s.usage.chars().count()).max().unwrap_or(0);
    churn::STEPS.iter().fold(String::new(), |text, step| {
        let gap = width - step.usage.chars().count();
        format!("{text}{}{:gap$}  {}\n", step.usage, "", step.summary)
    })
}

fn functions() -> String {
    let mut text = String::new();
    for family in [Family::Number, Family::Text, Family::Date, Family::Null, Family::List] {
        let members: Vec<(&str, &str)> =
            churn::functions().filter(|f| f.family == family).map(|f| (f.usage, f.summary)).collect();
        text.push_str(&block(family.title(), &members));
    }
    let members: Vec<(&str, &str)> = churn::aggregates().map(|a| (a.usage, a.summary)).collect();
    text.push_str(&block(Family::Aggregate.title(), &members));
    text
}

fn block(title: &str, members: &[(&str, &str)]) -> String {
    let width = members.iter().map(|(usage, _)| usage.chars().count()).max().unwrap_or(0);
    let mut text = format!("{title}\n");
    for (usage, summary) in members {
        let gap = width - usage.chars().count();
        text.push_str(&format!("  {usage}{:gap$}  {summary}\n", ""));
    }
    text + "\n"
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
    if parts.is_empty() {
        return Err(Failure::Request(format!(
            "There is no step or function {name}.\n  churn help steps and churn help functions list them."
        )));
    }
    Ok(parts.join("\n"))
}
