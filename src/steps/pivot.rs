//! `pivot KEYS [by COLS]` and items: values of KEYS become columns.

use std::fmt;

use churn_core::names::{comma, name};
use churn_core::{ColumnId, Error, ErrorKind, Field, Result, Scalar, Span, Type};
use churn_expr::ast::{Expr, Kind};
use churn_expr::bind::{AggregateCall, Place};
use churn_expr::expand::unknown_column;
use churn_expr::functions::{self, Arguments};
use churn_expr::{Bound, aggregates, cast};
use churn_plan::operators::{Cell, Compute, Group, Scan, Sort, SortKey, Totals};
use churn_plan::{Node, Plan, Relation, StepInfo, Wanted};

use super::item::{self, Item, write_below};
use super::{Checker, Step, StepKind, StepText};
use crate::lang::text::{Cursor, expression};

/// More columns than these are a mistake.
const MOST: usize = 10_000;

pub(super) const KIND: StepKind = StepKind {
    keyword: "pivot",
    usage: "pivot KEY [in (VALUES)], … [by COLS] + items, fill LITERAL, totals, named TEXT",
    summary: "Turns values of the keys into columns: one row for each value of COLS, one column for each value and item.",
    example: "pivot grade by farm: litres = sum(litres)",
    parse,
};

#[derive(Debug)]
struct Pivot {
    keys: Vec<Key>,
    by: Option<Vec<Item>>,
    items: Vec<Item>,
    fill: Option<(Scalar, Span)>,
    totals: bool,
    named: Option<Expr>,
    span: Span,
}

/// A key, and the values of it that become columns, if they are given.
#[derive(Debug)]
struct Key {
    name: String,
    span: Span,
    values: Option<Vec<(Expr, Span)>>,
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&name(&self.name))?;
        match &self.values {
            Some(values) => write!(f, " in ({})", comma(values.iter().map(|(v, _)| v))),
            None => Ok(()),
        }
    }
}

fn read_key(c: &mut Cursor<'_>) -> Result<Key> {
    let (name, span) = c.name("a column whose values become columns")?;
    let value = |c: &mut Cursor<'_>| {
        let start = c.span();
        Ok((expression(c)?, c.since(start)))
    };
    let values = if c.take_word("in") { Some(c.in_parentheses(value)?) } else { None };
    Ok(Key { name, span, values })
}

fn parse(text: StepText<'_>) -> Result<Box<dyn Step>> {
    let StepText { mut head, lines, .. } = text;
    let start = head.span();
    let keys = head.list(read_key)?;
    let by = if head.take_word("by") { Some(head.list(Item::read)?) } else { None };
    let span = head.since(start);
    let mut pivot = Pivot { keys, by, items: Vec::new(), fill: None, totals: false, named: None, span };
    if head.take_symbol(":") {
        pivot.items = head.list(Item::read)?;
    }
    while pivot.option(&mut head)? {}
    head.expect_end()?;
    for mut line in lines {
        if !pivot.option(&mut line)? {
            pivot.items.extend(line.list(Item::read)?);
        }
        while pivot.option(&mut line)? {}
        line.expect_end()?;
    }
    let given = pivot.keys.iter().filter(|key| key.values.is_some()).count();
    if given != 0 && given != pivot.keys.len() {
        let error = head.error_at(span, "Some keys name their values and some do not.");
        return Err(error.next("Write in (…) after each key, or after none."));
    }
    if pivot.items.is_empty() {
        return Err(head
            .error_at(span, "A pivot needs items: what stands in the cells.")
            .next("Write: pivot grade by farm: litres = sum(litres)"));
    }
    Ok(Box::new(pivot))
}

impl Pivot {
    /// Reads one of the lines that are no items.
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

