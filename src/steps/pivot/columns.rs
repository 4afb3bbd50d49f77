//! The columns that a pivot makes of values: their names, and what stands in them.

use churn_core::names::name;
use churn_core::{Error, ErrorKind, Field, Scalar, Type};
use churn_expr::ast::{Expr, Kind};
use churn_plan::operators::Cell;

use super::Pivot;
use crate::steps::Checker;

impl Pivot {
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
    pub(super) fn cells(
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
