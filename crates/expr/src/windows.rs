//! The catalogue of window functions, and the frames of rows that functions see.
//!
//! A window function is one line in [`ALL`]: how it is called, and the [`Task`] that it becomes.

use std::ops::Range;

use churn_core::{Field, Interval, Scalar, Type};

use super::aggregates::Made;
use super::extend::PartitionFunction;
use super::functions::{Arguments, Complaint};
use super::{Bound, cast};

/// A function of the rows around a row.
pub struct WindowFunction {
    /// Its name in the language.
    pub name: &'static str,
    /// How it is called.
    pub usage: &'static str,
    /// What it gives, in a sentence.
    pub summary: &'static str,
    /// A step over the demo's deliveries.
    pub example: &'static str,
    /// Whether it means nothing without `order by`.
    pub needs_order: bool,
    /// Whether it takes a frame.
    pub takes_frame: bool,
    pub(crate) bind: Bind,
}

/// What is worked out for each row.
#[derive(Clone)]
pub enum Task {
    /// An aggregate over the frame.
    Aggregate(Made),
    /// The row's number in its partition, from 1.
    RowNumber,
    /// One more than the number of rows before the row's peers.
    Rank,
    /// The number of different values so far.
    DenseRank,
    /// The rank, from 0 to 1.
    PercentRank,
    /// The share of rows up to the row's last peer.
    CumeDist,
    /// The number of the row's part, of so many of equal size.
    Ntile(usize),
    /// The value so many rows on; the second argument, if there is one, where there is no such row.
    Shift(i64),
    /// The value of a row of the frame.
    Nth(Nth),
    /// What a function of a user's own gives.
    Own(PartitionFunction),
}

/// A checked call: what is worked out, the type of its results, and its arguments.
pub struct WindowTask {
    pub(crate) task: Task,
    pub(crate) kind: Type,
    pub(crate) args: Vec<Bound>,
}

/// Which row of a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Nth {
    /// The first value of the frame.
    First,
    /// The last value of the frame.
    Last,
    /// From 1.
    At(usize),
}

impl Nth {
    /// The row of a frame; none if it is not in there.
    pub fn of(self, frame: Range<usize>) -> Option<usize> {
        let place = match self {
            Nth::First => frame.start,
            Nth::Last => frame.end.checked_sub(1)?,
            Nth::At(n) => frame.start.checked_add(n - 1)?,
        };
        frame.contains(&place).then_some(place)
    }
}

/// Every window function that is not an aggregate.
pub const ALL: &[WindowFunction] = &[
    plain(
        "lag",
        "lag(x [, n [, default]])",
        "The value n rows before, one if n is left out.",
        "window by farm order by collected_on: before = lag(litres)",
        |args| shift(args, -1),
    ),
    plain(
        "lead",
        "lead(x [, n [, default]])",
        "The value n rows on, one if n is left out.",
        "window by farm order by collected_on: next = lead(litres)",
        |args| shift(args, 1),
    ),
    plain(
        "row_number",
        "row_number()",
        "The row's place in its partition, from 1.",
        "window by farm order by collected_on: n = row_number()",
        |args| none(args, Task::RowNumber, Type::Int),
    ),
    ranked(
        "rank",
        "rank()",
        "One more than the number of rows before it; equal rows share it.",
        "window by farm order by litres desc: place = rank()",
        |args| none(args, Task::Rank, Type::Int),
    ),
    ranked(
        "dense_rank",
        "dense_rank()",
        "As rank, without gaps behind equal rows.",
        "window order by grade: place = dense_rank()",
        |args| none(args, Task::DenseRank, Type::Int),
    ),
    ranked(
        "percent_rank",
        "percent_rank()",
        "The rank from 0 to 1: (rank - 1) / (rows - 1).",
        "window order by litres: share = percent_rank()",
        |args| none(args, Task::PercentRank, Type::Float),
    ),
    ranked(
        "cume_dist",
        "cume_dist()",
        "The share of rows up to this one and those equal to it.",
        "window order by litres: share = cume_dist()",
        |args| none(args, Task::CumeDist, Type::Float),
    ),
    plain(
        "ntile",
        "ntile(n)",
        "The number, from 1 to n, of the part that the row is in, of n parts about as large.",
        "window order by litres: quarter = ntile(4)",
        |args| {
            args.count(1..=1)?;
            let parts = positive(&args, 0, "The number of parts is a whole number from 1.")?;
            Ok(WindowTask { task: Task::Ntile(parts), kind: Type::Int, args: Vec::new() })
        },
    ),
    framed(
        "first_value",
        "first_value(x)",
        "The value of the frame's first row.",
        "window by farm order by collected_on: start = first_value(litres)",
        |args| nth(args, Nth::First),
    ),
    framed(
        "last_value",
        "last_value(x)",
        "The value of the frame's last row.",
        "window by farm order by collected_on: latest = last_value(litres) over last 7 rows",
        |args| nth(args, Nth::Last),
    ),
    framed(
        "nth_value",
        "nth_value(x, n)",
        "The value of the frame's n-th row, from 1.",
        "window by farm order by collected_on: second = nth_value(litres, 2)",
        |mut args| {
            args.count(2..=2)?;
            let n = positive(&args, 1, "The place is a whole number from 1.")?;
            args.values.truncate(1);
            nth(args, Nth::At(n))
        },
    ),
];

