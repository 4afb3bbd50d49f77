//! The account of a run: step by step, how many rows came in and went out, and why.

use std::fmt;

use serde::Serialize;
use serde::ser::{SerializeMap, Serializer};

use super::tally::Tally;
use crate::expr::Event;
use crate::io::source::About;
use crate::plan::{Op, Plan};
use crate::table::beside::Beside;
use crate::table::numbers::{bytes, grouped, plural};

/// What became of every row.
///
/// `Display` gives the recipe line by line with the account in the margin; serialised, it is the same for
/// programs.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ledger {
    steps: Vec<LedgerStep>,
}

/// The account of one step.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LedgerStep {
    /// The table it belongs to; `None` for the main chain.
    pub table: Option<String>,
    /// The step in canonical text.
    pub step: String,
    /// Rows that came in; `None` for a step that starts a chain.
    pub rows_in: Option<u64>,
    /// Rows that went out.
    pub rows_out: u64,
    /// What happened beside, with how often.
    pub events: Vec<(Event, u64)>,
    /// What a source read, in words.
    pub source: Option<String>,
    /// Columns whose nulls make a condition unknown; empty where it may be something else.
    pub nullable: Vec<String>,
}

impl Ledger {
    pub(crate) fn new(plan: &Plan, tally: &Tally) -> Ledger {
        let mut steps: Vec<LedgerStep> = Vec::new();
        for (id, info) in plan.steps.iter().enumerate() {
            if !info.runs {
                continue;
            }
            let counted = tally.get(id);
            let before = steps.last().filter(|s| s.table == info.table).map(|s| s.rows_out);
            let of_table = || steps.iter().rev().find(|s| s.table == info.reads).map_or(0, |s| s.rows_out);
            let rows_out = match (info.keeps_rows, &info.reads) {
                (true, Some(_)) => of_table(),
                (true, None) => before.unwrap_or(0),
                (false, _) => counted.rows,
            };
            let events = Event::ALL.into_iter().map(|e| (e, counted.events.get(e))).filter(|(_, n)| *n > 0);
            steps.push(LedgerStep {
                table: info.table.clone(),
                step: info.text.clone(),
                rows_in: before,
                rows_out,
                events: events.collect(),
                source: source_of(plan, id),
                nullable: condition_columns(plan, id),
            });
        }
        Ledger { steps }
    }

    /// The steps that ran, tables first.
    pub fn steps(&self) -> &[LedgerStep] {
        &self.steps
    }

    /// How often something happened, over all steps.
    pub fn total(&self, event: Event) -> u64 {
        self.steps.iter().flat_map(|s| &s.events).filter(|(e, _)| *e == event).map(|(_, n)| n).sum()
    }
}

impl LedgerStep {
    /// What happened, in words, one thing after the other.
    pub fn what_happened(&self) -> Vec<String> {
        let mut parts: Vec<String> = self.source.iter().cloned().collect();
        for (event, count) in &self.events {
            let n = grouped(*count);
            parts.push(match event {
                Event::NotTrue => format!("{n} not true"),
                Event::Skipped => format!("{n} not true by the file's statistics"),
                Event::Unknown => match self.nullable.as_slice() {
                    [] => format!("{n} unknown: something is null"),
                    names => format!("{n} unknown: {} is null", names.join(" or ")),
                },
                Event::RaggedRow => {
                    format!("{} with the wrong number of cells left out", plural(*count, "row"))
                }
                Event::BadCell => format!("{} made null", plural(*count, "bad cell")),
                Event::FailedCast => format!("{} made null", plural(*count, "failed cast")),
                Event::ZeroDivision => format!("{} by zero made null", plural(*count, "division")),
                Event::OutOfDomain => {
                    format!("{} out of a function's domain made null", plural(*count, "value"))
                }
                Event::Repeated => format!("{n} repeated"),
                Event::NullGroup => format!("{} with a null key", plural(*count, "group")),
            });
        }
        parts
    }
}

