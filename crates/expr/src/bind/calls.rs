//! Calls of functions by name, and what is said where there is none.

use std::sync::Arc;

use churn_core::error::nearest;
use churn_core::{Error, ErrorKind, Scalar, SourceText, Span, Type};

use super::{Binder, Place};
use crate::Bound;
use crate::ast::{Expr, Kind};
use crate::expand::Environment;
use crate::extend::ScalarCallable;
use crate::functions::Complaint;
use crate::functions::synonyms::synonym;

/// Functions of values of any type.
const OF_ANY: [&str; 2] = ["if", "coalesce"];

impl Binder<'_> {
    pub(super) fn call(&mut self, function: &str, args: &[Expr], span: Span, place: &mut Place<'_>) -> Bound {
        let functions = &self.environment.functions;
        if functions.aggregate(function).is_some() {
            let call = Expr::new(Kind::Call(function.to_owned(), args.to_vec()), span);
            return self.aggregate(&call, place);
        }
        if functions.window(function).is_some() {
            let call = Expr::new(Kind::Call(function.to_owned(), args.to_vec()), span);
            if let Place::Window(_) = place {
                return self.window_call(&call, None, span, place);
            }
            let error = Error::new(ErrorKind::Check, format!("{function} stands only in a window step."))
                .why("It looks at the rows around a row, and needs to know which and in what order.");
            return self
                .wrong(span, error.next(format!("Write: window by farm order by collected_on: {call}")));
        }
        let Some(ScalarCallable { call: found, takes_unit }) = functions.scalar(function) else {
            return self.unknown_function(function, span);
        };
        let mut values = Vec::new();
        for (i, arg) in args.iter().enumerate() {
            // A unit of time is a word, not a column.
            let unit = match &arg.kind {
                Kind::Name(word) if i == 0 && takes_unit => Some(word),
                _ => None,
            };
            values.push(match unit {
                Some(word) => Bound::literal(Scalar::Text(word.clone())),
                None => self.expression(arg, place),
            });
        }
        if values.iter().any(|v| v.kind == Type::Unknown) {
            return Bound::unknown();
        }
        let takes_intervals = found.is_own || OF_ANY.contains(&found.name);
        let is_interval = |v: &Bound| v.kind == Type::Interval && !takes_intervals;
        if let Some(i) = values.iter().position(is_interval) {
            let at = args.get(i).map_or(span, |a| a.span);
            return self.type_error(at, format!("{function} takes no interval."), "");
        }
        let spans: Vec<Span> = args.iter().map(|a| a.span).collect();
        let bound = self.complained(found.bound(values), span, &spans);
        // A user's own function is not called before the run, however constant its arguments are.
        if found.is_own { bound } else { self.folded(bound) }
    }

    pub(super) fn unknown_function(&mut self, function: &str, span: Span) -> Bound {
        let error = Error::new(ErrorKind::Name, format!("There is no function {function}."));
        let Environment { defines, functions, .. } = self.environment;
        let known = functions.names().chain(defines.keys().map(String::as_str));
        let error = match (synonym(function), nearest(function, known)) {
            (Some(here), _) => error.next(format!("Here it is written {here}.")),
            (None, Some(near)) => error.next(format!("Did you mean {near}?")),
            (None, None) => error.next("churn help functions lists them all."),
        };
        self.wrong(Span { end: span.start + function.len(), ..span }, error)
    }

    pub(super) fn complained(&mut self, made: Result<Bound, Complaint>, span: Span, spans: &[Span]) -> Bound {
        match made {
            Ok(bound) => bound,
            Err(complaint) => {
                let error = complaint_error(complaint, span, spans)(self.source);
                self.errors.push(error);
                Bound::unknown()
            }
        }
    }
}

/// A function's complaint as an error at the place of the argument it is about.
pub(super) fn complaint_error(
    complaint: Complaint,
    call: Span,
    args: &[Span],
) -> impl Fn(&Arc<SourceText>) -> Error {
    let span = complaint.argument.and_then(|i| args.get(i)).copied().unwrap_or(call);
    move |source| {
        let error = Error::new(ErrorKind::Type, complaint.what.clone()).at(source, span);
        match &complaint.next {
            Some(next) => error.next(next.clone()),
            None => error,
        }
    }
}