type Bind = fn(Arguments) -> Result<WindowTask, Complaint>;

const fn plain(
    name: &'static str,
    usage: &'static str,
    summary: &'static str,
    example: &'static str,
    bind: Bind,
) -> WindowFunction {
    WindowFunction { name, usage, summary, example, needs_order: false, takes_frame: false, bind }
}

const fn ranked(
    name: &'static str,
    usage: &'static str,
    summary: &'static str,
    example: &'static str,
    bind: Bind,
) -> WindowFunction {
    WindowFunction { needs_order: true, ..plain(name, usage, summary, example, bind) }
}

const fn framed(
    name: &'static str,
    usage: &'static str,
    summary: &'static str,
    example: &'static str,
    bind: Bind,
) -> WindowFunction {
    WindowFunction { takes_frame: true, ..plain(name, usage, summary, example, bind) }
}

/// Finds a window function by its name.
pub fn find(name: &str) -> Option<&'static WindowFunction> {
    ALL.iter().find(|f| f.name == name)
}

/// All window functions that are not aggregates.
pub fn all() -> impl Iterator<Item = &'static WindowFunction> {
    ALL.iter()
}

/// A task without arguments.
fn none(args: Arguments, task: Task, kind: Type) -> Result<WindowTask, Complaint> {
    args.count(0..=0)?;
    Ok(WindowTask { task, kind, args: args.values })
}

fn nth(args: Arguments, which: Nth) -> Result<WindowTask, Complaint> {
    args.count(1..=1)?;
    Ok(WindowTask { task: Task::Nth(which), kind: args.kind(0), args: args.values })
}

fn positive(args: &Arguments, place: usize, what: &str) -> Result<usize, Complaint> {
    match args.values.get(place).and_then(Bound::as_literal) {
        Some(Scalar::Int(n @ 1..)) => usize::try_from(*n).map_err(|_| Complaint::new(place, what)),
        _ => Err(Complaint::new(place, what)),
    }
}

fn shift(mut args: Arguments, direction: i64) -> Result<WindowTask, Complaint> {
    args.count(1..=3)?;
    let rows = match args.values.get(1).map(Bound::as_literal) {
        None => 1,
        Some(Some(Scalar::Int(n @ 0..))) => *n,
        Some(_) => return Err(Complaint::new(1, "The number of rows is a whole number, 0 or more.")),
    };
    let kind = args.kind(0);
    if args.values.len() == 3 {
        let default = args.values.get(2).cloned().and_then(|default| cast::silently(default, &kind));
        let Some(default) = default else {
            return Err(Complaint::new(2, format!("The default is {}, and the value {kind}.", args.kind(2))));
        };
        args.values.truncate(1);
        args.values.push(default);
    } else {
        args.values.truncate(1);
    }
    Ok(WindowTask { task: Task::Shift(direction * rows), kind, args: args.values })
}

/// The rows of a partition that a function sees from a row.
#[derive(Clone, Debug, PartialEq)]
pub enum Frame {
    /// All of them.
    Partition,
    /// From so many rows on to so many rows on, this one being 0; `None` is the partition's end.
    Rows(Option<i64>, Option<i64>),
    /// By the distance of the first order key.
    Range(Limit, Limit),
}

/// An end of a frame that is measured by the key.
#[derive(Clone, Debug, PartialEq)]
#[allow(missing_docs, reason = "each variant's own line tells what its fields are")]
pub enum Limit {
    /// The partition's end.
    Unbounded,
    /// The rows with this row's key.
    Current,
    /// So far before or after in the order; `open` if rows right there are not in the frame.
    Distance { by: Distance, later: bool, open: bool },
}

