//! `pivot KEYS [by COLS]` and items: values of KEYS become columns.

mod columns;
mod groups;

use std::fmt;

use churn_core::names::{comma, name};
use churn_core::{ColumnId, Error, ErrorKind, Field, Position, Result, Scalar, Type};
use churn_expr::ast::Expr;
use churn_expr::text::{Cursor, expression};
use churn_expr::{Bound, cast};
use churn_plan::Relation;
use churn_plan::operators::{Sort, SortKey};

use super::item::{self, Item, write_below};
use super::{Check, Checker, Step, StepKind, StepText};

/// More columns than these are a mistake.
const MOST: usize = 10_000;

pub(super) const KIND: StepKind = StepKind {
    keyword: "pivot",
    usage: "pivot KEY [in (VALUES)], … [by COLS] + items, fill LITERAL, totals, named TEXT",
    summary: "Turns values of the keys into columns: one row for each value of COLS, one column for each value and item.",
    example: "pivot grade by farm: litres = sum(litres)",
    parse,
};

/// `pivot`: values of keys become columns.
///
/// ```
/// use churn::{column, steps, sum};
/// let pivot = steps::Pivot::new([steps::PivotKey::new("grade").values(["A", "B"])])
///     .by(["farm"])
///     .items([sum(column("litres")).named("litres")])
///     .fill(0);
/// assert_eq!(pivot.to_string(), "pivot grade in ('A', 'B') by farm\n  litres = sum(litres)\n  fill 0");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Pivot {
    keys: Vec<PivotKey>,
    by: Option<Vec<Item>>,
    items: Vec<Item>,
    fill: Option<(Scalar, Position)>,
    totals: bool,
    named: Option<Expr>,
    span: Position,
}

/// A key of [`Pivot`], and the values of it that become columns, if they are given.
#[derive(Clone, Debug, PartialEq)]
pub struct PivotKey {
    name: String,
    span: Position,
    values: Option<Vec<(Expr, Position)>>,
}

impl PivotKey {
    /// The values of this column that occur, which a run finds first.
    pub fn new(column: &str) -> PivotKey {
        PivotKey { name: column.to_owned(), span: Position::default(), values: None }
    }

    /// These values, in this order; rows with others are left out, and counted.
    #[must_use]
    pub fn values<T: Into<Expr>>(self, values: impl IntoIterator<Item = T>) -> PivotKey {
        let values = values.into_iter().map(|value| (value.into(), Position::default())).collect();
        PivotKey { values: Some(values), ..self }
    }
}

impl fmt::Display for PivotKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&name(&self.name))?;
        match &self.values {
            Some(values) => write!(f, " in ({})", comma(values.iter().map(|(v, _)| v))),
            None => Ok(()),
        }
    }
}

fn read_key(c: &mut Cursor<'_>) -> Result<PivotKey> {
    let (name, span) = c.name("a column whose values become columns")?;
    let value = |c: &mut Cursor<'_>| {
        let start = c.span();
        Ok((expression(c)?, c.since(start)))
    };
    let values = if c.take_word("in") { Some(c.in_parentheses(value)?) } else { None };
    Ok(PivotKey { name, span, values })
}

fn parse(text: StepText<'_>) -> Result<Step> {
    let StepText { mut head, lines, .. } = text;
    let mut pivot = read_keys(&mut head)?;
    let has_items = head.take_symbol(":");
    pivot.contents(&mut head, has_items)?;
    head.expect_end()?;
    for mut line in lines {
        pivot.contents(&mut line, true)?;
        line.expect_end()?;
    }
    pivot.whole().map(Step::from).map_err(|error| error.at(head.source, pivot.span))
}

/// Reads the keys, and the columns that make the rows.
pub(crate) fn read_keys(c: &mut Cursor<'_>) -> Result<Pivot> {
    let start = c.span();
    let keys = c.list(read_key)?;
    let by = if c.take_word("by") { Some(c.list(Item::read)?) } else { None };
    Ok(Pivot { by, span: c.since(start), ..Pivot::new(keys) })
}

impl Pivot {
    /// Makes columns of the values of these keys.
    pub fn new(keys: impl IntoIterator<Item = PivotKey>) -> Pivot {
        Pivot {
            keys: keys.into_iter().collect(),
            by: None,
            items: Vec::new(),
            fill: None,
            totals: false,
            named: None,
            span: Position::default(),
        }
    }

    /// Which columns make a row; without it those that are neither keys nor used by an item.
    #[must_use]
    pub fn by<T: Into<Item>>(self, columns: impl IntoIterator<Item = T>) -> Pivot {
        Pivot { by: Some(item::all(columns)), ..self }
    }

    /// What stands in the cells.
    #[must_use]
    pub fn items<T: Into<Item>>(self, items: impl IntoIterator<Item = T>) -> Pivot {
        Pivot { items: item::all(items), ..self }
    }

    /// What stands in a cell that no row falls into.
    #[must_use]
    pub fn fill(self, value: impl Into<Scalar>) -> Pivot {
        Pivot { fill: Some((value.into(), Position::default())), ..self }
    }

    /// Totals of rows and columns.
    #[must_use]
    pub fn totals(self) -> Pivot {
        Pivot { totals: true, ..self }
    }

    /// What the columns are called, from the keys and `item`.
    #[must_use]
    pub fn named(self, template: impl Into<Expr>) -> Pivot {
        Pivot { named: Some(template.into()), ..self }
    }

