//! `add name = EXPR, …`: new columns at the right, or columns replaced in place.

use std::fmt;

use churn_core::names::comma;
use churn_expr::bind::Beside;
use churn_plan::Relation;

use super::item::{self, Item, NamedItem, write_below};
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "add",
    usage: "add name = EXPR, …",
    summary: "Adds columns at the right, or replaces a column in place; a later item sees an earlier one.",
    example: "add solids = litres * (fat + protein) / 100, share = litres / sum(litres) per farm",
    parse: |text| Ok(Step::from(Add(text.list(Item::read)?))),
};

/// `add`: new columns at the right, or columns replaced in place; a later item sees an earlier one.
#[derive(Clone, Debug, PartialEq)]
pub struct Add(Vec<Item>);

impl Add {
    /// Adds these items.
    pub fn new<T: Into<Item>>(items: impl IntoIterator<Item = T>) -> Add {
        Add(item::all(items))
    }
}

impl Check for Add {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let mut relation = input?;
        // Items see those before them, so each is checked over what the last one left; names must still differ
        // over all of them.
        let mut seen = Vec::new();
        for item in &self.0 {
            for named in item::named_beside(&seen, std::slice::from_ref(item), &relation.fields, &[], checker)
            {
                relation = adding(relation, &named, checker);
                seen.push(named);
            }
        }
        Some(relation)
    }

    fn keeps_rows(&self) -> bool {
        true
    }
}

/// The relation with one more column, or one replaced.
pub(super) fn adding(relation: Relation, item: &NamedItem, checker: &mut Checker<'_>) -> Relation {
    let mut beside = Beside::default();
    let bound = checker.row_expression(&item.expr, &relation.fields, &mut beside);
    let relation = checker.with_beside(relation, beside);
    checker.with_computed(relation, &item.name, bound).0
}

impl fmt::Display for Add {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0.as_slice() {
            [one] => write!(f, "add {one}"),
            many if comma(many).len() <= 60 => write!(f, "add {}", comma(many)),
            many => {
                f.write_str("add")?;
                write_below(f, many)
            }
        }
    }
}
