//! The account of a run: step by step, how many rows came in and went out, and why.

use std::fmt;

use serde::Serialize;
use serde::ser::{SerializeMap, Serializer};

use crate::expr::{Event, Events};
use crate::io::source::About;
use crate::plan::Counters;
use crate::plan::{JoinKind, Op, Plan};
use crate::readable::{bytes, grouped, plural};
use crate::table::aligned::AlignedText;

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
    /// Rows that went out; `None` where the run stopped before all rows came to the step, as a `first` behind it
    /// had enough.
    pub rows_out: Option<u64>,
    /// What happened beside, with how often.
    pub events: Vec<(Event, u64)>,
    /// What a source read, in words.
    pub source: Option<String>,
    /// How it brings two tables together, if it does.
    pub joins: Option<JoinKind>,
    /// Columns whose nulls make a condition unknown; empty where it may be something else.
    pub nullable: Vec<String>,
}

impl Ledger {
    pub(crate) fn new(plan: &Plan, counters: &Counters) -> Ledger {
        let mut steps: Vec<LedgerStep> = Vec::new();
        let (mut aside, mut others) = (Events::default(), Vec::new());
        let stopped = plan.stopped_steps(counters);
        for (id, info) in plan.steps.iter().enumerate() {
            if !info.runs {
                continue;
            }
            let mut counted = counters.get(id);
            let is_stopped = stopped.get(id).copied().unwrap_or(false);
            if info.aside && is_stopped {
                continue;
            }
            if info.aside {
                aside.merge(&counted.events);
                let rows = plural(counted.rows, "row");
                others.extend(source_of(plan, id).map(|source| format!("{}: {rows}, {source}", info.text)));
                continue;
            }
            counted.events.merge(&std::mem::take(&mut aside));
            let before = steps.last().filter(|s| s.table == info.table).and_then(|s| s.rows_out);
            let of_table = || steps.iter().rev().find(|s| s.table == info.reads)?.rows_out;
            let rows_out = match (info.keeps_rows, &info.reads) {
                _ if is_stopped => None,
                (true, Some(_)) => of_table(),
                (true, None) => before,
                (false, _) => Some(counted.rows),
            };
            let events = Event::ALL.into_iter().map(|e| (e, counted.events.get(e)));
            let events = events.filter(|(_, n)| *n > 0 && !is_stopped);
            steps.push(LedgerStep {
                table: info.table.clone(),
                step: info.text.clone(),
                rows_in: before,
                rows_out,
                events: events.collect(),
                source: source_of(plan, id).or_else(|| (!others.is_empty()).then(|| others.join("; "))),
                joins: info.joins,
                nullable: condition_columns(plan, id),
            });
            others.clear();
        }
        Ledger { steps }
    }

    /// The steps that ran, tables first.
    pub fn steps(&self) -> &[LedgerStep] {
        &self.steps
    }

    /// What should be known without being asked for: joins that multiplied rows, or where many matched none.
    pub fn warnings(&self) -> Vec<String> {
        self.steps.iter().filter_map(LedgerStep::warning).collect()
    }

    /// How often something happened, over all steps.
    pub fn total(&self, event: Event) -> u64 {
        self.steps.iter().map(|step| step.count(event)).sum()
    }
}

impl LedgerStep {
    /// What happened, in words, one thing after the other.
    pub fn what_happened(&self) -> Vec<String> {
        let mut parts: Vec<String> = self.source.iter().cloned().collect();
        // The other table of a join is read whole before the first row comes out.
        if let (None, None, Some(source)) = (self.rows_out, self.joins, parts.first_mut()) {
            source.push_str(", as far as needed");
        }
        parts.extend(self.matches());
        for (event, count) in self.events.iter().filter(|(event, _)| !MATCHES.contains(event)) {
            let n = grouped(*count);
            parts.push(match event {
                Event::NotTrue => format!("{n} not true"),
                Event::Skipped => format!("{n} not true by the file's statistics"),
                Event::Prefiltered => {
                    format!("{} not true, left out before they were grouped", plural(*count, "row"))
                }
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
                Event::NoNumber => {
                    format!("{} (NaN, infinite) written as null", plural(*count, "value"))
                }
                Event::Repeated => format!("{n} repeated"),
                Event::NullGroup => format!("{} with a null key", plural(*count, "group")),
                Event::OtherValue => format!("{} with other values left out", plural(*count, "row")),
                Event::Empty => format!("{} without a value left out", plural(*count, "row")),
                Event::MissingPart => {
                    format!("{} with missing parts made null", plural(*count, "text"))
                }
                Event::MatchedNone | Event::MatchedSeveral | Event::OtherMatchedNone => n,
            });
        }
        parts
    }
}