    /// The key columns.
    fn keys(&self, input: &Relation, checker: &mut Checker<'_>) -> Option<Vec<Field>> {
        let source = checker.source.clone();
        let mut found: Vec<Field> = Vec::new();
        for key in &self.keys {
            match input.fields.iter().find(|f| f.name == key.name) {
                Some(field) if matches!(field.kind, Type::List(_)) => {
                    let what = format!("{} is a list, and no key.", name(&key.name));
                    checker.wrong(key.span, Error::new(ErrorKind::Type, what));
                }
                Some(field) => found.push(field.clone()),
                None => checker.errors.push(unknown_column(&key.name, &input.fields, &source, key.span)),
            }
        }
        (found.len() == self.keys.len()).then_some(found)
    }

    /// What makes a row: the columns of `by`, or all that are neither a key nor used by an item.
    fn by(&self, input: &Relation, checker: &mut Checker<'_>) -> Vec<(Field, Bound)> {
        if let Some(by) = &self.by {
            let mut place = Place::NoAggregates("What makes a row has one value in each row of the input.");
            let items = item::named(by, &input.fields, &[], checker);
            let bound = items.into_iter().map(|item| {
                let bound = checker.expression(&item.expr, &input.fields, &mut place);
                (Field::new(checker.ids.fresh(), item.name, bound.kind.clone()), bound)
            });
            return bound.collect();
        }
        let mut used: Vec<String> = self.keys.iter().map(|key| key.name.clone()).collect();
        self.items.iter().for_each(|item| item.expr.names(&mut used));
        let left = input.fields.iter().filter(|f| !used.contains(&f.name));
        left.map(|f| (Field::new(checker.ids.fresh(), &f.name, f.kind.clone()), Bound::column(f))).collect()
    }

    /// The values that are given for the keys, each in its key's type: of several keys every pair.
    fn given(&self, keys: &[Field], checker: &mut Checker<'_>) -> Option<Vec<Vec<Scalar>>> {
        let mut found: Vec<Vec<Scalar>> = vec![Vec::new()];
        for (key, field) in self.keys.iter().zip(keys) {
            let mut own = Vec::new();
            for (value, span) in key.values.iter().flatten() {
                let bound = checker.expression(value, &[], &mut Place::NoAggregates("Here stand literals."));
                let scalar = match (bound.as_literal(), &field.kind) {
                    (Some(Scalar::Text(text)), kind) if kind.is_dated() || *kind == Type::Time => {
                        cast::dated_literal(text, kind)
                    }
                    (Some(Scalar::Null), _) => Some(Scalar::Null),
                    (Some(value), kind) if value.kind().common_type(kind).as_ref() == Some(kind) => {
                        churn_expr::converted(value, kind)
                    }
                    _ => None,
                };
                match scalar {
                    Some(scalar) if own.contains(&scalar) => {
                        let what = format!("{scalar} is named twice.");
                        checker.wrong(*span, Error::new(ErrorKind::Check, what));
                    }
                    Some(scalar) => own.push(scalar),
                    None if bound.kind == Type::Unknown => {}
                    None => {
                        let what =
                            format!("{} is {}, and this is no literal of it.", name(&key.name), field.kind);
                        checker.wrong(*span, Error::new(ErrorKind::Type, what));
                    }
                }
            }
            let pairs = found.iter().flat_map(|before| {
                own.iter().map(move |value| before.iter().cloned().chain([value.clone()]).collect())
            });
            found = pairs.collect();
        }
        if found.len() * self.items.len() > MOST {
            checker.wrong(self.span, too_many(found.len()));
            return None;
        }
        Some(found)
    }

