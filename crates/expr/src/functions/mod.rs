//! The catalogue of scalar functions: the one source of the checker, the docs and `churn help`.
//!
//! A function is a [`Function`] in a file of this folder, and one line in [`ALL`].

mod across;
mod calendar;
mod choice;
mod dates;
#[cfg(test)]
mod example;
mod lists;
mod members;
mod numbers;
mod patterns;
mod rounding;
pub(crate) mod synonyms;
mod text;
mod trimming;

use std::sync::Arc;

use arrow_array::builder::StringViewBuilder;
use arrow_array::{BooleanArray, Float64Array, Int64Array};
use churn_core::{Column, Error, ErrorKind, Events, Result, Scalar, Type};
pub use members::is_member;

pub use choice::{compare, is_null, not};
pub(crate) use patterns::like;
pub use rounding::round_half_away;

use super::bound::{Call, Kernel};
use super::{Bound, Node, cast};

/// What a function works on; the heading it stands under in the help.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
#[non_exhaustive]
pub enum Family {
    Number,
    Text,
    Date,
    Null,
    List,
    Aggregate,
}

impl Function {
    /// Whether the first argument is a unit of time, written as a word.
    pub fn takes_unit(&self) -> bool {
        self.usage.contains("(UNIT")
    }

    /// Whether a column set among the arguments stands for all its columns at once, not for one result a column.
    pub fn takes_sets(&self) -> bool {
        matches!(
            self.name,
            "present" | "least" | "greatest" | "coalesce" | "row_sum" | "row_mean" | "row_count"
        )
    }
}

impl Family {
    /// The heading.
    pub fn title(self) -> &'static str {
        match self {
            Family::Number => "Numbers",
            Family::Text => "Text",
            Family::Date => "Dates and times",
            Family::Null => "Missing values and choice",
            Family::List => "Lists",
            Family::Aggregate => "Aggregates",
        }
    }
}

/// A scalar function.
pub struct Function {
    /// Its name in the language.
    pub name: &'static str,
    /// How it is called.
    pub usage: &'static str,
    /// What it works on.
    pub family: Family,
    /// What it gives, in a sentence.
    pub summary: &'static str,
    /// An expression and its value; it runs as a test.
    pub example: (&'static str, &'static str),
    pub(crate) bind: fn(Arguments) -> Result<Bound, Complaint>,
}

/// A line of a catalogue.
const fn entry(
    family: Family,
    name: &'static str,
    usage: &'static str,
    summary: &'static str,
    example: (&'static str, &'static str),
    bind: fn(Arguments) -> Result<Bound, Complaint>,
) -> Function {
    Function { name, usage, family, summary, example, bind }
}

/// Every scalar function.
pub const ALL: &[&[Function]] = &[
    numbers::FUNCTIONS,
    rounding::FUNCTIONS,
    across::FUNCTIONS,
    text::FUNCTIONS,
    trimming::FUNCTIONS,
    patterns::FUNCTIONS,
    dates::FUNCTIONS,
    calendar::FUNCTIONS,
    choice::FUNCTIONS,
    lists::FUNCTIONS,
];

/// All functions of the catalogue.
pub fn all() -> impl Iterator<Item = &'static Function> {
    ALL.iter().flat_map(|family| family.iter())
}

/// Finds a function by its name.
pub fn find(name: &str) -> Option<&'static Function> {
    all().find(|f| f.name == name)
}

/// What a function has against its arguments.
#[derive(Debug)]
pub struct Complaint {
    /// Which argument, if it is one of them.
    pub(crate) argument: Option<usize>,
    pub(crate) what: String,
    pub(crate) next: Option<String>,
}

impl Complaint {
    pub(crate) fn new(argument: impl Into<Option<usize>>, what: impl Into<String>) -> Complaint {
        Complaint { argument: argument.into(), what: what.into(), next: None }
    }

    pub(crate) fn next(mut self, next: impl Into<String>) -> Complaint {
        self.next = Some(next.into());
        self
    }
}