/// What a join tells of its rows, whether it happened or not.
const MATCHES: [Event; 3] = [Event::MatchedNone, Event::MatchedSeveral, Event::OtherMatchedNone];

impl LedgerStep {
    /// How often something happened.
    pub fn count(&self, event: Event) -> u64 {
        self.events.iter().find(|(e, _)| *e == event).map_or(0, |(_, count)| *count)
    }

    /// What a join's rows matched, in words.
    fn matches(&self) -> Vec<String> {
        let tells = |kind: &JoinKind| *kind != JoinKind::Cross && self.rows_out.is_some();
        let Some(kind) = self.joins.filter(tells) else { return Vec::new() };
        let [none, several, other] = MATCHES.map(|event| self.count(event));
        let mut parts = vec![match none {
            0 => "all matched".to_owned(),
            n => format!("{} matched none", grouped(n)),
        }];
        if !kind.only_filters() {
            parts.push(match several {
                0 => "none matched several".to_owned(),
                n => format!("{} matched several", grouped(n)),
            });
        }
        if other > 0 {
            parts.push(format!("{} of the other table matched none", grouped(other)));
        }
        vec![parts.join("; ")]
    }

    /// What should be known of a join without being asked for: rows that were multiplied, many that matched none.
    fn warning(&self) -> Option<String> {
        let kind = self.joins.filter(|kind| !kind.only_filters() && *kind != JoinKind::Cross)?;
        let (rows_in, rows_out) = self.rows_in.zip(self.rows_out)?;
        let [none, several, other] = MATCHES.map(|event| self.count(event));
        let mut parts = Vec::new();
        if several > 0 {
            let out = grouped(rows_out);
            parts.push(format!(
                "{} matched several rows, so that {} became {out}",
                grouped(several),
                plural(rows_in, "row")
            ));
        }
        if none * 10 > rows_in {
            let fate = if kind.keeps_left() { "kept with nulls" } else { "left out" };
            parts.push(format!(
                "{} of {} matched none and were {fate}",
                grouped(none),
                plural(rows_in, "row")
            ));
        }
        if kind.keeps_other() && other * 10 > rows_out {
            parts.push(format!(
                "{} of the other table matched none and were kept with nulls",
                plural(other, "row")
            ));
        }
        let step = self.step.lines().next().unwrap_or_default();
        (!parts.is_empty()).then(|| format!("{step}: {}.", parts.join("; ")))
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
        if let Some(condition) = condition.filter(|c| c.is_infallible() && !c.has_null()) {
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

/// What stands for the rows of a step that not all rows came to.
const NOT_COUNTED: &str = "·";

/// A ledger within a width.
struct Shown<'a> {
    ledger: &'a Ledger,
    width: usize,
}

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut lines = AlignedText { rows: Vec::new(), numbers_first: true };
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
                let rows = match step.rows_out {
                    _ if i > 0 => String::new(),
                    Some(rows) => grouped(rows),
                    None => NOT_COUNTED.to_owned(),
                };
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
        let told = if self.joins.is_some() && self.rows_out.is_some() { &MATCHES[..] } else { &[] };
        for event in Event::ALL.iter().filter(|event| told.contains(event) || self.count(**event) > 0) {
            map.serialize_entry(event.name(), &self.count(*event))?;
        }
        map.end()
    }
}
