//! Calls of functions of the user's own, with the function's body in their place.
//!
//! Written out, a function that uses a value twice would double it, and a chain of such functions would double it at
//! each link. So what is computed twice is bound once: a call that stands in an expression more than once, and an
//! argument that is more than a name or a literal and is used more than once. Only expressions over the values of one
//! row are shared so; aggregates, window functions and column sets are written out.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use churn_core::names::comma;
use churn_core::readable::plural;
use churn_core::{Error, ErrorKind, Result, SourceText, Span, deep};

use super::{Define, Environment, try_map_parts};
use crate::ast::{Expr, Kind, Local};
use crate::extend::Functions;

/// Parts that an expression may have once the functions in it are put in their places.
pub(crate) const MOST_PARTS: usize = 100_000;

impl Environment {
    /// The expression with parameters and calls replaced; calls that stand twice in a part that is computed row by row
    /// are bound once before it.
    pub(super) fn shared(&self, expr: &Expr, source: &Arc<SourceText>) -> Result<Expr> {
        if !self.is_of_a_row(expr) {
            let parts = try_map_parts(expr, &mut |part| self.shared(part, source))?;
            return self.in_place(expr, parts, source);
        }
        let mut calls = BTreeMap::new();
        self.count_calls(expr, &mut calls);
        // By length: a longer one may hold a shorter one.
        let mut locals = HashMap::new();
        let mut values = Vec::new();
        for ((_, text), (call, count)) in calls {
            if count > 1 {
                let value = self.replaced(&self.with_locals(call, &locals), source)?;
                let local = Local::of(text.clone());
                values.push((local.clone(), value));
                locals.insert(text, local);
            }
        }
        let body = self.replaced(&self.with_locals(expr, &locals), source)?;
        Ok(values.into_iter().rev().fold(body, let_in))
    }

    /// Counts how often each call of a defined function stands in an expression, by the length of its text and the text.
    fn count_calls<'a>(&self, expr: &'a Expr, calls: &mut BTreeMap<(usize, String), (&'a Expr, usize)>) {
        if self.defined(expr).is_some() {
            let text = expr.to_string();
            calls.entry((text.len(), text)).or_insert((expr, 0)).1 += 1;
        }
        expr.for_each_part(&mut |part| deep::guarded(|| self.count_calls(part, calls)));
    }

    /// The expression with the calls that have a local replaced by it.
    fn with_locals(&self, expr: &Expr, locals: &HashMap<String, Local>) -> Expr {
        if !locals.is_empty()
            && self.defined(expr).is_some()
            && let Some(local) = locals.get(&expr.to_string())
        {
            return Expr::new(Kind::Local(local.clone()), expr.span);
        }
        expr.map_parts(&mut |part| self.with_locals(part, locals))
    }

    /// The function of the user's own that an expression calls.
    fn defined(&self, expr: &Expr) -> Option<&Define> {
        if let Kind::Call(function, _) = &expr.kind { self.defines.get(function) } else { None }
    }

    /// Whether an expression is computed row by row, without aggregates, window functions and column sets.
    fn is_of_a_row(&self, expr: &Expr) -> bool {
        let mut of_a_row = match &expr.kind {
            Kind::Where(..) | Kind::Per(..) | Kind::Over(..) | Kind::Each(_) => false,
            Kind::Call(function, _) => match self.defines.get(function) {
                Some(define) => define.is_of_a_row(&self.functions),
                None => !self.functions.looks_at_rows(function),
            },
            _ => true,
        };
        expr.for_each_part(&mut |part| of_a_row = of_a_row && deep::guarded(|| self.is_of_a_row(part)));
        of_a_row
    }
}

impl Define {
    /// Whether the body, in which no call of a defined function is left, is computed row by row.
    fn is_of_a_row(&self, functions: &Arc<Functions>) -> bool {
        Environment { functions: functions.clone(), ..Environment::default() }.is_of_a_row(&self.body)
    }