    /// Which rows have a cell, where the values of the keys are given: totals are of what the table shows.
    fn counted(&self, keys: &[(Field, Bound)], checker: &mut Checker<'_>) -> Option<Bound> {
        if self.keys.iter().all(|key| key.values.is_none()) {
            return None;
        }
        let mistakes = checker.errors.len();
        let fields: Vec<Field> =
            keys.iter().map(|(field, by)| Field { kind: by.kind.clone(), ..field.clone() }).collect();
        let combinations = self.given(&fields, checker);
        // What is wrong with the values is told where they become columns.
        checker.errors.truncate(mistakes);
        let combinations = combinations?;
        let tests = keys.iter().enumerate().map(|(place, (_, by))| {
            let values = combinations.iter().filter_map(|values| values.get(place));
            let (nulls, values): (Vec<_>, Vec<_>) = values.cloned().partition(Scalar::is_null);
            let member = functions::is_member(by.clone(), &values);
            if nulls.is_empty() {
                return member;
            }
            let is_null = functions::is_null(by.clone());
            Bound { node: churn_expr::Node::Or(Box::new(is_null), Box::new(member)), kind: Type::Bool }
        });
        tests.reduce(|a, b| Bound { node: churn_expr::Node::And(Box::new(a), Box::new(b)), kind: Type::Bool })
    }

    /// The name of a combination's column.
    fn column(
        &self,
        combination: Option<&[Scalar]>,
        item: &str,
        checker: &mut Checker<'_>,
    ) -> Option<String> {
        let texts: Vec<String> = match combination {
            Some(values) => values.iter().map(plain).collect(),
            None => vec!["total".to_owned(); self.keys.len()],
        };
        let Some(named) = &self.named else {
            let mut parts = if combination.is_some() { texts } else { vec!["total".to_owned()] };
            if self.items.len() > 1 {
                parts.push(item.to_owned());
            }
            return Some(parts.join("_"));
        };
        let names: Vec<&str> = self.keys.iter().map(|key| key.name.as_str()).chain(["item"]).collect();
        let values: Vec<&str> = texts.iter().map(String::as_str).chain([item]).collect();
        checker.constant_text(&substituted(named, &names, &values))
    }

    /// The wide columns: for each combination all items.
    fn cells(
        &self,
        combinations: &[Vec<Scalar>],
        items: &[(String, Field, bool)],
        checker: &mut Checker<'_>,
    ) -> Vec<Cell> {
        let mut cells: Vec<Cell> = Vec::new();
        let totals = self.totals.then_some(combinations.len());
        for place in (0..combinations.len()).chain(totals) {
            for (item, value, is_only) in items {
                let combination = combinations.get(place).map(Vec::as_slice);
                let Some(column) = self.column(combination, item, checker) else { continue };
                let mut kind = value.kind.clone();
                if let (true, Type::List(inner)) = (is_only, &value.kind) {
                    kind = (**inner).clone();
                }
                if cells.iter().any(|cell| cell.field.name == column) {
                    let what = format!("Two columns would be called {}.", name(&column));
                    let error = Error::new(ErrorKind::Name, what);
                    checker.wrong(self.span, error.next("Name them apart: named grade || ': ' || item"));
                    return cells;
                }
                let fill = self.fill.as_ref().and_then(|(fill, span)| {
                    let filled = (fill.kind().common_type(&kind).as_ref() == Some(&kind))
                        .then(|| churn_expr::converted(fill, &kind))
                        .flatten();
                    if filled.is_none() && kind != Type::Unknown {
                        let what = format!("The cells of {item} are {kind}, and {fill} is none.");
                        checker.wrong(*span, Error::new(ErrorKind::Type, what));
                    }
                    filled
                });
                let field = Field::new(checker.ids.fresh(), column, kind);
                let only = is_only.then(|| item.clone());
                cells.push(Cell { field, combination: place, value: value.id, only, fill });
            }
        }
        cells
    }

