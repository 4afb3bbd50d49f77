//! Tables of the recipe in expressions: `x in NAME`, and `$NAME.column`.

use churn_core::error::nearest;
use churn_core::names::{comma, name};
use churn_core::readable::plural;
use churn_core::{Error, ErrorKind, Field, Result, Scalar, Span, Type};

use super::{Beside, Binder, MemberOf, Place};
use crate::ast::Expr;
use crate::bound::Call;
use crate::expand::TableShape;
use crate::{Bound, Node, cast, functions};

impl Binder<'_> {
    /// Binds `x in NAME`: true where the table has the value, null where the value is null, else false. Nulls of the
    /// table are equal to nothing.
    pub(super) fn in_table(&mut self, x: &Expr, table: &str, span: Span, place: &mut Place<'_>) -> Bound {
        let Place::Rows(_) = place else {
            let error = Error::new(ErrorKind::Check, format!("in {} cannot stand here.", name(table)));
            let error = match place {
                Place::NoAggregates(_) => error,
                _ => error.why("The step has groups of its own."),
            };
            let next = format!("Work it out in an add step before: add is_in = {x} in {}.", name(table));
            return self.wrong(span, error.next(next));
        };
        let value = self.expression(x, &mut Place::NoAggregates("It is looked for in a table, row by row."));
        let field = match self
            .shape(table, &format!("If it is a text, write {x} in ('{table}')."))
            .and_then(|t| only_column(table, t))
        {
            Ok(field) => field,
            Err(error) => return self.wrong(span, error),
        };
        let (Some(field), true) = (field, value.kind != Type::Unknown) else { return Bound::unknown() };
        let shared = value.kind.common_type(&field.kind).filter(|k| k.has_order() && *k != Type::Binary);
        let Some(kind) = shared else {
            let what = format!(
                "{x} is {}, and {} in the table {} is {}: they are never equal.",
                value.kind,
                name(&field.name),
                name(table),
                field.kind
            );
            return self.type_error(span, what, &format!("Write: cast({x} as {})", field.kind));
        };
        let kind = if kind == Type::Null { Type::Bool } else { kind };
        let (Some(value), Place::Rows(Beside { members, .. })) = (cast::silently(value, &kind), place) else {
            return Bound::unknown();
        };
        let found = Field::new(self.ids.fresh(), "found", Type::Bool);
        let is_found = functions::not(functions::is_null(Bound::column(&found)));
        members.push(MemberOf { value: value.clone(), table: (table.to_owned(), span), found });
        let null = Bound { node: Node::Literal(Scalar::Null), kind: Type::Bool };
        let arms = vec![(functions::is_null(value), null)];
        Bound { node: Node::Case(arms, Some(Box::new(is_found))), kind: Type::Bool }
    }

    /// Binds `$NAME.column`: the value, or what stands for it as long as the table has not run.
    pub(super) fn table_value(&mut self, table: &str, column: &str, span: Span) -> Bound {
        let shape = match self.shape(table, &format!("Declare it above: table {}", name(table))) {
            Ok(shape) => shape,
            Err(error) => return self.wrong(span, error),
        };
        let Some(fields) = &shape.fields else { return Bound::unknown() };
        let Some(place) = fields.iter().position(|field| field.name == column) else {
            let names = || fields.iter().map(|field| field.name.as_str());
            let what = format!("The table {} has no column {}.", name(table), name(column));
            let error = Error::new(ErrorKind::Name, what);
            let error = match nearest(column, names()) {
                Some(near) => error.next(format!("Did you mean ${table}.{}?", name(near))),
                None => error.why(format!("It has {}.", comma(names().take(20).map(name)))),
            };
            return self.wrong(span, error);
        };
        let kind = fields.get(place).map_or(Type::Unknown, |field| field.kind.clone());
        match shape.values.as_ref().and_then(|values| values.get(place)) {
            Some(value) => Bound { node: Node::Literal(value.clone()), kind },
            None => not_yet_known(kind),
        }
    }

    /// A declared table; `instead` is what else could be done where there is none.
    fn shape(&self, table: &str, instead: &str) -> Result<&TableShape> {
        let tables = &self.environment.tables;
        tables.get(table).ok_or_else(|| {
            let what = format!("There is no table {} before this line.", name(table));
            let error = Error::new(ErrorKind::Name, what);
            let near = nearest(table, tables.keys().map(String::as_str));
            let error = match near {
                Some(near) => error.next(format!("Did you mean {}?", name(near))),
                None => error,
            };
            error.next(instead)
        })
    }
}

/// The column of a table that has one; `None` if its chain holds a mistake.
fn only_column(table: &str, shape: &TableShape) -> Result<Option<Field>> {
    match shape.fields.as_deref() {
        None => Ok(None),
        Some([field]) => Ok(Some(field.clone())),
        Some(fields) => {
            let columns = plural(fields.len() as u64, "column");
            let what = format!("The table {} has {columns}, and in needs one of one column.", name(table));
            let first = fields.first().map(|field| name(&field.name)).unwrap_or_default();
            Err(Error::new(ErrorKind::Check, what).next(format!("End its chain with select {first}.")))
        }
    }
}

/// What stands for a value that a table gives when it runs: no constant, and of the value's type.
fn not_yet_known(kind: Type) -> Bound {
    let kernel = |_: &[churn_core::Column], _: usize, _: &mut churn_core::Events| {
        Err(Error::new(ErrorKind::Internal, "The value of a table is used before the table has run."))
    };
    let call = Call {
        name: "value of a table",
        args: Vec::new(),
        kernel: std::sync::Arc::new(kernel),
        infallible: false,
    };
    Bound { node: Node::Call(call), kind }
}