    /// The body with arguments in place of parameters.
    ///
    /// # Errors
    /// The wrong number of arguments; too many parts. Neither has its place yet.
    pub(super) fn called(
        &self,
        (function, functions): (&str, &Arc<Functions>),
        written: &Expr,
        args: &[Expr],
    ) -> Result<Expr> {
        if self.parameters.len() != args.len() {
            let what = format!(
                "{function} takes {}, not {}.",
                plural(self.parameters.len() as u64, "argument"),
                args.len()
            );
            let usage = format!("It is defined as {function}({}).", comma(&self.parameters));
            return Err(Error::new(ErrorKind::Check, what).next(usage));
        }
        let texts = if let Kind::Call(_, texts) = &written.kind { texts.as_slice() } else { &[] };
        let may_share = self.is_of_a_row(functions);
        let mut values = Vec::new();
        let mut replacements = HashMap::with_capacity(args.len());
        for ((parameter, arg), text) in self.parameters.iter().zip(args).zip(texts) {
            let is_plain = matches!(arg.kind, Kind::Name(_) | Kind::Literal(_) | Kind::Local(_));
            let replacement = if may_share && !is_plain && is_used_twice(parameter, &self.body) {
                let local = Local::of(text.operand());
                values.push((local.clone(), arg.clone()));
                Expr::new(Kind::Local(local), written.span)
            } else {
                arg.clone()
            };
            replacements.insert(parameter.as_str(), replacement);
        }
        if is_too_long(&self.body, &replacements) {
            return Err(too_long());
        }
        Ok(values.into_iter().rev().fold(substitute(&self.body, &replacements, written.span), let_in))
    }
}

impl Local {
    /// A new one for a value, by its text.
    fn of(text: String) -> Local {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        Local { number: NEXT.fetch_add(1, Ordering::Relaxed), text }
    }
}

fn let_in(body: Expr, (local, value): (Local, Expr)) -> Expr {
    let span = body.span;
    Expr::new(Kind::Let(local, Box::new(value), Box::new(body)), span)
}

fn is_used_twice(parameter: &str, body: &Expr) -> bool {
    let mut names = Vec::new();
    body.names(&mut names);
    names.iter().filter(|name| *name == parameter).count() > 1
}

/// The error of an expression that has too many parts once functions are put in their places.
pub(crate) fn too_long() -> Error {
    Error::new(ErrorKind::Check, "This is too long once the functions in it are written out.")
        .why(format!(
            "It would have more than {MOST_PARTS} parts, since each call stands for its function's body."
        ))
        .next("Work a part of it out in a column of its own before it, with add.")
}

/// Whether a body has too many parts with these in place of its parameters.
fn is_too_long(body: &Expr, replacements: &HashMap<&str, Expr>) -> bool {
    let mut sizes = HashMap::with_capacity(replacements.len());
    for (parameter, replacement) in replacements {
        let mut size = 0;
        count(replacement, &mut size, &HashMap::new());
        sizes.insert(*parameter, size);
    }
    let mut size = 0;
    count(body, &mut size, &sizes);
    size > MOST_PARTS
}

/// Counts the parts of an expression, until they are too many; names may stand for more than one.
fn count(expr: &Expr, all: &mut usize, sizes: &HashMap<&str, usize>) {
    *all += match &expr.kind {
        Kind::Name(name) => sizes.get(name.as_str()).copied().unwrap_or(1),
        _ => 1,
    };
    if *all <= MOST_PARTS {
        expr.for_each_part(&mut |part| deep::guarded(|| count(part, all, sizes)));
    }
}

/// The body with its parameters replaced; it all stands at the place of the call.
fn substitute(body: &Expr, replacements: &HashMap<&str, Expr>, call: Span) -> Expr {
    if let Kind::Name(name) = &body.kind
        && let Some(replacement) = replacements.get(name.as_str())
    {
        return replacement.clone();
    }
    let mut replaced = body.map_parts(&mut |part| substitute(part, replacements, call));
    replaced.span = call;
    replaced
}