    /// The groups of rows and keys with their aggregates; with totals each group is there for those, too.
    fn grouped(&self, input: Relation, keys: &[Field], checker: &mut Checker<'_>) -> Grouped {
        let step = checker.step();
        let by = self.by(&input, checker);
        let fields = input.fields.clone();
        let key_names: Vec<String> =
            by.iter().map(|(f, _)| f.name.clone()).chain(keys.iter().map(|f| f.name.clone())).collect();
        let by_fields: Vec<Field> = by.iter().map(|(f, _)| f.clone()).collect();
        let mut calls: Vec<AggregateCall> = Vec::new();
        let mut computed = Vec::new();
        let mut items = Vec::new();
        for item in item::named(&self.items, &fields, &key_names, checker) {
            let is_only = !has_aggregate(&item.expr);
            if is_only && self.totals {
                let what = format!("{} has no aggregate, so it has no total.", name(&item.name));
                let error = Error::new(ErrorKind::Check, what);
                checker.wrong(item.span, error.next(format!("Write: {0} = sum({0})", name(&item.name))));
            }
            let expr = if is_only {
                Expr::new(Kind::Call("array_agg".into(), vec![item.expr.clone()]), item.expr.span)
            } else {
                item.expr.clone()
            };
            let mut place = Place::Groups { keys: &by_fields, calls: &mut calls };
            let bound = checker.expression(&expr, &fields, &mut place);
            let field = match calls.iter().find(|c| Some(c.field.id) == bound.as_column()) {
                Some(call) => call.field.clone(),
                None => {
                    let field = Field::new(checker.ids.fresh(), &item.name, bound.kind.clone());
                    computed.push((field.clone(), bound));
                    field
                }
            };
            items.push((item.name, field, is_only));
        }
        let count = self.keys.iter().any(|key| key.values.is_some()).then(|| {
            let args = Arguments { name: "count", usage: "count()", values: Vec::new() };
            let made = aggregates::find("count").and_then(|count| (count.bind)(args).ok());
            let field = Field::new(checker.ids.fresh(), "count", Type::Int);
            calls.extend(made.map(|made| AggregateCall {
                field: field.clone(),
                text: String::new(),
                made,
                only: None,
            }));
            field
        });
        let mut group_keys: Vec<(Field, Bound)> = by;
        let own_key = |f: &Field, checker: &mut Checker<'_>| {
            (Field::new(checker.ids.fresh(), &f.name, f.kind.clone()), Bound::column(f))
        };
        group_keys.extend(keys.iter().map(|f| own_key(f, checker)));
        let mut node = input.node;
        let mut totals = None;
        if self.totals {
            let mut renewed: Vec<(Field, Bound)> = Vec::new();
            for (field, bound) in &mut group_keys {
                let own = Field { id: checker.ids.fresh(), ..field.clone() };
                renewed.push((own.clone(), std::mem::replace(bound, Bound::column(&own))));
            }
            let mut mark = |name| {
                (
                    Field::new(checker.ids.fresh(), name, Type::Bool),
                    Field::new(checker.ids.fresh(), name, Type::Bool),
                )
            };
            let ((of_keys, own_of_keys), (of_rows, own_of_rows)) = (mark("of_keys"), mark("of_rows"));
            let keys = renewed.split_off(by_fields.len());
            group_keys.push((own_of_keys.clone(), Bound::column(&of_keys)));
            group_keys.push((own_of_rows.clone(), Bound::column(&of_rows)));
            let (counted, has_row) = (self.counted(&keys, checker), !by_fields.is_empty());
            let keys_and_marks = Totals { counted, has_row, by: renewed, keys, of_keys, of_rows };
            node = node.over(keys_and_marks, step);
            totals = Some((own_of_keys, own_of_rows));
        }
        let keys: Vec<Field> =
            group_keys.iter().skip(by_fields.len()).take(self.keys.len()).map(|(f, _)| f.clone()).collect();
        let mut all: Vec<Field> = group_keys.iter().map(|(f, _)| f.clone()).collect();
        all.extend(calls.iter().map(|c| c.field.clone()));
        all.extend(computed.iter().map(|(f, _)| f.clone()));
        node = node.over(Group { keys: group_keys, calls }, usize::MAX);
        if !computed.is_empty() {
            node = node.over(Compute { columns: computed }, step);
        }
        Grouped { relation: Relation { node, fields: all }, by: by_fields, keys, items, count, totals }
    }

    /// Runs the groups to find the values of the keys; what follows goes on from their rows.
    fn found(&self, grouped: &mut Grouped, checker: &mut Checker<'_>) -> Option<Vec<Vec<Scalar>>> {
        let find = checker.find?;
        let mut steps = checker.steps.clone();
        steps.push(StepInfo::new(self.to_string()));
        let plan = Plan::of(grouped.relation.clone(), steps);
        let place = |key: &Field| grouped.relation.fields.iter().position(|f| f.id == key.id);
        let wanted = Wanted {
            columns: grouped.keys.iter().filter_map(place).collect(),
            except: grouped.totals.as_ref().and_then(|(of_keys, _)| place(of_keys)),
            most: MOST / self.items.len().max(1),
        };
        let found = checker.kept(find(plan, &wanted))?;
        checker.counted.merge(&found.counted);
        checker.ran.push(found.ran);
        let Some(combinations) = found.combinations else {
            checker.wrong(self.span, too_many(MOST + 1));
            return None;
        };
        let columns = grouped.relation.fields.iter().cloned().enumerate().collect();
        let scan = Scan { source: found.source, columns, conditions: Vec::new(), limit: None, rejects: None };
        grouped.relation.node = Node::source(scan, usize::MAX);
        Some(combinations)
    }
}

