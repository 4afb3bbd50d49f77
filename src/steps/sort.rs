//! `sort KEY [desc] [nulls first], …`: stable, nulls last unless it says otherwise.

use std::fmt;

use churn_core::{Error, ErrorKind, Result, Type};
use churn_expr::SortKey;
use churn_expr::bind::Beside;
use churn_expr::expand::over_set;
use churn_expr::text::{Cursor, expression};
use churn_plan::Relation;
use churn_plan::operators;

use super::item::guarded;
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "sort",
    usage: "sort KEY [desc] [nulls first], …",
    summary: "Sorts by the keys; rows that are equal keep their order, nulls come last unless it says otherwise.",
    example: "sort litres desc, farm",
    parse: |text| {
        let head = &text.head;
        if head.is_word_at(0, "by")
            && head.peek_at(1).is_some()
            && !head.is_symbol_at(1, ",")
            && !is_direction(head)
        {
            return Err(head.error("sort takes its keys without by.").next("Write sort litres desc, farm."));
        }
        Ok(Step::from(Sort(text.list(read_key)?)))
    },
};

/// Whether what follows a column named `by` says how it is sorted.
fn is_direction(head: &Cursor<'_>) -> bool {
    ["desc", "asc", "nulls"].iter().any(|word| head.is_word_at(1, word))
}

/// Reads a key.
pub(crate) fn read_key(c: &mut Cursor<'_>) -> Result<SortKey> {
    let by = expression(c)?;
    let descending = c.take_word("desc");
    if !descending {
        c.take_word("asc");
    }
    let nulls_first = c.take_words(&["nulls", "first"]);
    if !nulls_first {
        c.take_words(&["nulls", "last"]);
    }
    Ok(SortKey { by, descending, nulls_first })
}

/// `sort`: rows in the order of keys; those that are equal keep theirs.
///
/// ```
/// use churn::{column, steps};
/// let sort = steps::Sort::by([column("litres").desc(), column("farm").asc()]);
/// assert_eq!(sort.to_string(), "sort litres desc, farm");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Sort(Vec<SortKey>);

impl Sort {
    /// Sorts by these keys, the first one first.
    pub fn by<T: Into<SortKey>>(keys: impl IntoIterator<Item = T>) -> Sort {
        Sort(keys.into_iter().map(Into::into).collect())
    }
}

impl Check for Sort {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let mut beside = Beside::default();
        let mut keys = Vec::new();
        let source = checker.source.clone();
        let expanded = self.0.iter().flat_map(|key| {
            let parts = checker.kept(over_set(&key.by, &input.fields, &[], &source)).unwrap_or_default();
            parts.into_iter().map(move |(by, _)| (key, by))
        });
        for (key, by) in expanded.collect::<Vec<_>>() {
            let by = checker.row_expression(&by, &input.fields, &mut beside);
            if !by.kind.has_order() {
                let error = Error::new(ErrorKind::Type, format!("{} has no order.", by.kind));
                checker.wrong(key.by.span, error);
            }
            if by.as_literal().is_some() && by.kind != Type::Unknown {
                let error = Error::new(ErrorKind::Check, "The same value in every row sorts nothing.");
                checker
                    .wrong(key.by.span, error.next("Name a column; columns are not known by their number."));
            }
            keys.push(operators::SortKey { by, descending: key.descending, nulls_first: key.nulls_first });
        }
        let step = checker.step();
        Some(checker.with_beside(input, beside).then(operators::Sort::by(keys), step))
    }

    fn keeps_rows(&self) -> bool {
        true
    }
}

impl fmt::Display for Sort {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("sort")?;
        let mut keys = self.0.iter();
        if let Some(first) = keys.next() {
            // Not the word that other languages write here.
            let by = guarded(&first.by, &["by"]);
            write!(f, " {by}{}", first.order())?;
        }
        keys.try_for_each(|key| write!(f, ", {key}"))
    }
}
