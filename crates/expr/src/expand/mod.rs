//! Parameters, defined functions and column sets put in their places, before names are looked up.

mod defined;
mod sets;

use std::collections::BTreeMap;
use std::sync::Arc;

use churn_core::error::nearest;
use churn_core::{Error, ErrorKind, Field, Result, Scalar, SourceText, Span, deep};

pub(crate) use defined::{MOST_PARTS, too_long};
pub(crate) use sets::with_sets;
pub use sets::{columns_of_list, default_name, over_set, unknown_column};

use crate::ast::{Expr, Kind};
use crate::extend::Functions;

/// What a recipe declares before its chains.
#[derive(Clone, Debug, Default)]
pub struct Environment {
    /// `given`: parameters and what they stand for.
    pub givens: BTreeMap<String, GivenValue>,
    /// `define`: functions of the user's own.
    pub defines: BTreeMap<String, Define>,
    /// The tables declared so far, by their names.
    pub tables: BTreeMap<String, TableShape>,
    /// The functions of the language, and a user's own in Rust.
    pub functions: Arc<Functions>,
}

/// What an expression may know of a table of the recipe.
#[derive(Clone, Debug)]
pub struct TableShape {
    /// Its columns; `None` if its chain holds a mistake.
    pub fields: Option<Vec<Field>>,
    /// The values of its only row, as many as columns, once it has run for them.
    pub values: Option<Vec<Scalar>>,
}

/// What a parameter stands for.
#[derive(Clone, Debug)]
pub enum GivenValue {
    /// A value; a list stands behind `in`.
    Value(Scalar),
    /// A column of this name.
    Column(String),
}

/// A function of the user's own.
#[derive(Clone, Debug, PartialEq)]
pub struct Define {
    /// The names of the parameters.
    pub parameters: Vec<String>,
    /// The expression that a call stands for.
    pub body: Expr,
}

impl Environment {
    /// The value of a parameter, where no column can stand.
    ///
    /// # Errors
    /// There is none of this name; it stands for a column.
    pub fn given(&self, parameter: &str, source: &Arc<SourceText>, span: impl Into<Span>) -> Result<Scalar> {
        let span = span.into();
        match self.parameter(parameter, source, span)? {
            GivenValue::Value(value) => Ok(value),
            GivenValue::Column(column) => {
                let what = format!("${parameter} stands for a column, {column}, and here stands a value.");
                Err(Error::new(ErrorKind::Type, what).at(source, span))
            }
        }
    }

    /// What a parameter stands for.
    fn parameter(&self, parameter: &str, source: &Arc<SourceText>, span: Span) -> Result<GivenValue> {
        self.givens.get(parameter).cloned().ok_or_else(|| {
            let error =
                Error::new(ErrorKind::Name, format!("There is no parameter ${parameter}.")).at(source, span);
            match nearest(parameter, self.givens.keys().map(String::as_str)) {
                Some(near) => error.next(format!("Did you mean ${near}?")),
                None => error.next(format!("Declare it at the top of the recipe: given {parameter} = 100")),
            }
        })
    }

    /// The expression with parameters and calls of defined functions replaced. A call that stands in it twice, and an
    /// argument that its function uses twice, is bound once ([`Kind::Let`]).
    ///
    /// # Errors
    /// A parameter that was not given; a call with the wrong number of arguments; more than 100,000 parts.
    pub fn expand(&self, expr: &Expr, source: &Arc<SourceText>) -> Result<Expr> {
        if self.defines.is_empty() { self.replaced(expr, source) } else { self.shared(expr, source) }
    }

    /// Adds the values of tables that an expression takes, in itself or in a function that it calls: table, column, place.
    pub fn table_values(&self, expr: &Expr, into: &mut Vec<(String, String, Span)>) {
        match &expr.kind {
            Kind::TableValue(table, column) => into.push((table.clone(), column.clone(), expr.span)),
            Kind::Call(function, _) => {
                // The body of a function calls no other: those before it are put in their places.
                let body = self.defines.get(function).map(|define| &define.body);
                body.into_iter().for_each(|body| self.table_values(body, into));
            }
            _ => {}
        }
        expr.for_each_part(&mut |part| deep::guarded(|| self.table_values(part, into)));
    }

    /// Whether an aggregate stands in an expression, or in a function that it calls.
    pub fn has_aggregate(&self, expr: &Expr) -> bool {
        let mut found = match &expr.kind {
            Kind::Call(function, _) => match self.defines.get(function) {
                Some(define) => self.has_aggregate(&define.body),
                None => self.functions.has_aggregate(function),
            },
            _ => false,
        };
        expr.for_each_part(&mut |part| found = found || deep::guarded(|| self.has_aggregate(part)));
        found
    }

    /// The expression with parameters and calls replaced, each call by itself.
    fn replaced(&self, expr: &Expr, source: &Arc<SourceText>) -> Result<Expr> {
        let parts = try_map_parts(expr, &mut |part| self.replaced(part, source))?;
        self.in_place(expr, parts, source)
    }

    /// An expression whose parts are replaced, with what it is itself replaced.
    fn in_place(&self, written: &Expr, mut expr: Expr, source: &Arc<SourceText>) -> Result<Expr> {
        match &expr.kind {
            Kind::Parameter(parameter) => {
                expr.kind = match self.parameter(parameter, source, expr.span)? {
                    GivenValue::Value(value) => Kind::Literal(value),
                    GivenValue::Column(column) => Kind::Name(column),
                };
                Ok(expr)
            }
            Kind::In(x, list, sense) => {
                let items = list.iter().flat_map(|item| match &item.kind {
                    Kind::Literal(Scalar::List(values, _)) => values
                        .iter()
                        .map(|value| Expr::new(Kind::Literal(value.clone()), item.span))
                        .collect(),
                    _ => vec![item.clone()],
                });
                expr.kind = Kind::In(x.clone(), items.collect(), *sense);
                Ok(expr)
            }
            Kind::Call(function, args) => match self.defines.get(function) {
                Some(define) => define
                    .called((function, &self.functions), written, args)
                    .map_err(|e| e.at(source, expr.span)),
                None => Ok(expr),
            },
            _ => Ok(expr),
        }
    }
}

/// The expression with each direct part replaced, or the first error of a part.
pub(super) fn try_map_parts(expr: &Expr, f: &mut dyn FnMut(&Expr) -> Result<Expr>) -> Result<Expr> {
    let mut error = None;
    let mapped = expr.map_parts(&mut |part| match f(part) {
        Ok(part) => part,
        Err(e) => {
            error.get_or_insert(e);
            part.clone()
        }
    });
    error.map_or(Ok(mapped), Err)
}
