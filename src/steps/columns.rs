//! `drop COLS` and `rename new = old, …`: other columns or other names for the same rows.

use std::fmt;

use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Position, Result};
use churn_expr::ast::ColumnRef;
use churn_expr::expand::{columns_of_list, unknown_column};
use churn_expr::text::Cursor;
use churn_plan::Relation;

use super::{Check, Checker, Step, StepKind};

pub(super) const DROP: StepKind = StepKind {
    keyword: "drop",
    usage: "drop COLS",
    summary: "Keeps all columns but these.",
    example: "drop note, each 't*'",
    parse: |text| Ok(Step::from(Drop(text.list(Cursor::column_ref)?))),
};

pub(super) const RENAME: StepKind = StepKind {
    keyword: "rename",
    usage: "rename new = old, …",
    summary: "Gives columns other names, all at once; they stay in place.",
    example: "rename day = collected_on, temperature = temp_c",
    parse: |text| Ok(Step::from(Rename(text.list(read_pair)?))),
};

/// `drop`: all columns but these.
#[derive(Clone, Debug, PartialEq)]
pub struct Drop(Vec<ColumnRef>);

/// Columns of anything that each can be made of.
pub(super) fn all<T: Into<ColumnRef>>(columns: impl IntoIterator<Item = T>) -> Vec<ColumnRef> {
    columns.into_iter().map(Into::into).collect()
}

impl Drop {
    /// Leaves these columns out: names, or sets.
    pub fn new<T: Into<ColumnRef>>(columns: impl IntoIterator<Item = T>) -> Drop {
        Drop(all(columns))
    }
}

impl Check for Drop {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let mut relation = input?;
        let source = checker.source.clone();
        if let Some(gone) = checker.kept(columns_of_list(&self.0, &relation.fields, &source)) {
            let gone: Vec<_> = gone.iter().map(|f| f.name.clone()).collect();
            relation.fields.retain(|f| !gone.contains(&f.name));
            if relation.fields.is_empty() {
                let span = self.0.first().map(span_of).unwrap_or_default();
                checker.wrong(span, Error::new(ErrorKind::Check, "No column would be left."));
            }
        }
        Some(relation)
    }

    fn keeps_rows(&self) -> bool {
        true
    }
}

pub(super) fn span_of(column: &ColumnRef) -> Position {
    match column {
        ColumnRef::Name(_, span) => *span,
        ColumnRef::Set(set) => set.span,
    }
}

impl fmt::Display for Drop {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "drop {}", comma(&self.0))
    }
}

#[derive(Clone, Debug, PartialEq)]
struct Renaming {
    new: (String, Position),
    old: (String, Position),
}

impl fmt::Display for Renaming {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} = {}", name(&self.new.0), name(&self.old.0))
    }
}

fn read_pair(c: &mut Cursor<'_>) -> Result<Renaming> {
    let new = c.name("the new name")?;
    c.expect_symbol("=", "between the new name and the old one")?;
    Ok(Renaming { new, old: c.name("the old name")? })
}

/// `rename`: other names, all at once; columns stay in place.
#[derive(Clone, Debug, PartialEq)]
pub struct Rename(Vec<Renaming>);

impl Rename {
    /// Gives a column another name.
    pub fn new(new: &str, old: &str) -> Rename {
        Rename(Vec::new()).and(new, old)
    }

    /// Gives columns other names: pairs of the new and the old one.
    #[cfg(feature = "sql")]
    pub(crate) fn all<'n>(pairs: impl IntoIterator<Item = (&'n String, &'n String)>) -> Rename {
        pairs.into_iter().fold(Rename(Vec::new()), |rename, (new, old)| rename.and(new, old))
    }

    /// Gives one more column another name.
    #[must_use]
    pub fn and(mut self, new: &str, old: &str) -> Rename {
        let placed = |name: &str| (name.to_owned(), Position::default());
        self.0.push(Renaming { new: placed(new), old: placed(old) });
        self
    }
}

impl Check for Rename {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let mut relation = input?;
        let source = checker.source.clone();
        let before = relation.fields.clone();
        for Renaming { new, old } in &self.0 {
            match before.iter().position(|f| f.name == old.0) {
                Some(at) => {
                    if let Some(field) = relation.fields.get_mut(at) {
                        field.name.clone_from(&new.0);
                    }
                }
                None => {
                    let mut error = unknown_column(&old.0, &before, &source, old.1);
                    if before.iter().any(|f| f.name == new.0) {
                        error = error.next(format!(
                            "The new name stands first: rename {} = {}.",
                            name(&old.0),
                            name(&new.0)
                        ));
                    }
                    checker.errors.push(error);
                }
            }
        }
        for (i, field) in relation.fields.iter().enumerate() {
            if relation.fields.iter().take(i).any(|f| f.name == field.name) {
                let span = self.0.iter().find(|p| p.new.0 == field.name).map(|p| p.new.1).unwrap_or_default();
                let what = format!("Two columns would be called {}.", name(&field.name));
                checker.errors.push(Error::new(ErrorKind::Name, what).at(&source, span));
            }
        }
        Some(relation)
    }

    fn keeps_rows(&self) -> bool {
        true
    }
}

impl fmt::Display for Rename {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "rename {}", comma(&self.0))
    }
}
