//! `select ITEM, …`: exactly these columns, in this order.

use std::fmt;

use churn_core::Field;
use churn_core::names::comma;
use churn_expr::bind::Beside;
use churn_plan::Relation;
use churn_plan::operators::Compute;

use super::item::{self, Item, write_below};
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "select",
    usage: "select ITEM, …",
    summary: "Keeps exactly these columns, in this order; an item may rename, compute, or be a column set.",
    example: "select farm, day = collected_on, each number except cells",
    parse: |text| Ok(Step::from(Select(text.list(Item::read)?))),
};

/// `select`: exactly these columns, in this order.
#[derive(Clone, Debug, PartialEq)]
pub struct Select(Vec<Item>);

impl Select {
    /// Keeps these items.
    pub fn new<T: Into<Item>>(items: impl IntoIterator<Item = T>) -> Select {
        Select(item::all(items))
    }
}

impl Check for Select {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let mut beside = Beside::default();
        let mut fields = Vec::new();
        let mut computed = Vec::new();
        for item in item::named(&self.0, &input.fields, &[], checker) {
            let bound = checker.row_expression(&item.expr, &input.fields, &mut beside);
            // A bare column is only carried: it keeps its values as they come.
            let carried = bound.as_column().and_then(|id| input.fields.iter().find(|f| f.id == id));
            match carried {
                Some(field) => fields.push(Field { name: item.name, ..field.clone() }),
                None => {
                    let field = Field::new(checker.ids.fresh(), item.name, bound.kind.clone());
                    fields.push(field.clone());
                    computed.push((field, bound));
                }
            }
        }
        let step = checker.step();
        let relation = checker.with_beside(input, beside);
        let relation =
            if computed.is_empty() { relation } else { relation.then(Compute { columns: computed }, step) };
        Some(Relation { fields, ..relation })
    }

    fn keeps_rows(&self) -> bool {
        true
    }
}

impl fmt::Display for Select {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let line = comma(&self.0);
        if line.len() <= 80 {
            return write!(f, "select {line}");
        }
        f.write_str("select")?;
        write_below(f, &self.0)
    }
}