/// How far keys may lie apart.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Distance {
    /// A whole number.
    Int(i64),
    /// A float.
    Float(f64),
    /// A span of time.
    Interval(Interval),
}

/// A call in a window: the column that it makes and what it is made of.
#[derive(Clone)]
pub struct WindowCall {
    /// The column that it gives.
    pub field: Field,
    /// As it is written.
    pub(crate) text: String,
    /// What is computed.
    pub task: Task,
    /// The arguments.
    pub args: Vec<Bound>,
    /// The condition of `where (…)`.
    pub only: Option<Bound>,
    /// The rows that it is computed over.
    pub frame: Frame,
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::Node;

    #[rstest]
    #[case(Nth::First, 3..7, Some(3))]
    #[case(Nth::Last, 3..7, Some(6))]
    #[case(Nth::At(1), 3..7, Some(3))]
    #[case(Nth::At(4), 3..7, Some(6))]
    #[case(Nth::At(5), 3..7, None)]
    #[case(Nth::At(usize::MAX), 3..7, None)]
    #[case(Nth::First, 3..3, None)]
    #[case(Nth::Last, 3..3, None)]
    #[case(Nth::Last, 0..0, None)]
    #[case(Nth::At(1), 3..3, None)]
    fn a_row_of_a_frame(#[case] which: Nth, #[case] frame: Range<usize>, #[case] row: Option<usize>) {
        assert_eq!(which.of(frame), row);
    }

    /// A call over a column of floats; the other arguments are literals.
    fn call(name: &'static str, rest: &[Scalar]) -> Result<WindowTask, String> {
        let function = find(name).ok_or("no such function")?;
        let column = Bound { node: Node::Column(0), kind: Type::Float };
        let takes_column = !matches!(name, "ntile" | "rank");
        let values =
            takes_column.then_some(column).into_iter().chain(rest.iter().cloned().map(Bound::literal));
        let given = Arguments { name, usage: function.usage, values: values.collect() };
        (function.bind)(given).map_err(|complaint| complaint.what)
    }

    #[rstest]
    #[case("lag", &[], -1)]
    #[case("lead", &[], 1)]
    #[case("lag", &[Scalar::Int(0)], 0)]
    #[case("lead", &[Scalar::Int(i64::MAX)], i64::MAX)]
    #[case("lag", &[Scalar::Int(i64::MAX)], -i64::MAX)]
    fn shifts_go_so_far(#[case] name: &'static str, #[case] rest: &[Scalar], #[case] rows: i64) {
        let task = call(name, rest).map(|found| (found.args.len(), found.task));
        assert!(matches!(task, Ok((1, Task::Shift(by))) if by == rows));
    }

    /// A default is brought to the type of the values.
    #[test]
    fn a_default_is_of_the_type_of_the_values() {
        let args = call("lag", &[Scalar::Int(2), Scalar::Int(7)]).map(|found| found.args);
        let kinds = args.map(|args| args.iter().map(|arg| arg.kind.clone()).collect::<Vec<_>>());
        assert_eq!(kinds, Ok(vec![Type::Float, Type::Float]));
    }

    #[rstest]
    #[case("lag", &[Scalar::Int(-1)], "The number of rows is a whole number, 0 or more.")]
    #[case("lead", &[Scalar::Text("2".into())], "The number of rows is a whole number, 0 or more.")]
    #[case("lag", &[Scalar::Int(1), Scalar::Text("none".into())], "The default is text, and the value float.")]
    #[case("ntile", &[Scalar::Int(0)], "The number of parts is a whole number from 1.")]
    #[case("ntile", &[Scalar::Float(2.0)], "The number of parts is a whole number from 1.")]
    #[case("nth_value", &[Scalar::Int(0)], "The place is a whole number from 1.")]
    fn what_a_call_lacks_is_told(#[case] name: &'static str, #[case] rest: &[Scalar], #[case] what: &str) {
        assert_eq!(call(name, rest).map(|_| ()), Err(what.to_owned()));
    }

    #[rstest]
    #[case("rank", &[Scalar::Int(1)])]
    #[case("ntile", &[])]
    #[case("nth_value", &[])]
    #[case("lag", &[Scalar::Int(1), Scalar::Float(0.0), Scalar::Int(2)])]
    fn too_many_arguments_and_too_few_are_refused(#[case] name: &'static str, #[case] rest: &[Scalar]) {
        assert!(call(name, rest).is_err());
    }
}
