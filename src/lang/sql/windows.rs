//! Calls over windows: `sum(litres) over (partition by farm order by collected_on)`.

use churn_core::{ErrorKind, Result, Span};
use churn_expr::SortKey;
use churn_expr::ast::{Edge, Expr, Frame, Kind};
use churn_expr::extend::OwnFunction;
use churn_expr::windows;
use sqlparser::ast::{
    Ident, NamedWindowDefinition, NamedWindowExpr, WindowFrame, WindowFrameBound, WindowFrameUnits,
    WindowSpec, WindowType,
};

use super::calls::Called;
use super::expression::{Part, call, column_at};
use super::rows::Rows;
use super::translator::Translator;
use crate::steps::{Add, Item, Window};

/// A call over a window, which becomes a column.
pub(super) struct WindowItem {
    /// The column.
    pub(super) column: String,
    /// The aggregate or window function.
    pub(super) call: Expr,
    pub(super) frame: Option<Frame>,
    pub(super) by: Vec<Expr>,
    pub(super) order: Vec<SortKey>,
    /// Whether the frame counts groups of rows that are equal in the order.
    pub(super) by_groups: bool,
    pub(super) span: Span,
}

impl Translator<'_, '_> {
    /// Whether a name is that of a function that needs a window.
    pub(super) fn is_window_function(&self, name: &str) -> bool {
        let functions = &self.checker.environment.functions;
        let is_own = |own: &OwnFunction| matches!(own, OwnFunction::Window(_)) && own.described()[0] == name;
        let is_known = windows::all().any(|function| function.name == name) || functions.own().any(is_own);
        is_known && !functions.has_aggregate(name)
    }

    /// Translates a call over a window: the column that it becomes.
    pub(super) fn window_call(&mut self, called: &Called<'_>, part: &mut Part<'_>) -> Result<Expr> {
        let Called { function, span, .. } = *called;
        let Some(named) = part.named_windows else {
            let what = format!("A window cannot stand in {}.", part.clause);
            let error = self.wrong(ErrorKind::Check, what, span);
            return Err(error.next("Select it in a sub-query, and take its column."));
        };
        if function.null_treatment.is_some() {
            return Err(self.unsupported(
                "ignore nulls",
                "Fill the nulls in a step before: fill litres down by farm.",
                span,
            ));
        }
        let spec = self.window_spec(function.over.as_ref(), named, span)?;
        let before = part.windows.len();
        let call = self.called_over(called, part)?;
        let by = self.expressions(&spec.partition_by, part)?;
        let order: Result<Vec<SortKey>> = spec.order_by.iter().map(|key| self.sort_key(key, part)).collect();
        let order = order?;
        if part.windows.len() > before {
            let error = self.wrong(ErrorKind::Check, "A window cannot stand within a window.", span);
            return Err(error.next("Select the inner one in a sub-query."));
        }
        let (frame, by_groups) =
            self.frame(&called.name, spec.window_frame.as_ref(), order.len(), span, part)?;
        let same = part.windows.iter().find(|item| {
            (&item.call, &item.frame, &item.by, &item.order, item.by_groups)
                == (&call, &frame, &by, &order, by_groups)
        });
        let column_name = match same {
            Some(same) => same.column.clone(),
            None => {
                let name = self.fresh("window");
                part.windows.push(WindowItem {
                    column: name.clone(),
                    call,
                    frame,
                    by,
                    order,
                    by_groups,
                    span,
                });
                name
            }
        };
        Ok(column_at(&column_name, span))
    }

    /// The aggregate or window function of a call over a window.
    fn called_over(&mut self, called: &Called<'_>, part: &mut Part<'_>) -> Result<Expr> {
        let (name, span) = (called.name.as_str(), called.span);
        if self.is_window_function(name) {
            self.without_aggregate_parts(called)?;
            let args: Result<Vec<Expr>> = called.all.iter().map(|x| self.expression(x, part)).collect();
            return Ok(call(name, args?, span));
        }
        match self.aggregate(called, part)? {
            Some(found) if matches!(found.kind, Kind::Call(..) | Kind::Where(..)) => Ok(found),
            Some(_) => Err(self.unsupported(&format!("{name} over a window"), "", span)),
            None => {
                let error = self.wrong(ErrorKind::Check, format!("{name} takes no window."), span);
                Err(error
                    .next("Windows go with aggregates, row_number, rank, lag, first_value and the like."))
            }
        }
    }

