//! The operators of a plan.
//!
//! An operator adds columns to those of its input, or makes new ones; it never renames and never drops. Names
//! belong to a `Relation`, and what nobody needs is left out by the rule `prune`.

use std::path::PathBuf;
use std::sync::Arc;

use churn_core::{ColumnId, Field, StepId, deep};
use churn_expr::Bound;
use churn_expr::bind::AggregateCall;
use churn_io::format::{Format, WriteOptions};
use churn_io::source::Source;
use churn_io::target::Mode;

use super::join::Join;
use super::reshape::{Pivot, Totals, Unnest, Unpivot};
use super::window::Window;

/// An operator over the rows of its input.
#[derive(Clone)]
pub struct Node {
    /// What it does.
    pub op: Op,
    /// The operator below; none for a scan.
    pub input: Option<Box<Node>>,
    /// The step that it belongs to.
    pub step: StepId,
}

/// What an operator does.
#[derive(Clone)]
#[allow(missing_docs, reason = "each variant's own line tells what its fields are")]
pub enum Op {
    /// Reads a source.
    Scan(Scan),
    /// The rows of a table that is used more than once, and so run once; its columns, and what they are here.
    Shared {
        table: usize,
        input: Arc<Node>,
        /// The columns that are used here: their numbers below, and what they are here.
        columns: Vec<(ColumnId, Field)>,
        /// The columns, by their numbers below, that are kept for all that use it.
        kept: Vec<ColumnId>,
    },
    /// Adds columns.
    Compute(Vec<(Field, Bound)>),
    /// Keeps the rows where a condition is true.
    Filter(Bound),
    /// Leaves rows out early that a filter above would leave out.
    Prefilter(Bound),
    /// Sorts, stably; with `keep` only the first so many are wanted.
    Sort { keys: Vec<SortKey>, keep: Option<usize> },
    /// The first rows after some, of the table or of each group.
    First { count: usize, after: usize, per: Vec<ColumnId> },
    /// The last rows, of the table or of each group.
    Last { count: usize, per: Vec<ColumnId> },
    /// Random rows: so many, or each with a chance.
    Sample { size: SampleSize, seed: u64 },
    /// The first of rows that are equal in these columns.
    Distinct(Vec<ColumnId>),
    /// A row for each group: keys, then aggregates. No keys: one row for all.
    Group { keys: Vec<(Field, Bound)>, calls: Vec<AggregateCall> },
    /// Aggregates of each row's group beside it.
    Per { keys: Vec<ColumnId>, calls: Vec<AggregateCall> },
    /// Stops unless a condition is true in every row.
    Require { condition: Bound, message: Option<String>, shown: Vec<Field> },
    /// Stops where rows are equal in these columns.
    RequireUnique { by: Vec<Field>, shown: Vec<Field> },
    /// Writes what flows by.
    Write(Target),
    /// Columns from each row's neighbours.
    Window(Window),
    /// Rows of another table beside those that they match.
    Join(Join),
    /// Rows of other tables below: new columns, and what they are in the input and in each other table.
    Append { fields: Vec<Field>, own: Vec<Bound>, others: Vec<(Node, Vec<Bound>)> },
    /// Columns become rows.
    Unpivot(Unpivot),
    /// Rows of groups become columns.
    Pivot(Pivot),
    /// Each row also for the totals that it is in.
    Totals(Totals),
    /// Lists become rows.
    Unnest(Unnest),
    /// Columns of another table with as many rows.
    Paste { other: Box<Node>, added: Vec<Field> },
}

/// A source's columns in a plan.
#[derive(Clone)]
pub struct Scan {
    /// The source.
    pub source: Arc<dyn Source>,
    /// Columns that are read: their place in the source, and what they are in the plan.
    pub columns: Vec<(usize, Field)>,
    /// Conditions tested while reading, in order.
    pub conditions: Vec<Condition>,
    /// No more rows than these are wanted.
    pub limit: Option<usize>,
    /// Where rows that do not fit are written.
    pub rejects: Option<PathBuf>,
}

/// A condition of a step, tested elsewhere.
#[derive(Clone)]
pub struct Condition {
    /// The condition.
    pub test: Bound,
    /// The step that asks for it.
    pub step: StepId,
    /// Whether the step stays, and this only leaves out early what it would leave out.
    pub early: bool,
}

/// A key to sort by.
#[derive(Clone)]
pub struct SortKey {
    /// The value that rows are sorted by.
    pub by: Bound,
    /// Whether the largest come first.
    pub descending: bool,
    /// Whether nulls come before all values.
    pub nulls_first: bool,
}

/// How many rows a sample takes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum SampleSize {
    /// So many rows.
    Rows(usize),
    /// Each row with a chance of so many in a hundred.
    Percent(f64),
}

/// A file to write.
#[derive(Clone)]
pub struct Target {
    /// The path as it was given.
    pub path: PathBuf,
    /// The format.
    pub format: Format,
    /// How it is written.
    pub options: WriteOptions,
    /// What becomes of a file that is there.
    pub mode: Mode,
    /// The columns that are written.
    pub fields: Vec<Field>,
}

