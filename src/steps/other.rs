//! OTHER: the second table of `join`, `append` and `paste`: an earlier table's name or a path.

use std::fmt;

use churn_core::Result;
use churn_plan::{Relation, StepInfo};

use super::checker::Path;
use super::read::Read;
use super::read_recipe::{ReadRecipe, Shown};
use super::read_table::ReadTable;
use super::{Checker, Step};
use crate::lang::text::{Cursor, TokenKind};

/// Another table as it is written.
#[derive(Debug)]
pub(super) enum Other {
    Table(ReadTable),
    File(Box<Read>, Path),
    Recipe(ReadRecipe),
}

impl Other {
    /// Reads a table's name or a path.
    pub(super) fn read(c: &mut Cursor<'_>) -> Result<Other> {
        if let Some(TokenKind::Word(_) | TokenKind::Quoted(_)) = c.peek() {
            let (table, span) = c.name("a table's name or a path in single quotes")?;
            return Ok(Other::Table(ReadTable(table, span)));
        }
        let path = Path::read(c)?;
        if let Some(recipe) = ReadRecipe::of(&path) {
            return recipe.with_given(c).map(Other::Recipe);
        }
        Ok(Other::File(Box::new(Read::of(path.clone())), path))
    }

    /// The table's rows. A file is read by a step of its own, which the ledger tells of beside this one.
    pub(super) fn relation(&self, checker: &mut Checker<'_>) -> Option<Relation> {
        match self {
            Other::Table(table) => table.check(None, checker),
            Other::Recipe(recipe) => recipe.check(None, checker),
            Other::File(read, path) => {
                let relation = read.check(None, checker)?;
                checker.steps.push(StepInfo { aside: true, ..StepInfo::new(path.to_string()) });
                Some(relation)
            }
        }
    }

    /// Where it is written.
    pub(super) fn span(&self) -> churn_core::Span {
        match self {
            Other::Table(table) => table.1,
            Other::File(_, path) => path.span(),
            Other::Recipe(recipe) => recipe.span(),
        }
    }
}

impl fmt::Display for Other {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Other::Table(table) => f.write_str(&churn_core::names::name(&table.0)),
            Other::File(_, path) => path.fmt(f),
            Other::Recipe(recipe) => Shown(recipe).fmt(f),
        }
    }
}
