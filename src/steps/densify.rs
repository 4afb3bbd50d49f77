//! `densify KEY [by STEP [from A] [to B]], … [per COLS]`: rows for combinations of keys that do not occur.

use std::fmt;

use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Field, Position, Result, Scalar, Span, Type};
use churn_expr::ast::{ColumnRef, Expr};
use churn_expr::expand::columns_of_list;
use churn_expr::text::{Cursor, operand};
use churn_expr::{Bound, cast};
use churn_plan::Relation;
use churn_plan::operators::{self, Series, SeriesStep};

use super::columns;
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "densify",
    usage: "densify KEY [by STEP [from A] [to B]], … [per COLS]",
    summary: "Adds rows, behind the others, for combinations of the keys' values and for steps of a series that do not occur; \
              their other columns are null.",
    example: "densify collected_on by interval '1' day per farm",
    parse: |text| Ok(Step::from(text.one(read)?)),
};

/// `densify`: rows added for combinations of keys, and for steps of series, that do not occur.
///
/// ```
/// use churn::{Interval, lit, steps};
/// let day = Interval { days: 1, ..Interval::default() };
/// let densify = steps::Densify::new(steps::DenseKey::series("day", lit(churn::Scalar::Interval(day)))).per(["farm"]);
/// assert_eq!(densify.to_string(), "densify day by interval '1' day per farm");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Densify {
    keys: Vec<DenseKey>,
    per: Vec<ColumnRef>,
}

/// A key of [`Densify`]: the values that occur, or a series of them.
#[derive(Clone, Debug, PartialEq)]
pub struct DenseKey {
    column: ColumnRef,
    span: Position,
    by: Option<Expr>,
    from: Option<Expr>,
    to: Option<Expr>,
}

fn read(c: &mut Cursor<'_>) -> Result<Densify> {
    let keys = c.list(read_key)?;
    let per = if c.take_word("per") { c.list(Cursor::column_ref)? } else { Vec::new() };
    Ok(Densify { keys, per })
}

fn read_key(c: &mut Cursor<'_>) -> Result<DenseKey> {
    let start = c.span();
    let column = c.column_ref()?;
    let by = if c.take_word("by") { Some(operand(c)?) } else { None };
    let mut bound =
        |word: &str| if by.is_some() && c.take_word(word) { operand(c).map(Some) } else { Ok(None) };
    let (from, to) = (bound("from")?, bound("to")?);
    Ok(DenseKey { column, span: c.since(start), by, from, to })
}

impl DenseKey {
    /// The values of a column that occur.
    pub fn values(column: impl Into<ColumnRef>) -> DenseKey {
        DenseKey { column: column.into(), span: Position::default(), by: None, from: None, to: None }
    }

    /// The values of a column from the smallest to the largest, by a step: a whole number, or an interval for dates.
    pub fn series(column: impl Into<ColumnRef>, step: impl Into<Expr>) -> DenseKey {
        DenseKey { by: Some(step.into()), ..DenseKey::values(column) }
    }

    /// Where the series starts.
    #[must_use]
    pub fn from(self, start: impl Into<Expr>) -> DenseKey {
        DenseKey { from: Some(start.into()), ..self }
    }

    /// Where the series ends.
    #[must_use]
    pub fn to(self, end: impl Into<Expr>) -> DenseKey {
        DenseKey { to: Some(end.into()), ..self }
    }

    /// The keys that it stands for: one, or those of a set.
    fn checked(&self, fields: &[Field], checker: &mut Checker<'_>) -> Option<Vec<operators::DenseKey>> {
        let source = checker.source.clone();
        let columns = checker.kept(columns_of_list(std::slice::from_ref(&self.column), fields, &source))?;
        let mut keys = Vec::new();
        for column in columns {
            let series = match &self.by {
                Some(by) => Some(self.checked_series(by, column, checker)?),
                None => None,
            };
            keys.push(operators::DenseKey { column: column.id, series });
        }
        Some(keys)
    }

