//! The picture of a plan: as written, beside as it will run.

use std::fmt;

use churn_core::aligned::{AlignedText, wrapped};
use churn_core::names::{comma, name};
use churn_core::readable::{bytes, grouped, plural};

use super::node::SampleSize;
use super::{Node, Op, Plan};

/// The width that a note is kept to.
const NOTE: usize = 48;

/// Writes the picture.
pub fn write(plan: &Plan, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    let nodes = plan.nodes();
    let mut lines = AlignedText::default();
    lines.rows.push(vec!["as written".into(), "as it will run".into()]);
    let mut table: Option<&String> = None;
    let mut aside = Vec::new();
    for (id, step) in plan.steps.iter().enumerate() {
        if step.aside {
            let notes = notes_of(id, plan, &nodes).into_iter();
            aside.extend(notes.map(|note| format!("{}: {note}", step.text)));
            continue;
        }
        if step.table.is_some() && step.table.as_ref() != table {
            let name = step.table.as_deref().map(name).unwrap_or_default();
            lines.rows.push(vec![format!("table {name}")]);
        }
        table = step.table.as_ref();
        let indent = if table.is_some() { "  " } else { "" };
        let notes = if step.runs {
            aside.drain(..).chain(notes_of(id, plan, &nodes)).collect()
        } else {
            vec!["not run: nothing needs it".to_owned()]
        };
        let mut text = step.text.lines();
        let mut notes = notes.into_iter().flat_map(|note| wrapped(&note, NOTE));
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
    match plan.fired.as_slice() {
        [] => writeln!(f, "\nNothing was rewritten."),
        fired => writeln!(f, "\nRewrites: {}.", comma(fired)),
    }
}

/// What becomes of a step, line by line.
fn notes_of(step: usize, plan: &Plan, nodes: &[&Node]) -> Vec<String> {
    let own: Vec<&&Node> = nodes.iter().filter(|n| n.step == step).collect();
    let moved = nodes.iter().any(|n| match &n.op {
        Op::Scan(scan) => scan.conditions.iter().any(|c| c.step == step && !c.early),
        _ => false,
    });
    if moved {
        return vec!["tested while reading".into()];
    }
    let mut notes: Vec<String> = own.iter().rev().flat_map(|node| notes(node)).collect();
    let is_read = plan.steps.get(step).is_some_and(|s| s.reads.is_some());
    if notes.is_empty() && is_read {
        notes.push("part of this chain".into());
    } else if notes.is_empty() && own.is_empty() {
        let is_window = plan.steps.get(step).is_some_and(|s| s.text.starts_with("window"));
        notes.push(if is_window { "worked out with the window after it" } else { "names only" }.into());
    }
    notes
}

fn notes(node: &Node) -> Vec<String> {
    match &node.op {
        Op::Scan(scan) => {
            let about = scan.source.about();
            if about.files == 0 {
                return vec![about.rows.map(|n| plural(n, "row")).unwrap_or_default()];
            }
            let all = scan.source.columns().len();
            let size = about.bytes.filter(|b| *b > 0).map(|b| format!(", {}", bytes(b))).unwrap_or_default();
            let files = plural(about.files as u64, "file");
            let mut notes =
                vec![format!("{files}{size}; {} of {}", scan.columns.len(), plural(all as u64, "column"))];
            if scan.columns.len() < all {
                notes.push(match scan.columns.len() {
                    0 => "only counts the rows".into(),
                    _ => format!("reads {}", comma(scan.columns.iter().map(|(_, f)| name(&f.name)))),
                });
            }
            if let Some(limit) = scan.limit {
                notes.push(format!("stops after {}", plural(limit as u64, "row")));
            }
            notes
        }
        Op::Shared { kept, .. } => {
            let columns = plural(kept.len() as u64, "column");
            vec![format!("runs once for all that read it; holds {columns} of its rows")]
        }
        Op::Compute(columns) => match columns.len() {
            0 => vec!["not computed: nobody needs it".into()],
            n => vec![format!("computes {}, row by row", plural(n as u64, "column"))],
        },
        Op::Filter(_) => vec!["row by row".into()],
        Op::Prefilter(_) => vec!["tested before the rows are grouped".into()],
        Op::Sort { keep: Some(keep), .. } => vec![format!("holds about {} rows", grouped(*keep as u64))],
        Op::Sort { .. } => vec!["holds all rows".into()],
        Op::First { per, .. } if per.is_empty() => vec!["stops when it has them".into()],
        Op::First { .. } => vec!["holds a number for each group".into()],
        Op::Last { count, per } if per.is_empty() => vec![format!("holds {}", plural(*count as u64, "row"))],
        Op::Last { .. } => vec!["holds all rows".into()],
        Op::Sample { size: SampleSize::Rows(n), .. } => vec![format!("holds {}", plural(*n as u64, "row"))],
        Op::Sample { .. } | Op::Require { .. } => vec!["row by row".into()],
        Op::Distinct(_) => vec!["holds the keys of the rows that stay".into()],
        Op::Group { keys, .. } if keys.is_empty() => vec!["holds one row".into()],
        Op::Group { .. } => vec!["holds one row for each group".into()],
        Op::Per { .. } => vec!["holds all rows, to set the aggregate beside each".into()],
        Op::Window(window) => {
            let calls = plural(window.calls.len() as u64, "call");
            vec![format!("holds all rows, to work out {calls} over them in order")]
        }
        Op::RequireUnique { .. } => vec!["holds the keys".into()],
        Op::Join(join) => {
            let side = if join.keys.is_empty() {
                "holds the other table"
            } else {
                "holds the other table by its keys"
            };
            let mut notes = vec![side.into()];
            if !join.prefilter.is_empty() {
                notes.push("makes only rows that may pass the filter".into());
            }
            notes
        }
        Op::Unpivot(how) => vec![format!("makes {} of each", plural(how.rows.len() as u64, "row"))],
        Op::Pivot(how) => {
            vec![format!("holds one row for each group; {}", plural(how.cells.len() as u64, "new column"))]
        }
        Op::Totals(_) => vec!["counts each row for its totals, too".into()],
        Op::Unnest(_) => vec!["row by row".into()],
        Op::Append { others, .. } => {
            vec![format!("then the rows of {}", plural(others.len() as u64, "other table"))]
        }
        Op::Paste { .. } => vec!["holds the other table".into()],
        Op::Write(target) => vec![format!("writes {}", plural(target.fields.len() as u64, "column"))],
    }
}