    /// The window of a call, with what it takes of named ones.
    fn window_spec(
        &self,
        over: Option<&WindowType>,
        named: &[NamedWindowDefinition],
        span: Span,
    ) -> Result<WindowSpec> {
        let mut spec = match over {
            Some(WindowType::WindowSpec(spec)) => spec.clone(),
            Some(WindowType::NamedWindow(name)) => built_on(name),
            None => return Err(self.wrong(ErrorKind::Internal, "A call has no window.", span)),
        };
        // Each name is looked up once at most, so that no round of names goes on.
        for _ in 0..=named.len() {
            let Some(name) = spec.window_name.take() else { return Ok(spec) };
            let found =
                named.iter().find(|NamedWindowDefinition(known, _)| super::scope::means(&name, &known.value));
            let Some(NamedWindowDefinition(_, base)) = found else {
                let what = format!("There is no window {} in the window clause.", name.value);
                return Err(self.wrong(ErrorKind::Name, what, self.places.span(name.span)));
            };
            let base = match base {
                NamedWindowExpr::WindowSpec(base) => base.clone(),
                NamedWindowExpr::NamedWindow(other) => built_on(other),
            };
            if !spec.partition_by.is_empty() || (!spec.order_by.is_empty() && !base.order_by.is_empty()) {
                let what = format!("The window {} has that already.", name.value);
                let error = self.wrong(ErrorKind::Check, what, self.places.span(name.span));
                return Err(error
                    .why("What is built on a named window adds an order, if that has none, and a frame."));
            }
            spec = WindowSpec {
                window_name: base.window_name,
                partition_by: base.partition_by,
                order_by: if spec.order_by.is_empty() { base.order_by } else { spec.order_by },
                window_frame: spec.window_frame.or(base.window_frame),
            };
        }
        Err(self.wrong(ErrorKind::Check, "These windows are built on each other.", span))
    }

    /// The frame of a call, and whether it counts groups of equal rows.
    fn frame(
        &mut self,
        name: &str,
        frame: Option<&WindowFrame>,
        keys: usize,
        span: Span,
        part: &mut Part<'_>,
    ) -> Result<(Option<Frame>, bool)> {
        let takes_frame = windows::all().find(|f| f.name == name).is_none_or(|f| f.takes_frame);
        let Some(frame) = frame else {
            // Up to the rows that are equal to this one, where there is an order.
            let so_far = Frame::Between { rows: false, from: Edge::First, to: Edge::Here };
            return Ok(((keys > 0 && takes_frame).then_some(so_far), keys > 1));
        };
        if !takes_frame {
            let error = self.wrong(ErrorKind::Check, format!("{name} takes no frame."), span);
            return Err(error.next("It looks at the whole partition: leave the frame out."));
        }
        let from = self.edge(&frame.start_bound, part)?;
        let to = match &frame.end_bound {
            Some(bound) => self.edge(bound, part)?,
            None => Edge::Here,
        };
        let (from, to) = match (from, to) {
            (Edge::Last, _) | (_, Edge::First) => {
                return Err(self.wrong(ErrorKind::Check, "This frame ends before it starts.", span));
            }
            ends => ends,
        };
        if keys == 0 && frame.units != WindowFrameUnits::Rows {
            if matches!((&from, &to), (Edge::First | Edge::Here, Edge::Last | Edge::Here)) {
                // All rows are equal to each other.
                return Ok((None, false));
            }
            let error = self.wrong(ErrorKind::Check, "This frame needs an order.", span);
            return Err(error.next("Write over (order by collected_on range between …)."));
        }
        Ok(match (frame.units, from, to) {
            (WindowFrameUnits::Rows, Edge::First, Edge::Here) => (Some(Frame::SoFar), false),
            (WindowFrameUnits::Rows, Edge::Here, Edge::Last) => (Some(Frame::FromHere), false),
            (_, Edge::First, Edge::Last) => (None, false),
            (WindowFrameUnits::Rows, from, to) => (Some(Frame::Between { rows: true, from, to }), false),
            (units, from, to) => {
                let measures = !matches!((&from, &to), (Edge::First | Edge::Here, Edge::Last | Edge::Here));
                if measures && keys > 1 && units == WindowFrameUnits::Range {
                    let error = self.wrong(
                        ErrorKind::Check,
                        "A range is measured by one key, and these are several.",
                        span,
                    );
                    return Err(error.next("Order by one key, or count rows: rows between …."));
                }
                // The steps of the language measure a range by the first key of the order.
                let by_groups = keys > 1 || (measures && units == WindowFrameUnits::Groups);
                (Some(Frame::Between { rows: false, from, to }), by_groups)
            }
        })
    }