/// The groups of a pivot, and what they are made of.
struct Grouped {
    relation: Relation,
    by: Vec<Field>,
    keys: Vec<Field>,
    /// Each item's name, its column of the groups, and whether that is a list of which one value is wanted.
    items: Vec<(String, Field, bool)>,
    count: Option<Field>,
    /// What marks groups of all keys, and groups of all rows.
    totals: Option<(Field, Field)>,
}

fn too_many(columns: usize) -> Error {
    let many = if columns > MOST { format!("more than {MOST}") } else { columns.to_string() };
    Error::new(ErrorKind::Check, format!("The pivot would make {many} columns."))
        .why(format!("At most {MOST} are made; a key with so many values is better kept in rows."))
        .next("Group by the key instead, filter its values before, or name those that are wanted: pivot grade in ('A', 'B')")
}

fn has_aggregate(expr: &Expr) -> bool {
    if let Kind::Call(function, _) = &expr.kind
        && aggregates::find(function).is_some()
    {
        return true;
    }
    let mut found = false;
    expr.for_each_part(&mut |part| found |= has_aggregate(part));
    found
}

/// A key's value as a part of a name.
fn plain(value: &Scalar) -> String {
    if value.is_null() { "null".into() } else { value.plain() }
}

/// The expression with names replaced by texts.
fn substituted(expr: &Expr, names: &[&str], values: &[&str]) -> Expr {
    if let Kind::Name(word) = &expr.kind
        && let Some(value) = names.iter().position(|n| n == word).and_then(|i| values.get(i))
    {
        return Expr::new(Kind::Literal(Scalar::Text((*value).to_owned())), expr.span);
    }
    expr.map_parts(&mut |part| substituted(part, names, values))
}

impl Step for Pivot {
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
    let mut relation = relation.then(Sort { keys: vec![key], keep: None }, step);
    let Some(first) = by.first() else { return relation };
    let own = match first.kind {
        Type::Text => Bound::column(first),
        _ => cast::explicitly(Bound::column(first), &Type::Text, None, false),
    };
    let arms = vec![(Bound::column(is_total), Bound::literal(Scalar::Text("total".into())))];
    let bound = Bound { node: churn_expr::Node::Case(arms, Some(Box::new(own))), kind: Type::Text };
    let field = Field::new(checker.ids.fresh(), &first.name, Type::Text);
    if let Some(slot) = relation.fields.iter_mut().find(|f| f.id == first.id) {
        *slot = field.clone();
    }
    relation.then(Compute { columns: vec![(field, bound)] }, step)
}

impl fmt::Display for Pivot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "pivot {}", comma(&self.keys))?;
        if let Some(by) = &self.by {
            write!(f, " by {}", comma(by))?;
        }
        write_below(f, &self.items)?;
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