/// What a step's source is, in words.
fn source_of(plan: &Plan, step: usize) -> Option<String> {
    let scan = scans(plan).into_iter().find(|(id, _)| *id == step)?.1;
    let About { files, bytes: size, .. } = scan.source.about();
    if *files == 0 {
        return None;
    }
    let mut parts = vec![plural(*files as u64, "file")];
    parts.extend(size.filter(|b| *b > 0).map(bytes));
    let all = scan.source.columns().len();
    parts.push(format!("{} of {}", scan.columns.len(), plural(all as u64, "column")));
    Some(parts.join(", "))
}

/// The few columns that a filter's condition uses, if nothing else can make it unknown.
fn condition_columns(plan: &Plan, step: usize) -> Vec<String> {
    let mut used = None;
    for node in plan.nodes() {
        let condition = match &node.op {
            Op::Filter(condition) if node.step == step => Some(condition),
            Op::Scan(scan) => scan.conditions.iter().find(|c| c.step == step).map(|c| &c.test),
            _ => None,
        };
        if let Some(condition) = condition.filter(|c| c.is_quiet()) {
            let mut columns = Vec::new();
            condition.columns(&mut columns);
            let names = columns.iter().filter_map(|id| node.field(*id)).map(|f| crate::text::name(&f.name));
            used = Some(names.collect());
        }
    }
    used.filter(|names: &Vec<String>| names.len() <= 3).unwrap_or_default()
}

/// All scans of a plan with their steps.
pub(crate) fn scans(plan: &Plan) -> Vec<(usize, &crate::plan::node::Scan)> {
    plan.nodes()
        .into_iter()
        .filter_map(|node| if let Op::Scan(scan) = &node.op { Some((node.step, scan)) } else { None })
        .collect()
}

impl Ledger {
    /// The ledger as text, no wider than `width` columns of a terminal: long lines of the recipe are cut.
    pub fn view(&self, width: usize) -> impl fmt::Display + '_ {
        Shown { ledger: self, width }
    }
}

impl fmt::Display for Ledger {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.view(usize::MAX).fmt(f)
    }
}

/// A ledger within a width.
struct Shown<'a> {
    ledger: &'a Ledger,
    width: usize,
}

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut lines = Beside { rows: Vec::new(), numbers_first: true };
        lines.rows.push(vec!["rows out".into(), "what happened".into(), "recipe".into()]);
        let mut table: Option<&String> = None;
        for step in &self.ledger.steps {
            if step.table.is_some() && step.table.as_ref() != table {
                let name = step.table.as_deref().map(crate::text::name).unwrap_or_default();
                lines.rows.push(vec![String::new(), String::new(), format!("table {name}")]);
            }
            table = step.table.as_ref();
            let indent = if table.is_some() { "  " } else { "" };
            let happened = step.what_happened();
            let mut happened = happened.into_iter();
            let mut text = step.step.lines();
            for i in 0.. {
                let (what, line) = (happened.next(), text.next());
                if what.is_none() && line.is_none() {
                    break;
                }
                let rows = if i == 0 { grouped(step.rows_out) } else { String::new() };
                let line = line.map(|l| format!("{indent}{l}")).unwrap_or_default();
                lines.rows.push(vec![rows, what.unwrap_or_default(), line]);
            }
        }
        lines.write(f, self.width)
    }
}

impl Serialize for Ledger {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(1))?;
        map.serialize_entry("steps", &self.steps)?;
        map.end()
    }
}

impl Serialize for LedgerStep {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("table", &self.table)?;
        map.serialize_entry("step", &self.step)?;
        map.serialize_entry("rows_in", &self.rows_in)?;
        map.serialize_entry("rows_out", &self.rows_out)?;
        for (event, count) in &self.events {
            map.serialize_entry(event.name(), count)?;
        }
        map.end()
    }
}
