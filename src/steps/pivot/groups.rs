//! The groups that a pivot turns: their keys, what makes a row, and the values that become columns.

use churn_core::names::name;
use churn_core::{Error, ErrorKind, Field, Scalar, Type};
use churn_expr::ast::{Expr, Kind};
use churn_expr::bind::{AggregateCall, Place};
use churn_expr::expand::unknown_column;
use churn_expr::functions::{self, Arguments};
use churn_expr::{Bound, aggregates, cast, fold};
use churn_plan::operators::{Compute, Group, Scan, Totals};
use churn_plan::{Node, Plan, Relation, StepInfo, Wanted};

use super::{MOST, Pivot};
use crate::steps::Checker;
use crate::steps::item;

impl Pivot {
    /// The key columns; one that holds nothing has the type of the values that are given for it.
    pub(super) fn keys(&self, input: &Relation, checker: &mut Checker<'_>) -> Option<Vec<Field>> {
        let source = checker.source.clone();
        let mut found: Vec<Field> = Vec::new();
        for key in &self.keys {
            match input.fields.iter().find(|f| f.name == key.name) {
                Some(field) if !field.kind.has_order() => {
                    let what = format!("{} is {}, and no key.", name(&key.name), field.kind);
                    checker.wrong(key.span, Error::new(ErrorKind::Type, what));
                }
                Some(field) if field.kind == Type::Null => {
                    let literals = key.values.iter().flatten().filter_map(|(value, _)| fold::literal(value));
                    let kind = literals.fold(Type::Null, |shared, value| {
                        shared.common_type(&value.kind()).unwrap_or(shared)
                    });
                    found.push(Field { kind, ..field.clone() });
                }
                Some(field) => found.push(field.clone()),
                None => checker.errors.push(unknown_column(&key.name, &input.fields, &source, key.span)),
            }
        }
        (found.len() == self.keys.len()).then_some(found)
    }

    /// What makes a row: the columns of `by`, or all that are neither a key nor used by an item.
    pub(super) fn row_columns(&self, input: &Relation, checker: &mut Checker<'_>) -> Vec<(Field, Bound)> {
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
    pub(super) fn given(&self, keys: &[Field], checker: &mut Checker<'_>) -> Option<Vec<Vec<Scalar>>> {
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

    /// The groups of rows and keys with their aggregates; with totals each group is there for those, too.
    pub(super) fn grouped(&self, input: Relation, keys: &[Field], checker: &mut Checker<'_>) -> Grouped {
        let step = checker.step();
        let by = self.row_columns(&input, checker);
        let fields = input.fields.clone();
        let key_names: Vec<String> =
            by.iter().map(|(f, _)| f.name.clone()).chain(keys.iter().map(|f| f.name.clone())).collect();
        let by_fields: Vec<Field> = by.iter().map(|(f, _)| f.clone()).collect();
        let mut calls: Vec<AggregateCall> = Vec::new();
        let mut computed = Vec::new();
        let mut items = Vec::new();
        for item in item::named(&self.items, &fields, &key_names, checker) {
            let is_only = !checker.environment.has_aggregate(&item.expr);
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
            let column = fields.iter().find(|own| own.id == f.id).unwrap_or(f);
            let key = cast::silently(Bound::column(column), &f.kind).unwrap_or_else(|| Bound::column(f));
            (Field::new(checker.ids.fresh(), &f.name, f.kind.clone()), key)
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
        node = node.over(Group { keys: group_keys, calls, unread: Vec::new() }, usize::MAX);
        if !computed.is_empty() {
            node = node.over(Compute { columns: computed }, step);
        }
        Grouped { relation: Relation { node, fields: all }, by: by_fields, keys, items, count, totals }
    }

    /// Runs the groups to find the values of the keys; what follows goes on from their rows.
    pub(super) fn found(&self, grouped: &mut Grouped, checker: &mut Checker<'_>) -> Option<Vec<Vec<Scalar>>> {
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
pub(super) struct Grouped {
    pub(super) relation: Relation,
    pub(super) by: Vec<Field>,
    pub(super) keys: Vec<Field>,
    /// Each item's name, its column of the groups, and whether that is a list of which one value is wanted.
    pub(super) items: Vec<(String, Field, bool)>,
    pub(super) count: Option<Field>,
    /// What marks groups of all keys, and groups of all rows.
    pub(super) totals: Option<(Field, Field)>,
}

pub(super) fn too_many(columns: usize) -> Error {
    let many = if columns > MOST { format!("more than {MOST}") } else { columns.to_string() };
    Error::new(ErrorKind::Check, format!("The pivot would make {many} columns."))
        .why(format!("At most {MOST} are made; a key with so many values is better kept in rows."))
        .next("Group by the key instead, filter its values before, or name those that are wanted: pivot grade in ('A', 'B')")
}
