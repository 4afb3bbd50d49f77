//! `append OTHER, … [strict]`: the rows of other tables below, columns matched by name.

use std::fmt;

use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Field, Result, Scalar, Type};
use churn_expr::text::Cursor;
use churn_expr::{Bound, cast};
use churn_plan::{Relation, operators};

use super::other::Other;
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "append",
    usage: "append OTHER, … [strict]",
    summary: "Sets the rows of other tables below, columns matched by name; one that is missing on a side is null there.",
    example: "append 'deliveries-2024.csv'",
    parse: |text| Ok(Step::from(text.one(read)?)),
};

/// `append`: the rows of other tables below, columns matched by name.
#[derive(Clone, Debug, PartialEq)]
pub struct Append {
    others: Vec<Other>,
    strict: bool,
}

fn read(c: &mut Cursor<'_>) -> Result<Append> {
    let others = c.list(Other::read)?;
    Ok(Append { others, strict: c.take_word("strict") })
}

impl Append {
    /// Sets the rows of this table below.
    pub fn new(other: impl Into<Other>) -> Append {
        Append { others: vec![other.into()], strict: false }
    }

    /// Sets the rows of one more table below.
    #[must_use]
    pub fn and(mut self, other: impl Into<Other>) -> Append {
        self.others.push(other.into());
        self
    }

    /// Differing columns are a mistake; else one that is missing on a side is null there.
    #[must_use]
    pub fn strict(self) -> Append {
        Append { strict: true, ..self }
    }

    /// Notes the columns that only one side has.
    fn refuse_differing(&self, other: &Other, ours: &[Field], theirs: &[Field], checker: &mut Checker<'_>) {
        let lacks = |have: &[Field], want: &[Field]| {
            let lacking = want.iter().filter(|w| !have.iter().any(|h| h.name == w.name));
            comma(lacking.map(|f| name(&f.name)))
        };
        let (here, there) = (lacks(ours, theirs), lacks(theirs, ours));
        let mut error = Error::new(ErrorKind::Check, format!("{other} has other columns."));
        if !there.is_empty() {
            error = error.why(format!("It lacks {there}."));
        }
        if !here.is_empty() {
            error = error.why(format!("It has besides {here}."));
        }
        if !(here.is_empty() && there.is_empty()) {
            let next = "Without strict a column that is missing on one side is null there.";
            checker.wrong(other.span(), error.next(next));
        }
    }
}

impl Check for Append {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let tables: Vec<Option<Relation>> = self.others.iter().map(|other| other.relation(checker)).collect();
        let (input, tables) = (input?, tables.into_iter().collect::<Option<Vec<_>>>()?);
        let step = checker.step();
        // The columns of all, each with the type that those of its name share.
        let mut columns: Vec<(String, Type)> =
            input.fields.iter().map(|f| (f.name.clone(), f.kind.clone())).collect();
        for (other, table) in self.others.iter().zip(&tables) {
            if self.strict {
                self.refuse_differing(other, &input.fields, &table.fields, checker);
            }
            for field in &table.fields {
                let Some((column, kind)) = columns.iter_mut().find(|(n, _)| *n == field.name) else {
                    columns.push((field.name.clone(), field.kind.clone()));
                    continue;
                };
                match kind.common_type(&field.kind) {
                    Some(shared) => *kind = shared,
                    None => {
                        let column = name(column);
                        let what = format!("{column} is {kind} here and {} in {other}.", field.kind);
                        let error = Error::new(ErrorKind::Type, what).next(format!(
                            "Turn one into the other before: add {column} = cast({column} as text), on the side that is not text."
                        ));
                        checker.wrong(other.span(), error);
                    }
                }
            }
        }
        let fields: Vec<Field> =
            columns.into_iter().map(|(name, kind)| Field::new(checker.ids.fresh(), name, kind)).collect();
        let own = united(&fields, &input);
        let others = tables.into_iter().map(|table| {
            let columns = united(&fields, &table);
            (table.node, columns)
        });
        let op =
            operators::Append { own, others: others.collect(), fields: fields.clone(), moved: Vec::new() };
        Some(Relation { node: input.node.over(op, step), fields })
    }
}

/// What each column is in one of the tables.
fn united(fields: &[Field], table: &Relation) -> Vec<Bound> {
    let column = |field: &Field| match table.fields.iter().find(|f| f.name == field.name) {
        Some(own) => cast::silently(Bound::column(own), &field.kind).unwrap_or_else(Bound::unknown),
        None => Bound { node: churn_expr::Node::Literal(Scalar::Null), kind: field.kind.clone() },
    };
    fields.iter().map(column).collect()
}

impl fmt::Display for Append {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "append {}{}", comma(&self.others), if self.strict { " strict" } else { "" })
    }
}
