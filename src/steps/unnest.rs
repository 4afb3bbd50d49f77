//! `unnest COL, …`: one row for each value of a list.

use std::fmt;

use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Field, Type};
use churn_expr::ast::ColumnRef;
use churn_expr::expand::columns_of_list;
use churn_expr::text::Cursor;
use churn_expr::{Bound, cast};
use churn_plan::Relation;

use super::columns;
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "unnest",
    usage: "unnest COL, … [skip nulls]",
    summary: "Makes one row for each value of a list; an empty list keeps its row, with null, unless nulls are skipped.",
    example: "unnest word skip nulls",
    parse: |text| {
        let unnest = text.one(|c| {
            let columns = c.list(Cursor::column_ref)?;
            Ok(Unnest { columns, skip_nulls: c.take_words(&["skip", "nulls"]) })
        })?;
        Ok(Step::from(unnest))
    },
};

/// `unnest`: one row for each value of lists.
#[derive(Clone, Debug, PartialEq)]
pub struct Unnest {
    columns: Vec<ColumnRef>,
    skip_nulls: bool,
}

impl Unnest {
    /// Opens these columns of lists, which are of one length in each row.
    pub fn new<T: Into<ColumnRef>>(columns: impl IntoIterator<Item = T>) -> Unnest {
        Unnest { columns: columns::all(columns), skip_nulls: false }
    }

    /// Leaves rows with an empty list out; else they stay, with null.
    #[must_use]
    pub fn skip_nulls(self) -> Unnest {
        Unnest { skip_nulls: true, ..self }
    }
}

impl Check for Unnest {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let mut input = input?;
        let step = checker.step();
        let source = checker.source.clone();
        let columns = checker.kept(columns_of_list(&self.columns, &input.fields, &source))?;
        let mut columns: Vec<Field> = columns.into_iter().cloned().collect();
        // A column that holds nothing holds no lists either.
        for column in columns.iter_mut().filter(|column| column.kind == Type::Null) {
            let kind = Type::List(Box::new(Type::Null));
            let value = cast::silently(Bound::column(column), &kind)?;
            (input, *column) = checker.with_computed(input, &column.name, value);
        }
        let mut lists = Vec::new();
        for column in &columns {
            let Type::List(item) = &column.kind else {
                if column.kind != Type::Unknown {
                    let what = format!("{} is {}, not a list.", name(&column.name), column.kind);
                    let span = self.columns.first().map(super::columns::span_of).unwrap_or_default();
                    let next = format!(
                        "A text is cut into a list first: add {0} = parts({0}, ', ')",
                        name(&column.name)
                    );
                    checker.wrong(span, Error::new(ErrorKind::Type, what).next(next));
                }
                continue;
            };
            let field = Field::new(checker.ids.fresh(), &column.name, (**item).clone());
            input.put(field.clone());
            lists.push((column.id, field));
        }
        let is_list = |f: &&Field| lists.iter().any(|(_, list)| list.id == f.id);
        let kept = input.fields.iter().filter(|f| !is_list(f)).map(|f| f.id).collect();
        let op = churn_plan::operators::Unnest { kept, lists, skip_nulls: self.skip_nulls };
        Some(input.then(op, step))
    }
}

impl fmt::Display for Unnest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "unnest {}{}", comma(&self.columns), if self.skip_nulls { " skip nulls" } else { "" })
    }
}