/// The checked arguments of a call, taken in order and turned into the types a function needs.
pub struct Arguments {
    /// The function's name.
    pub name: &'static str,
    /// How it is called, for messages.
    pub usage: &'static str,
    /// The arguments.
    pub values: Vec<Bound>,
}

impl Arguments {
    /// Refuses too few or too many arguments.
    pub(crate) fn count(&self, range: std::ops::RangeInclusive<usize>) -> Result<(), Complaint> {
        if range.contains(&self.values.len()) {
            return Ok(());
        }
        let wanted = match (*range.start(), *range.end()) {
            (1, 1) => "one argument".to_owned(),
            (a, b) if a == b => format!("{a} arguments"),
            (a, usize::MAX) => format!("at least {a} arguments"),
            (a, b) => format!("{a} to {b} arguments"),
        };
        Err(Complaint::new(None, format!("{} takes {wanted}, not {}.", self.name, self.values.len()))
            .next(format!("It is called {}.", self.usage)))
    }

    pub(crate) fn kind(&self, i: usize) -> Type {
        self.values.get(i).map_or(Type::Null, |v| v.kind.clone())
    }

    /// Turns one argument into a type, silently, or complains.
    pub(crate) fn want(&mut self, i: usize, kind: &Type) -> Result<(), Complaint> {
        let Some(value) = self.values.get_mut(i) else { return Ok(()) };
        let found = value.kind.clone();
        if let (Some(Scalar::Text(text)), Type::Date | Type::Time | Type::Timestamp) =
            (value.as_literal(), kind)
        {
            let Some(read) = cast::dated_literal(text, kind) else {
                return Err(Complaint::new(i, format!("'{text}' is not a {kind}.")));
            };
            *value = Bound::literal(read);
            return Ok(());
        }
        if found == *kind {
            return Ok(());
        }
        match cast::silently(value.clone(), kind) {
            Some(converted) => {
                *value = converted;
                Ok(())
            }
            None => {
                let mut complaint =
                    Complaint::new(i, format!("{} needs {kind} here, and this is {found}.", self.name));
                if cast::is_possible(&found, kind) {
                    complaint = complaint.next(format!("Turn it into one: cast(… as {kind})."));
                }
                Err(complaint)
            }
        }
    }

    /// Turns all arguments into the one type they share.
    pub(crate) fn common_type(&mut self) -> Result<Type, Complaint> {
        cast::exact_beside_decimals(&mut self.values);
        let mut shared = Type::Null;
        // Beside a date, wherever it stands, a text literal is read as one.
        let dated = |v: &Bound| v.kind.is_temporal();
        let beside_date = self.values.iter().any(dated);
        for (i, value) in self.values.iter().enumerate() {
            if beside_date && matches!(value.as_literal(), Some(Scalar::Text(_))) {
                continue;
            }
            shared = shared.common_type(&value.kind).ok_or_else(|| {
                let what = format!(
                    "{} needs values of one type: {shared} and {} do not mix.",
                    self.name, value.kind
                );
                let to = if value.kind == Type::Text { &value.kind } else { &shared };
                Complaint::new(i, what).next(format!("Turn one into the other: cast(… as {to})."))
            })?;
        }
        for i in 0..self.values.len() {
            self.want(i, &shared)?;
        }
        Ok(shared)
    }

    /// Refuses anything but a number; gives its type.
    pub(crate) fn number(&mut self, i: usize) -> Result<Type, Complaint> {
        match self.kind(i) {
            Type::Null => {
                self.want(i, &Type::Float)?;
                Ok(Type::Float)
            }
            kind if kind.is_number() => Ok(kind),
            kind => {
                let mut complaint =
                    Complaint::new(i, format!("{} needs a number here, and this is {kind}.", self.name));
                if kind == Type::Text {
                    complaint = complaint.next(
                        "Turn it into one: cast(… as float). If texts such as NA mean missing, say so where the column is \
                         read: with (missing = ('', 'NA')).",
                    );
                }
                Err(complaint)
            }
        }
    }

    /// A text that must be written as a literal.
    pub(crate) fn literal_text(&self, i: usize, what: &str) -> Result<String, Complaint> {
        match self.values.get(i).and_then(Bound::as_literal) {
            Some(Scalar::Text(text)) => Ok(text.clone()),
            _ => Err(Complaint::new(i, format!("{} needs {what} as a text literal here.", self.name))),
        }
    }

