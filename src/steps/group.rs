//! `group by KEY, …` and `total`: one row for each group, or one for the whole table.

use std::fmt;

use churn_core::names::comma;
use churn_core::{Error, ErrorKind, Field, Result, Type};
use churn_expr::Bound;
use churn_expr::bind::Place;
use churn_plan::Relation;
use churn_plan::operators::{self, Compute};

use super::item::{self, Item, write_below};
use super::{Check, Checker, Step, StepKind, StepText};

pub(super) const GROUP: StepKind = StepKind {
    keyword: "group",
    usage: "group by KEY, … + items",
    summary: "Makes one row of each group: keys, then items, in order of first appearance.",
    example: "group by farm, month = start_of(month, collected_on): litres = sum(litres), n = count()",
    parse: parse_group,
};

pub(super) const TOTAL: StepKind = StepKind {
    keyword: "total",
    usage: "total + items",
    summary: "Makes one row of the whole table, also of an empty one.",
    example: "total: n = count(), litres = sum(litres), farms = count_distinct(farm)",
    parse: |text| Ok(Step::from(Group { keys: Vec::new(), items: text.list(Item::read)?, total: true })),
};

/// `group by`: one row for each group, keys then items, in order of first appearance; `total`: one row of the whole table.
///
/// ```
/// use churn::{column, count, steps, sum};
/// let group = steps::Group::by([column("farm")]).items([sum(column("litres")).named("litres"), count().named("loads")]);
/// assert_eq!(group.to_string(), "group by farm\n  litres = sum(litres)\n  loads = count()");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Group {
    keys: Vec<Item>,
    items: Vec<Item>,
    total: bool,
}

impl Group {
    /// Groups by these keys: names, expressions, or expressions with names.
    pub fn by<T: Into<Item>>(keys: impl IntoIterator<Item = T>) -> Group {
        Group { keys: item::all(keys), items: Vec::new(), total: false }
    }

    /// Makes one group of the whole table, also of an empty one.
    pub fn total() -> Group {
        Group { keys: Vec::new(), items: Vec::new(), total: true }
    }

    /// What each group gives beside its keys.
    #[must_use]
    pub fn items<T: Into<Item>>(self, items: impl IntoIterator<Item = T>) -> Group {
        Group { items: item::all(items), ..self }
    }
}

fn parse_group(text: StepText<'_>) -> Result<Step> {
    let StepText { mut head, lines, .. } = text;
    head.expect_word("by", "and the keys: group by farm")?;
    let keys = head.list(Item::read)?;
    let mut items = Vec::new();
    if head.take_symbol(":") {
        items = head.list(Item::read)?;
    }
    head.expect_end()?;
    for mut line in lines {
        items.extend(line.list(Item::read)?);
        line.expect_end()?;
    }
    Ok(Step::from(Group { keys, items, total: false }))
}

impl Check for Group {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let step = checker.step();
        let mut keys: Vec<(Field, Bound)> = Vec::new();
        for key in item::named(&self.keys, &input.fields, &[], checker) {
            let mut place =
                Place::NoAggregates("A key has one value in each row; an aggregate has one in each group.");
            let bound = checker.expression(&key.expr, &input.fields, &mut place);
            if let Type::List(_) = bound.kind {
                checker.wrong(key.span, Error::new(ErrorKind::Type, format!("{} is no key.", bound.kind)));
            }
            keys.push((Field::new(checker.ids.fresh(), key.name, bound.kind.clone()), bound));
        }
        let key_fields: Vec<Field> = keys.iter().map(|(f, _)| f.clone()).collect();
        let sources = self.keys.iter().filter_map(|k| k.bare_column()).map(str::to_owned);
        let key_names: Vec<String> = key_fields.iter().map(|f| f.name.clone()).chain(sources).collect();
        let mut calls = Vec::new();
        let mut fields = key_fields.clone();
        let mut computed = Vec::new();
        for item in item::named(&self.items, &input.fields, &key_names, checker) {
            if let Some(key) = key_fields.iter().find(|k| k.name == item.name) {
                let what = format!("An item is called like the key {}.", churn_core::names::name(&key.name));
                checker
                    .wrong(item.span, Error::new(ErrorKind::Name, what).next("Give the item another name."));
                continue;
            }
            let mut place = Place::Groups { keys: &key_fields, calls: &mut calls };
            let bound = checker.expression(&item.expr, &input.fields, &mut place);
            let field = match calls.iter_mut().find(|c| Some(c.field.id) == bound.as_column()) {
                // A bare aggregate is the item itself.
                Some(call) => Field { name: item.name, ..call.field.clone() },
                None => {
                    let field = Field::new(checker.ids.fresh(), item.name, bound.kind.clone());
                    computed.push((field.clone(), bound));
                    field
                }
            };
            fields.push(field);
        }
        let relation = input.then(operators::Group { keys, calls, unread: Vec::new() }, step);
        let relation =
            if computed.is_empty() { relation } else { relation.then(Compute { columns: computed }, step) };
        Some(Relation { fields, ..relation })
    }
}

impl fmt::Display for Group {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.total {
            f.write_str("total")?;
        } else {
            write!(f, "group by {}", comma(&self.keys))?;
        }
        write_below(f, &self.items)
    }
}