    fn edge(&mut self, bound: &WindowFrameBound, part: &mut Part<'_>) -> Result<Edge> {
        Ok(match bound {
            WindowFrameBound::CurrentRow => Edge::Here,
            WindowFrameBound::Preceding(None) => Edge::First,
            WindowFrameBound::Following(None) => Edge::Last,
            WindowFrameBound::Preceding(Some(by)) => Edge::Before(self.expression(by, part)?),
            WindowFrameBound::Following(Some(by)) => Edge::After(self.expression(by, part)?),
        })
    }

    /// Adds the columns of calls over windows: a step for each window.
    pub(super) fn windows(&mut self, rows: &mut Rows, items: Vec<WindowItem>) -> Result<()> {
        let mut left = items;
        while let Some(first) = left.first() {
            let (by, order, by_groups, span) =
                (first.by.clone(), first.order.clone(), first.by_groups, first.span);
            let is_same =
                |item: &WindowItem| item.by == by && item.order == order && item.by_groups == by_groups;
            let (same, others): (Vec<WindowItem>, Vec<WindowItem>) = left.into_iter().partition(is_same);
            left = others;
            let mut columns = Vec::new();
            for key in by {
                columns.push(self.column_of(rows, key, "part", span)?);
            }
            let order = if by_groups { self.groups_in_order(rows, &columns, order, span)? } else { order };
            let items = same.into_iter().map(|WindowItem { column, call, frame, span, .. }| {
                let value = match frame {
                    Some(frame) => Expr::new(Kind::Over(Box::new(call), Box::new(frame)), span),
                    None => call,
                };
                Item::from(value.named(&column))
            });
            let window = Window::new(items.collect::<Vec<_>>());
            let window =
                if columns.is_empty() { window } else { window.by(columns.iter().map(String::as_str)) };
            self.push(rows, window.order(order), span)?;
        }
        Ok(())
    }

    /// The number of each group of rows that are equal in an order, as an order of its own.
    fn groups_in_order(
        &mut self,
        rows: &mut Rows,
        by: &[String],
        order: Vec<SortKey>,
        span: Span,
    ) -> Result<Vec<SortKey>> {
        let number = self.fresh("group");
        let rank = call("dense_rank", Vec::new(), span).named(&number);
        let window = Window::new([Item::from(rank)]).order(order);
        let window = if by.is_empty() { window } else { window.by(by.iter().map(String::as_str)) };
        self.push(rows, window, span)?;
        Ok(vec![column_at(&number, span).asc()])
    }

    /// The column of an expression: its own if it is one, else one that is added.
    pub(super) fn column_of(
        &mut self,
        rows: &mut Rows,
        value: Expr,
        wanted: &str,
        span: Span,
    ) -> Result<String> {
        if let Kind::Name(name) = &value.kind {
            return Ok(name.clone());
        }
        let name = self.fresh(wanted);
        self.push(rows, Add::new([Item::from(value.named(&name))]), span)?;
        Ok(name)
    }
}

/// A window that is another one, by its name.
fn built_on(name: &Ident) -> WindowSpec {
    WindowSpec {
        window_name: Some(name.clone()),
        partition_by: Vec::new(),
        order_by: Vec::new(),
        window_frame: None,
    }
}