    /// The call, with its kernel.
    pub(crate) fn call(
        self,
        kind: Type,
        kernel: impl Fn(&[Column], usize, &mut Events) -> Result<Column> + Send + Sync + 'static,
    ) -> Bound {
        self.call_with(kind, true, Arc::new(kernel))
    }

    /// The call of a kernel that may fail or count an event.
    pub fn fallible_call(
        self,
        kind: Type,
        kernel: impl Fn(&[Column], usize, &mut Events) -> Result<Column> + Send + Sync + 'static,
    ) -> Bound {
        self.call_with(kind, false, Arc::new(kernel))
    }

    fn call_with(self, kind: Type, infallible: bool, kernel: Kernel) -> Bound {
        Bound { node: Node::Call(Call { name: self.name, args: self.values, kernel, infallible }), kind }
    }
}

/// The argument at `i`; a null of no type if a kernel asks for more than it was given.
pub fn arg(args: &[Column], i: usize) -> Column {
    args.get(i).cloned().unwrap_or(Column::Constant(Scalar::Null, Type::Null))
}

/// Bytes of the longest text that is made, and of all texts that are made of the rows of a batch.
const LONGEST: usize = 64 << 20;
const TOGETHER: usize = 512 << 20;

/// A text that is being made; one that grows beyond what a text may have stays as it is, and is told of.
#[derive(Default)]
pub(crate) struct Text {
    text: String,
    is_too_long: bool,
}

impl Text {
    pub(crate) fn push_str(&mut self, more: &str) {
        if self.room_for(more.len()) {
            self.text.push_str(more);
        }
    }

    /// Whether so many more bytes may be added.
    pub(crate) fn room_for(&mut self, more: usize) -> bool {
        self.is_too_long |= self.text.len().saturating_add(more) > LONGEST;
        !self.is_too_long
    }

    /// The text itself, for what makes it no longer than what it is made of.
    pub(crate) fn inner(&mut self) -> &mut String {
        &mut self.text
    }
}

/// A text column row by row: `f` writes the text, or gives `None` for null.
///
/// # Errors
/// A text, or all of them together, become too long.
pub(crate) fn texts_by_row(rows: usize, mut f: impl FnMut(usize, &mut Text) -> Option<()>) -> Result<Column> {
    let mut builder = StringViewBuilder::with_capacity(rows);
    let mut text = Text::default();
    let mut together = 0;
    for row in 0..rows {
        text.text.clear();
        let made = f(row, &mut text);
        together += text.text.len();
        if text.is_too_long || together > TOGETHER {
            return Err(too_long(text.is_too_long));
        }
        match made {
            Some(()) => builder.append_value(&text.text),
            None => builder.append_null(),
        }
    }
    Ok(Column::Array(Arc::new(builder.finish())))
}

fn too_long(is_one: bool) -> Error {
    let (what, limit) =
        if is_one { ("A text becomes", LONGEST) } else { ("Texts of some thousand rows become", TOGETHER) };
    Error::new(ErrorKind::Data, format!("{what} too long: more than {} MB.", limit >> 20))
        .next("Look at what makes it grow: a text that is joined with itself, a replacement longer than what it replaces.")
}

/// A column of whole numbers row by row.
pub(crate) fn ints_by_row(rows: usize, f: impl Fn(usize) -> Option<i64>) -> Column {
    Column::Array(Arc::new((0..rows).map(f).collect::<Int64Array>()))
}

/// A column of floats row by row.
pub(crate) fn floats_by_row(rows: usize, f: impl Fn(usize) -> Option<f64>) -> Column {
    Column::Array(Arc::new((0..rows).map(f).collect::<Float64Array>()))
}

/// A column of truths row by row.
pub(crate) fn bools_by_row(rows: usize, f: impl Fn(usize) -> Option<bool>) -> Column {
    Column::Array(Arc::new((0..rows).map(f).collect::<BooleanArray>()))
}
