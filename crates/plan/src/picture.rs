//! The picture of a plan: as written, beside as it will run.

use std::fmt;

use churn_core::aligned::{AlignedText, folded, wrapped};
use churn_core::names::{comma, name};

use crate::{Node, Plan};

/// The widths that notes are kept to.
const NOTES: std::ops::RangeInclusive<usize> = 28..=48;

/// Blanks between a step and its notes.
const GAP: usize = 3;

/// A step as written, and as it will run.
pub struct PlannedStep<'a> {
    /// Its number in the plan.
    pub number: usize,
    /// Its text.
    pub text: &'a str,
    /// The table that it belongs to; none for the main chain.
    pub table: Option<&'a str>,
    /// How it will run.
    pub notes: Vec<String>,
    /// The steps of other chains whose rows it takes, by their numbers.
    pub takes: Vec<usize>,
}

/// The steps of a plan in order, tables first; a step beside others is told with the one that it stands for.
pub fn steps(plan: &Plan) -> Vec<PlannedStep<'_>> {
    let nodes = plan.nodes();
    let mut aside = Vec::new();
    let mut planned: Vec<PlannedStep<'_>> = Vec::new();
    for (number, step) in plan.steps.iter().enumerate() {
        if step.aside {
            let notes = notes_of(number, plan, &nodes).into_iter();
            aside.extend(notes.map(|note| format!("{}: {note}", step.text)));
            continue;
        }
        let notes = if step.runs {
            aside.drain(..).chain(notes_of(number, plan, &nodes)).collect()
        } else {
            vec!["not run: nothing needs it".to_owned()]
        };
        let takes = takes(number, plan, &nodes);
        planned.push(PlannedStep { number, text: &step.text, table: step.table.as_deref(), notes, takes });
    }
    planned
}

/// The last steps of the chains whose rows a step takes.
fn takes(number: usize, plan: &Plan, nodes: &[&Node]) -> Vec<usize> {
    let table = |number: usize| plan.steps.get(number).and_then(|step| step.table.as_deref());
    let own = nodes.iter().filter(|node| node.step == number);
    let operators = own.map(|node| node.op.operator());
    let others = operators.flat_map(|operator| {
        operator
            .others()
            .into_iter()
            .chain(operator.shared().map(|shared| &**shared))
            .map(|node| node.step)
            .collect::<Vec<_>>()
    });
    let last_of = |name: &str| (0..number).rev().find(|number| table(*number) == Some(name));
    let read = plan.steps.get(number).and_then(|step| step.reads.as_deref()).and_then(last_of);
    let mut takes: Vec<usize> = others.chain(read).filter(|other| table(*other) != table(number)).collect();
    // What a table ends with gives its rows.
    takes.iter_mut().for_each(|other| {
        *other = table(*other).and_then(&last_of).unwrap_or(*other);
    });
    takes.sort_unstable();
    takes.dedup();
    takes
}

/// Writes the picture, as wide as this at most.
pub fn write(plan: &Plan, width: usize, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    let note_width = (width * 2 / 5).clamp(*NOTES.start(), *NOTES.end());
    let step_width = width.saturating_sub(note_width + GAP).max(*NOTES.start());
    let mut lines = AlignedText::default();
    lines.rows.push(vec!["as written".into(), "as it will run".into()]);
    let mut table: Option<&str> = None;
    for step in steps(plan) {
        if step.table.is_some() && step.table != table {
            let name = step.table.map(name).unwrap_or_default();
            lines.rows.push(vec![format!("table {name}")]);
        }
        table = step.table;
        let indent = if table.is_some() { "  " } else { "" };
        let mut text = step.text.lines().flat_map(|line| folded(line, step_width - indent.len()));
        let mut notes = step.notes.into_iter().flat_map(|note| wrapped(&note, note_width));
        loop {
            let (line, note) = (text.next(), notes.next());
            if line.is_none() && note.is_none() {
                break;
            }
            let line = line.map(|l| format!("{indent}{l}")).unwrap_or_default();
            lines.rows.push(vec![line, note.unwrap_or_default()]);
        }
    }
    lines.write(f, usize::MAX)?;
    let fired = match plan.fired.as_slice() {
        [] => "Nothing was rewritten.".to_owned(),
        fired => format!("Rewrites: {}.", comma(fired)),
    };
    writeln!(f)?;
    wrapped(&fired, width).iter().try_for_each(|line| writeln!(f, "{line}"))
}

/// What becomes of a step, line by line.
fn notes_of(step: usize, plan: &Plan, nodes: &[&Node]) -> Vec<String> {
    let own: Vec<&&Node> = nodes.iter().filter(|n| n.step == step).collect();
    let mut conditions = nodes.iter().flat_map(|node| node.op.operator().conditions());
    let moved = conditions.any(|condition| condition.step == step && !condition.early);
    let mut notes: Vec<String> = own.iter().rev().flat_map(|node| node.op.operator().explain()).collect();
    // A filter may be tested in several tables.
    notes.dedup();
    if moved {
        notes.insert(0, "tested while reading".into());
    }
    let is_read = plan.steps.get(step).is_some_and(|s| s.reads.is_some());
    if notes.is_empty() && is_read {
        notes.push("part of this chain".into());
    } else if notes.is_empty() && own.is_empty() {
        let is_window = plan.steps.get(step).is_some_and(|s| s.text.starts_with("window"));
        notes.push(if is_window { "worked out with the window after it" } else { "names only" }.into());
    }
    notes
}
