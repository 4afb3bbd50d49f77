//! Calls in a `window` step: aggregates and window functions, with their frames.

use churn_core::{Error, ErrorKind, Field, Interval, Scalar, Span, Type};

use super::{Binder, Place, complaint_error};
use crate::Bound;
use crate::ast::{Edge, Expr, Frame as Written, Kind};
use crate::windows::{Distance, Frame, Limit, Task, WindowCall, WindowTask};

/// What stands in a window.
pub struct WindowPlace {
    /// The first order key's type, and whether it descends; `None` without an order.
    pub order: Option<(Type, bool)>,
    /// The calls to be computed, one a column.
    pub calls: Vec<WindowCall>,
}

impl Binder<'_> {
    /// Binds `CALL over FRAME`.
    pub(super) fn over(&mut self, call: &Expr, frame: &Written, span: Span, place: &mut Place<'_>) -> Bound {
        let Place::Window(window) = place else {
            let error = Error::new(ErrorKind::Check, "over stands only in a window step.");
            return self.wrong(span, error.next("Write: window by farm order by collected_on: …"));
        };
        let order = window.order.clone();
        let Some(frame) = self.frame(frame, order.as_ref(), span) else { return Bound::unknown() };
        self.window_call(call, Some(frame), span, place)
    }

    /// Binds an aggregate or a window function in a window.
    pub(super) fn window_call(
        &mut self,
        expr: &Expr,
        frame: Option<Frame>,
        span: Span,
        place: &mut Place<'_>,
    ) -> Bound {
        let is_ordered = matches!(place, Place::Window(window) if window.order.is_some());
        let (call, only) = match &expr.kind {
            Kind::Where(call, only) => (&**call, Some(&**only)),
            _ => (expr, None),
        };
        let Kind::Call(function, args) = &call.kind else {
            let error = Error::new(
                ErrorKind::Check,
                "over (and where) stand after an aggregate or a window function.",
            );
            return self.wrong(span, error.next("Write: mean(litres) over last 7 rows"));
        };
        let mut inner = Place::NoAggregates("Calls in a window do not nest.");
        let (task, kind, args, only) = if self.environment.functions.has_aggregate(function) {
            let Some(made) = self.aggregate_call(expr) else { return Bound::unknown() };
            (Task::Aggregate(made.made.clone()), made.field.kind, made.made.args, made.only)
        } else if let Some(found) = self.environment.functions.window(function) {
            let trouble = if only.is_some() {
                Some((format!("where (…) narrows an aggregate, and {function} is none."), ""))
            } else if frame.is_some() && !found.takes_frame {
                Some((
                    format!("{function} takes no frame: it looks at the whole partition."),
                    "Leave over out.",
                ))
            } else if found.needs_order && !is_ordered {
                let next = "Write: window by farm order by litres desc: …";
                Some((format!("{function} needs an order."), next))
            } else {
                None
            };
            if let Some((what, next)) = trouble {
                let error = Error::new(ErrorKind::Check, what);
                return self.wrong(span, if next.is_empty() { error } else { error.next(next) });
            }
            let values: Vec<Bound> = args.iter().map(|arg| self.expression(arg, &mut inner)).collect();
            if values.iter().any(|v| v.kind == Type::Unknown) {
                return Bound::unknown();
            }
            let spans: Vec<Span> = args.iter().map(|a| a.span).collect();
            match found.call.bound(values) {
                Ok(WindowTask { task, kind, args }) => (task, kind, args, None),
                Err(complaint) => {
                    let error = complaint_error(complaint, call.span, &spans)(self.source);
                    self.errors.push(error);
                    return Bound::unknown();
                }
            }
        } else {
            return self.wrong(
                span,
                Error::new(
                    ErrorKind::Check,
                    format!("{function} has a value in each row, and takes no frame."),
                ),
            );
        };
        let frame = frame.unwrap_or(Frame::Partition);
        let Place::Window(window) = place else { return Bound::unknown() };
        let text = format!("{expr} {frame:?}");
        if let Some(same) = window.calls.iter().find(|c| c.text == text) {
            return Bound::column(&same.field);
        }
        let field = Field::new(self.ids.fresh(), expr.to_string(), kind);
        let bound = Bound::column(&field);
        window.calls.push(WindowCall { field, text, task, args, only, frame });
        bound
    }

    fn frame(&mut self, frame: &Written, order: Option<&(Type, bool)>, span: Span) -> Option<Frame> {
        let descends = order.is_some_and(|(_, descends)| *descends);
        match frame {
            Written::SoFar => Some(Frame::Rows(None, Some(0))),
            Written::FromHere => Some(Frame::Rows(Some(0), None)),
            Written::Last(count, unit) | Written::Next(count, unit) => {
                let is_last = matches!(frame, Written::Last(..));
                let number = self.whole(count, 1)?;
                let Some(interval) = unit.interval(number) else {
                    return Some(if is_last {
                        Frame::Rows(Some(1 - number), Some(0))
                    } else {
                        Frame::Rows(Some(0), Some(number - 1))
                    });
                };
                let by = self.distance(&Scalar::Interval(interval), order, count.span)?;
                // Keys before or after in time, whichever way the rows are ordered.
                let later = is_last == descends;
                let far = Limit::Distance { by, later, open: true };
                Some(if later {
                    Frame::Range(Limit::Current, far)
                } else {
                    Frame::Range(far, Limit::Current)
                })
            }
            Written::Between { rows: true, from, to } => {
                let (from, to) = (self.row_edge(from, true)?, self.row_edge(to, false)?);
                if let (Some(a), Some(b)) = (from, to)
                    && a > b
                {
                    return self.backwards(span);
                }
                Some(Frame::Rows(from, to))
            }
            Written::Between { rows: false, from, to } => {
                if matches!((from, to), (Edge::Last, _) | (_, Edge::First)) {
                    return self.backwards(span);
                }
                let (from, to) = (self.key_edge(from, order, span)?, self.key_edge(to, order, span)?);
                Some(Frame::Range(from, to))
            }
        }
    }

    fn backwards<T>(&mut self, span: Span) -> Option<T> {
        let error = Error::new(ErrorKind::Check, "This frame ends before it starts.");
        self.wrong(
            span,
            error.next("The earlier end stands first: rows between 3 preceding and current row."),
        );
        None
    }

    /// A whole number that is written in a frame.
    fn whole(&mut self, count: &Expr, least: i64) -> Option<i64> {
        match &count.kind {
            Kind::Literal(Scalar::Int(n)) if *n >= least => Some(*n),
            _ => {
                let what = format!("A whole number from {least} is needed here.");
                self.wrong(count.span, Error::new(ErrorKind::Check, what));
                None
            }
        }
    }

    /// An end by rows: how many on; the outer `None` after a mistake.
    fn row_edge(&mut self, edge: &Edge, is_start: bool) -> Option<Option<i64>> {
        Some(match edge {
            Edge::First if is_start => None,
            Edge::Last if !is_start => None,
            // An end beyond all rows on the wrong side: nothing is left.
            Edge::First => Some(i64::MIN),
            Edge::Last => Some(i64::MAX),
            Edge::Here => Some(0),
            Edge::Before(n) => Some(-self.whole(n, 0)?),
            Edge::After(n) => Some(self.whole(n, 0)?),
        })
    }

    fn key_edge(&mut self, edge: &Edge, order: Option<&(Type, bool)>, span: Span) -> Option<Limit> {
        if order.is_none() {
            let error =
                Error::new(ErrorKind::Check, "A frame by range needs an order, which it is measured by.");
            self.wrong(span, error.next("Write: window by farm order by collected_on: …"));
            return None;
        }
        let (by, later) = match edge {
            Edge::First | Edge::Last => return Some(Limit::Unbounded),
            Edge::Here => return Some(Limit::Current),
            Edge::Before(by) => (by, false),
            Edge::After(by) => (by, true),
        };
        let Kind::Literal(value) = &by.kind else {
            let error = Error::new(ErrorKind::Check, "The distance is a number or an interval.");
            self.wrong(by.span, error);
            return None;
        };
        let by = self.distance(value, order, by.span)?;
        Some(Limit::Distance { by, later, open: false })
    }

    /// A distance that fits the first order key.
    fn distance(&mut self, value: &Scalar, order: Option<&(Type, bool)>, span: Span) -> Option<Distance> {
        let Some((kind, _)) = order else {
            let error =
                Error::new(ErrorKind::Check, "A frame by range needs an order, which it is measured by.");
            self.wrong(span, error.next("Write: window by farm order by collected_on: …"));
            return None;
        };
        let positive = |i: &Interval| i.months >= 0 && i.days >= 0 && i.micros >= 0;
        let distance = match (kind, value) {
            // No row has a key, and every distance is as good.
            (Type::Int | Type::Null, Scalar::Int(n)) if *n >= 0 => Some(Distance::Int(*n)),
            (Type::Float, Scalar::Int(n)) if *n >= 0 => Some(Distance::Float(*n as f64)),
            (Type::Float | Type::Null, Scalar::Float(x)) if *x >= 0.0 => Some(Distance::Float(*x)),
            (Type::Date, Scalar::Interval(i)) if positive(i) && i.micros == 0 => Some(Distance::Interval(*i)),
            (Type::Timestamp | Type::Null, Scalar::Interval(i)) if positive(i) => {
                Some(Distance::Interval(*i))
            }
            _ => None,
        };
        if distance.is_none() && *kind != Type::Unknown {
            let next = match kind {
                Type::Int | Type::Float => {
                    "Give a number that is not negative: range between 5 preceding and current row."
                }
                Type::Date => {
                    "Give whole days, weeks, months or years: over last 7 days. For hours, order by a timestamp."
                }
                Type::Timestamp => "Give an interval: over last 36 hours.",
                _ => {
                    "Ranges measure numbers, dates and timestamps; rows can always be counted: over last 7 rows."
                }
            };
            let what = format!("The rows are ordered by {kind}, and this distance does not fit it.");
            self.wrong(span, Error::new(ErrorKind::Type, what).next(next));
        }
        distance
    }
}