    fn checked_series(&self, by: &Expr, column: &Field, checker: &mut Checker<'_>) -> Option<Series> {
        let step = match (checker.constant(by)?, &column.kind) {
            (Scalar::Int(step), Type::Int) if step > 0 => SeriesStep::Number(step),
            (Scalar::Interval(step), Type::Date | Type::Timestamp)
                if step.months >= 0
                    && step.days >= 0
                    && step.micros >= 0
                    && (step.months, step.days, step.micros) != (0, 0, 0)
                    && (column.kind == Type::Timestamp || step.micros == 0) =>
            {
                SeriesStep::Time(step)
            }
            (_, Type::Int) => {
                self.wrong(
                    by.span,
                    "A series of whole numbers rises by a whole number above 0.",
                    "Write by 1.",
                    checker,
                );
                return None;
            }
            (_, Type::Date | Type::Timestamp) => {
                let what = format!("A series of {} rises by an interval of time.", column.kind);
                self.wrong(by.span, &what, "Write by interval '1' day, or '1' month.", checker);
                return None;
            }
            (_, kind) => {
                let what = format!("{} is {kind}, of which there is no series.", name(&column.name));
                self.wrong(self.span, &what, "Without by, the values that occur are combined.", checker);
                return None;
            }
        };
        let mut bound = |expr: &Option<Expr>| match expr {
            None => Some(None),
            Some(expr) => {
                let value = checker.constant(expr)?;
                let value = match (&value, &column.kind) {
                    (Scalar::Text(text), kind) => cast::dated_literal(text.as_str(), kind),
                    (value, kind) => churn_expr::converted(value, kind),
                };
                if value.as_ref().is_none_or(Scalar::is_null) {
                    let what = format!("A bound of this series is {}.", column.kind);
                    self.wrong(expr.span, &what, "", checker);
                    return None;
                }
                Some(value)
            }
        };
        Some(Series { step, from: bound(&self.from)?, to: bound(&self.to)? })
    }

    fn wrong(&self, span: impl Into<Span>, what: &str, next: &str, checker: &mut Checker<'_>) {
        let error = Error::new(ErrorKind::Type, what);
        checker.wrong(span, if next.is_empty() { error } else { error.next(next) });
    }
}

impl Densify {
    /// Adds rows for what this key lacks.
    pub fn new(key: DenseKey) -> Densify {
        Densify { keys: vec![key], per: Vec::new() }
    }

    /// One more key: rows are added for all combinations.
    #[must_use]
    pub fn and(mut self, key: DenseKey) -> Densify {
        self.keys.push(key);
        self
    }

    /// The values and combinations of each group that these columns make.
    #[must_use]
    pub fn per<T: Into<ColumnRef>>(self, columns: impl IntoIterator<Item = T>) -> Densify {
        Densify { per: columns::all(columns), ..self }
    }

    /// The rows with keys that hold nothing in the types of their series.
    fn typed(&self, mut input: Relation, checker: &mut Checker<'_>) -> Relation {
        let source = checker.source.clone();
        for key in &self.keys {
            let found = columns_of_list(std::slice::from_ref(&key.column), &input.fields, &source);
            let Some(column) = found.ok().and_then(|columns| columns.first().map(|field| (*field).clone()))
            else {
                continue;
            };
            let Some(by) = key.by.as_ref().filter(|_| column.kind == Type::Null) else { continue };
            let kind = match checker.constant(by) {
                Some(Scalar::Interval(step)) if step.micros == 0 => Type::Date,
                Some(Scalar::Interval(_)) => Type::Timestamp,
                Some(_) => Type::Int,
                None => continue,
            };
            let Some(value) = cast::silently(Bound::column(&column), &kind) else { continue };
            (input, _) = checker.with_computed(input, &column.name, value);
        }
        input
    }
}

/// The rows with each named column by itself: two names of one column may be a key and a group.
fn apart(mut input: Relation, checker: &mut Checker<'_>) -> Relation {
    for place in 1..input.fields.len() {
        let (before, rest) = input.fields.split_at(place);
        let is_again = |field: &&Field| before.iter().any(|other| other.id == field.id);
        if let Some(field) = rest.first().filter(is_again).cloned() {
            (input, _) = checker.with_computed(input, &field.name, Bound::column(&field));
        }
    }
    input
}

impl Check for Densify {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = self.typed(apart(input?, checker), checker);
        let source = checker.source.clone();
        let per = checker.kept(columns_of_list(&self.per, &input.fields, &source))?;
        let per: Vec<_> = per.iter().map(|field| field.id).collect();
        let mut keys: Vec<operators::DenseKey> = Vec::new();
        for key in &self.keys {
            for found in key.checked(&input.fields, checker)? {
                if per.contains(&found.column) || keys.iter().any(|other| other.column == found.column) {
                    key.wrong(
                        key.span,
                        "A column stands once among the keys and the columns of per.",
                        "",
                        checker,
                    );
                    return None;
                }
                keys.push(found);
            }
        }
        if let ([key], [one]) = (keys.as_slice(), self.keys.as_slice())
            && key.series.is_none()
        {
            let what = "All values of one key occur: there is nothing to add.";
            let next = "Name another key, or the step of a series: densify day by interval '1' day.";
            one.wrong(one.span, what, next, checker);
            return None;
        }
        let step = checker.step();
        Some(input.then(operators::Densify { keys, per }, step))
    }
}

impl fmt::Display for DenseKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.column)?;
        for (word, expr) in [("by", &self.by), ("from", &self.from), ("to", &self.to)] {
            if let Some(expr) = expr {
                write!(f, " {word} {expr}")?;
            }
        }
        Ok(())
    }
}

impl fmt::Display for Densify {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "densify {}", comma(&self.keys))?;
        if self.per.is_empty() { Ok(()) } else { write!(f, " per {}", comma(&self.per)) }
    }
}
