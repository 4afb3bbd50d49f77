//! `window [by COLS] [order by KEYS]` and items: new columns from each row's neighbours.

use std::fmt;

use churn_core::names::comma;
use churn_core::{ColumnId, Error, ErrorKind, Field, Result};
use churn_expr::ast::ColumnRef;
use churn_expr::bind::{Place, WindowPlace};
use churn_expr::expand::columns_of_list;
use churn_expr::text::Cursor;
use churn_expr::windows::WindowCall;
use churn_expr::{Bound, SortKey};
use churn_plan::Relation;
use churn_plan::operators::{Compute, WindowKey};

use super::columns;
use super::item::{self, Item, write_below};
use super::sort::read_key;
use super::{Check, Checker, Step, StepKind, StepText};

pub(super) const KIND: StepKind = StepKind {
    keyword: "window",
    usage: "window [by COLS] [order by KEYS] + items",
    summary: "Adds columns worked out from each row's neighbours in its partition; the rows stay where they are.",
    example: "window by farm order by collected_on: week = mean(litres) over last 7 rows, previous = lag(litres)",
    parse,
};

/// `window`: new columns from each row's neighbours in its partition; the rows stay where they are.
///
/// ```
/// use churn::{Frame, column, mean, steps};
/// let week = mean(column("litres")).over(Frame::last_rows(7)).named("week");
/// let window = steps::Window::new([week]).by(["farm"]).order([column("day")]);
/// assert_eq!(window.to_string(), "window by farm order by day\n  week = mean(litres) over last 7 rows");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Window {
    by: Vec<ColumnRef>,
    order: Vec<SortKey>,
    items: Vec<Item>,
}

impl Window {
    /// Adds these items, over one partition, the whole table.
    pub fn new<T: Into<Item>>(items: impl IntoIterator<Item = T>) -> Window {
        Window { by: Vec::new(), order: Vec::new(), items: item::all(items) }
    }

    /// A partition for each value of these columns.
    #[must_use]
    pub fn by<T: Into<ColumnRef>>(self, columns: impl IntoIterator<Item = T>) -> Window {
        Window { by: columns::all(columns), ..self }
    }

    /// The order in a partition.
    #[must_use]
    pub fn order<T: Into<SortKey>>(self, keys: impl IntoIterator<Item = T>) -> Window {
        Window { order: keys.into_iter().map(Into::into).collect(), ..self }
    }
}

fn parse(text: StepText<'_>) -> Result<Step> {
    let StepText { mut head, lines, .. } = text;
    let by = if head.take_word("by") { head.list(Cursor::column_ref)? } else { Vec::new() };
    let order = if head.take_words(&["order", "by"]) { head.list(read_key)? } else { Vec::new() };
    let mut items = Vec::new();
    if head.take_symbol(":") || (by.is_empty() && order.is_empty() && !head.at_end()) {
        items = head.list(Item::read)?;
    }
    head.expect_end()?;
    for mut line in lines {
        items.extend(line.list(Item::read)?);
        line.expect_end()?;
    }
    if items.is_empty() {
        return Err(head
            .error("A window needs items.")
            .next("Write: window by farm order by collected_on: previous = lag(litres)"));
    }
    Ok(Step::from(Window { by, order, items }))
}

/// Gives expressions columns of their own, unless they are columns.
#[derive(Default)]
struct Columns(Vec<(Field, Bound)>);

impl Columns {
    fn of(&mut self, bound: Bound, checker: &mut Checker<'_>) -> ColumnId {
        if let Some(id) = bound.as_column() {
            return id;
        }
        let field = Field::new(checker.ids.fresh(), "", bound.kind.clone());
        let id = field.id;
        self.0.push((field, bound));
        id
    }
}

impl Check for Window {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let mut input = input?;
        let step = checker.step();
        let source = checker.source.clone();
        let by = checker.kept(columns_of_list(&self.by, &input.fields, &source)).unwrap_or_default();
        let by: Vec<Field> = by.into_iter().cloned().collect();
        let key_names: Vec<String> = by.iter().map(|f| f.name.clone()).collect();
        let mut columns = Columns::default();
        let mut order = Vec::new();
        for key in &self.order {
            let mut place = Place::NoAggregates("An order needs one value in each row.");
            let bound = checker.expression(&key.by, &input.fields, &mut place);
            if !bound.kind.has_order() {
                checker
                    .wrong(key.by.span, Error::new(ErrorKind::Type, format!("{} has no order.", bound.kind)));
            }
            let (kind, descending, nulls_first) = (bound.kind.clone(), key.descending, key.nulls_first);
            order.push(WindowKey { by: columns.of(bound, checker), kind, descending, nulls_first });
        }
        let first = order.first().map(|key| (key.kind.clone(), key.descending));
        let mut window = WindowPlace { order: first, calls: Vec::new() };
        let mut computed: Vec<(Field, Bound)> = Vec::new();
        let mut added: Vec<Field> = Vec::new();
        for item in item::named(&self.items, &input.fields, &key_names, checker) {
            let bound = checker.expression(&item.expr, &input.fields, &mut Place::Window(&mut window));
            let field = match window.calls.iter().find(|c| Some(c.field.id) == bound.as_column()) {
                Some(call) => Field { name: item.name, ..call.field.clone() },
                None => {
                    let field = Field::new(checker.ids.fresh(), item.name, bound.kind.clone());
                    computed.push((field.clone(), bound));
                    field
                }
            };
            added.push(field);
        }
        let call = |call: WindowCall| churn_plan::operators::Call {
            args: call.args.into_iter().map(|arg| columns.of(arg, checker)).collect(),
            only: call.only.map(|only| columns.of(only, checker)),
            field: call.field,
            task: call.task,
            frame: call.frame,
        };
        let calls = window.calls.into_iter().map(call).collect();
        if !columns.0.is_empty() {
            input = input.then(Compute { columns: columns.0 }, step);
        }
        let by = by.iter().map(|f| f.id).collect();
        let mut relation =
            input.then(churn_plan::operators::Window { by, order, calls, unread: Vec::new() }, step);
        if !computed.is_empty() {
            relation = relation.then(Compute { columns: computed }, step);
        }
        added.into_iter().for_each(|field| relation.put(field));
        Some(relation)
    }

    fn keeps_rows(&self) -> bool {
        true
    }
}

impl fmt::Display for Window {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("window")?;
        if !self.by.is_empty() {
            write!(f, " by {}", comma(&self.by))?;
        }
        if !self.order.is_empty() {
            write!(f, " order by {}", comma(&self.order))?;
        }
        write_below(f, &self.items)
    }
}