impl Op {
    /// The operator with each of its other tables replaced.
    fn with_others(self, f: &mut dyn FnMut(Node) -> Node) -> Op {
        match self {
            Op::Join(join) => Op::Join(Join { other: Box::new(f(*join.other)), ..join }),
            Op::Append { fields, own, others } => {
                let others = others.into_iter().map(|(node, columns)| (f(node), columns)).collect();
                Op::Append { fields, own, others }
            }
            Op::Paste { other, added } => Op::Paste { other: Box::new(f(*other)), added },
            op => op,
        }
    }
}

impl Node {
    /// An operator without rows, in the place of one that was taken away.
    pub fn nothing() -> Node {
        Node { op: Op::Compute(Vec::new()), input: None, step: 0 }
    }

    /// This operator below another one.
    pub fn over(self, op: Op, step: StepId) -> Node {
        Node { op, input: Some(Box::new(self)), step }
    }

    /// The columns that leave the operator.
    pub fn columns(&self) -> Vec<ColumnId> {
        let below = || self.input.as_ref().map(|i| deep::guarded(|| i.columns())).unwrap_or_default();
        match &self.op {
            Op::Scan(scan) => scan.columns.iter().map(|(_, f)| f.id).collect(),
            Op::Shared { columns, .. } => columns.iter().map(|(_, f)| f.id).collect(),
            Op::Join(join) => {
                let mut columns = below();
                columns.extend(join.added.iter().map(|f| f.id));
                columns.extend(join.merged.iter().map(|(f, _)| f.id));
                columns
            }
            Op::Append { fields, .. } => fields.iter().map(|f| f.id).collect(),
            Op::Unpivot(how) => {
                let made = how.names.iter().chain(&how.values).map(|f| f.id);
                how.kept.iter().copied().chain(made).collect()
            }
            Op::Pivot(how) => how.made().map(|f| f.id).collect(),
            Op::Totals(how) => {
                let mut columns = below();
                columns.extend(how.made().map(|f| f.id));
                columns
            }
            Op::Unnest(how) => how.kept.iter().copied().chain(how.lists.iter().map(|(_, f)| f.id)).collect(),
            Op::Paste { added, .. } => {
                let mut columns = below();
                columns.extend(added.iter().map(|f| f.id));
                columns
            }
            Op::Compute(added) => {
                let mut columns = below();
                columns.extend(added.iter().map(|(f, _)| f.id));
                columns
            }
            Op::Per { calls, .. } => {
                let mut columns = below();
                columns.extend(calls.iter().map(|c| c.field.id));
                columns
            }
            Op::Window(window) => {
                let mut columns = below();
                columns.extend(window.calls.iter().map(|c| c.field.id));
                columns
            }
            Op::Group { keys, calls } => {
                keys.iter().map(|(f, _)| f.id).chain(calls.iter().map(|c| c.field.id)).collect()
            }
            _ => below(),
        }
    }

    /// A column that is there below or at the operator.
    pub fn field(&self, id: ColumnId) -> Option<&Field> {
        let is_it = |f: &&Field| f.id == id;
        let own = match &self.op {
            Op::Scan(scan) => scan.columns.iter().map(|(_, f)| f).find(is_it),
            Op::Shared { columns, .. } => columns.iter().map(|(_, f)| f).find(is_it),
            Op::Join(join) => join.added.iter().chain(join.merged.iter().map(|(f, _)| f)).find(is_it),
            Op::Append { fields, .. } => return fields.iter().find(is_it),
            Op::Unpivot(how) => how.names.iter().chain(&how.values).find(is_it),
            Op::Pivot(how) => return how.made().find(is_it),
            Op::Totals(how) => how.made().find(is_it),
            Op::Unnest(how) => how.lists.iter().map(|(_, f)| f).find(is_it),
            Op::Paste { added, .. } => added.iter().find(is_it),
            Op::Compute(added) => added.iter().map(|(f, _)| f).find(is_it),
            Op::Per { calls, .. } => calls.iter().map(|c| &c.field).find(is_it),
            Op::Window(window) => window.calls.iter().map(|c| &c.field).find(is_it),
            Op::Group { keys, calls } => {
                keys.iter().map(|(f, _)| f).chain(calls.iter().map(|c| &c.field)).find(is_it)
            }
            _ => None,
        };
        own.or_else(|| deep::guarded(|| self.input.as_ref()?.field(id)))
    }

    /// Rebuilds the plan from below with a rule.
    pub(crate) fn rewritten(self, rule: &mut dyn FnMut(Node) -> Node) -> Node {
        let input = self.input.map(|input| Box::new(deep::guarded(|| input.rewritten(rule))));
        let op = self.op.with_others(&mut |other| deep::guarded(|| other.rewritten(rule)));
        rule(Node { op, input, ..self })
    }

    /// The other tables that the operator takes rows of.
    pub(crate) fn others(&self) -> Vec<&Node> {
        match &self.op {
            Op::Join(join) => vec![&join.other],
            Op::Append { others, .. } => others.iter().map(|(node, _)| node).collect(),
            Op::Paste { other, .. } => vec![other],
            _ => Vec::new(),
        }
    }

    /// The operator and those below it, topmost first.
    pub(crate) fn chain(&self) -> impl Iterator<Item = &Node> {
        std::iter::successors(Some(self), |node| node.input.as_deref())
    }
}