    /// The pivot, if its parts go together.
    ///
    /// # Errors
    /// Some keys name their values and some do not; it has no items.
    pub(crate) fn whole(&self) -> Result<Pivot> {
        let given = self.keys.iter().filter(|key| key.values.is_some()).count();
        if given != 0 && given != self.keys.len() {
            return Err(Error::new(ErrorKind::Syntax, "Some keys name their values and some do not.")
                .next("Write in (…) after each key, or after none."));
        }
        if self.items.is_empty() {
            return Err(Error::new(ErrorKind::Syntax, "A pivot needs items: what stands in the cells.")
                .next("Write: pivot grade by farm: litres = sum(litres)"));
        }
        Ok(self.clone())
    }

    /// Reads items, with commas between them, and options, with commas or without.
    pub(crate) fn contents(&mut self, c: &mut Cursor<'_>, has_items: bool) -> Result<()> {
        let mut may_be_item = has_items;
        while !c.at_end() {
            if self.option(c)? {
                may_be_item = c.take_symbol(",") && has_items;
            } else if may_be_item {
                self.items.push(Item::read(c)?);
                may_be_item = c.take_symbol(",");
            } else {
                break;
            }
        }
        Ok(())
    }

    /// Reads what is no item, if it stands here.
    fn option(&mut self, c: &mut Cursor<'_>) -> Result<bool> {
        let is = |c: &Cursor<'_>, word: &str| c.is_word_at(0, word) && !c.is_symbol_at(1, "=");
        if is(c, "fill") {
            c.advance();
            let start = c.span();
            self.fill = Some((c.literal()?, c.since(start)));
        } else if is(c, "totals") {
            c.advance();
            self.totals = true;
        } else if is(c, "named") {
            c.advance();
            self.named = Some(expression(c)?);
        } else {
            return Ok(false);
        }
        Ok(true)
    }
}

impl Check for Pivot {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let step = checker.step();
        let keys = self.keys(&input, checker)?;
        let mut grouped = self.grouped(input, &keys, checker);
        let combinations = if self.keys.iter().any(|key| key.values.is_some()) {
            self.given(&keys, checker)?
        } else if checker.has_errors() {
            return None;
        } else if checker.find.is_none() {
            checker.open = true;
            let fields = grouped.by.clone();
            return Some(Relation { node: grouped.relation.node, fields });
        } else {
            self.found(&mut grouped, checker)?
        };
        let cells = self.cells(&combinations, &grouped.items, checker);
        let mut fields = grouped.by.clone();
        for cell in &cells {
            if fields.iter().any(|f| f.name == cell.field.name) {
                let what =
                    format!("A column that makes the rows is called {} already.", name(&cell.field.name));
                let error = Error::new(ErrorKind::Name, what);
                checker.wrong(self.span, error.next("Name the new ones apart: named 'of ' || grade"));
                break;
            }
            fields.push(cell.field.clone());
        }
        let column = |f: &Field| -> (ColumnId, Type) { (f.id, f.kind.clone()) };
        let of_rows = grouped.totals.as_ref().map(|(_, of_rows)| of_rows.clone());
        let pivot = churn_plan::operators::Pivot {
            by: grouped.by.iter().cloned().chain(of_rows.clone()).collect(),
            keys: grouped.keys.iter().map(column).collect(),
            combinations,
            cells,
            count: grouped.count.map(|f| f.id),
            of_keys: grouped.totals.as_ref().map(|(of_keys, _)| of_keys.id),
        };
        let mut relation = Relation { node: grouped.relation.node.over(pivot, step), fields };
        if let Some(of_rows) = of_rows.filter(|_| !grouped.by.is_empty()) {
            relation = with_total_row(relation, &grouped.by, &of_rows, checker);
        }
        Some(relation)
    }
}

/// The total row behind all others. The first of the columns that make the rows becomes text and says `total` there, so
/// that the row is told from that of a group whose value is null.
fn with_total_row(relation: Relation, by: &[Field], is_total: &Field, checker: &mut Checker<'_>) -> Relation {
    let step = checker.step();
    let key = SortKey { by: Bound::column(is_total), descending: false, nulls_first: false };
    let relation = relation.then(Sort::by(vec![key]), step);
    let Some(first) = by.first() else { return relation };
    let own = match first.kind {
        Type::Text => Bound::column(first),
        _ => cast::explicitly(Bound::column(first), &Type::Text, None, false),
    };
    let arms = vec![(Bound::column(is_total), Bound::literal(Scalar::Text("total".into())))];
    let bound = Bound { node: churn_expr::Node::Case(arms, Some(Box::new(own))), kind: Type::Text };
    checker.with_computed(relation, &first.name, bound).0
}

impl fmt::Display for Pivot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "pivot {}", comma(&self.keys))?;
        if let Some(by) = &self.by {
            write!(f, " by {}", comma(by))?;
        }
        let items: Vec<_> =
            self.items.iter().map(|item| item::Guarded(item, &["fill", "totals", "named"])).collect();
        write_below(f, &items)?;
        if let Some((fill, _)) = &self.fill {
            write!(f, "\n  fill {fill}")?;
        }
        if self.totals {
            f.write_str("\n  totals")?;
        }
        match &self.named {
            Some(named) => write!(f, "\n  named {named}"),
            None => Ok(()),
        }
    }
}
