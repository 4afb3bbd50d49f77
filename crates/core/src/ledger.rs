//! The account of a run: step by step, how many rows came in and went out, and why.

use std::fmt;

use serde::Serialize;
use serde::ser::{SerializeMap, Serializer};

use crate::aligned::AlignedText;
use crate::readable::{grouped, plural};
use crate::{Event, JoinKind, Scalar};

/// What became of every row.
///
/// `Display` gives the recipe line by line with the account in the margin; serialised, it is the same for
/// programs.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ledger {
    steps: Vec<LedgerStep>,
    now: Option<i64>,
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
    /// Cells and rows that were made null or left out, the first few in their order: what happened, and the value with its
    /// place.
    pub examples: Vec<(Event, String)>,
    /// What a source read, in words.
    pub source: Option<String>,
    /// How it brings two tables together, if it does.
    pub joins: Option<JoinKind>,
    /// Columns whose nulls make a condition unknown; empty where it may be something else.
    pub nullable: Vec<String>,
}

impl Ledger {
    /// A ledger of these steps, in the order in which they ran, with what `now()` stood for if it was used: microseconds
    /// from 1970-01-01 00:00.
    pub fn new(steps: Vec<LedgerStep>, now: Option<i64>) -> Ledger {
        Ledger { steps, now }
    }

    /// What `now()` stood for, if the steps use it or `today()`.
    pub fn now(&self) -> Option<Scalar> {
        self.now.map(Scalar::Timestamp)
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
                Event::PaddedRow => format!("{} filled with nulls", plural(*count, "short row")),
                Event::Made => format!("{} added for combinations that did not occur", plural(*count, "row")),
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
                let name = step.table.as_deref().map(crate::names::name).unwrap_or_default();
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
        lines.write(f, self.width)?;
        match self.ledger.now() {
            Some(now) => writeln!(f, "\nnow() was {}.", now.plain()),
            None => Ok(()),
        }
    }
}

impl Serialize for Ledger {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("steps", &self.steps)?;
        if let Some(now) = self.now() {
            map.serialize_entry("now", &now.plain())?;
        }
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
        if !self.examples.is_empty() {
            let texts: Vec<&str> = self.examples.iter().map(|(_, example)| example.as_str()).collect();
            map.serialize_entry("examples", &texts)?;
        }
        map.end()
    }
}
