//! OTHER: the second table of `join`, `append` and `paste`: an earlier table's name or a path.

use std::fmt;

use churn_core::Result;
use churn_expr::text::{Cursor, TokenKind};
use churn_plan::{Relation, StepInfo};

use super::checker::Path;
use super::read::Read;
use super::read_recipe::{ReadRecipe, Shown};
use super::read_table::ReadTable;
use super::{Check, Checker};

/// The second table of a step: an earlier table, a file, or the result of a recipe.
#[derive(Clone, Debug, PartialEq)]
pub struct Other(Table);

#[derive(Clone, Debug, PartialEq)]
enum Table {
    Named(ReadTable),
    File(Box<Read>, Path),
    Recipe(ReadRecipe),
}

impl From<ReadTable> for Other {
    fn from(table: ReadTable) -> Other {
        Other(Table::Named(table))
    }
}

impl From<ReadRecipe> for Other {
    fn from(recipe: ReadRecipe) -> Other {
        Other(Table::Recipe(recipe))
    }
}

impl Other {
    /// An earlier table of this name.
    pub fn table(name: &str) -> Other {
        ReadTable::new(name).into()
    }

    /// A file of any readable format, or a recipe.
    pub fn file(path: impl AsRef<std::path::Path>) -> Other {
        Other::of(Path::of(path.as_ref()))
    }

    /// A file, or a recipe.
    pub(super) fn of(path: Path) -> Other {
        match ReadRecipe::of(&path) {
            Some(recipe) => recipe.into(),
            None => Other(Table::File(Box::new(Read::of(path.clone())), path)),
        }
    }

    /// The name of the table, if it is an earlier one.
    #[cfg(feature = "sql")]
    pub(crate) fn as_table(&self) -> Option<&str> {
        match &self.0 {
            Table::Named(table) => Some(&table.0),
            _ => None,
        }
    }

    /// Reads a table's name or a path.
    pub(super) fn read(c: &mut Cursor<'_>) -> Result<Other> {
        if let Some(TokenKind::Word(_) | TokenKind::Quoted(_)) = c.peek() {
            let (table, span) = c.name("a table's name or a path in single quotes")?;
            return Ok(ReadTable(table, span).into());
        }
        let path = Path::read(c)?;
        if let Some(recipe) = ReadRecipe::of(&path) {
            return recipe.with_given(c).map(Other::from);
        }
        Ok(Other::of(path))
    }

    /// The table's rows. A file is read by a step of its own, which the ledger tells of beside this one.
    pub(super) fn relation(&self, checker: &mut Checker<'_>) -> Option<Relation> {
        match &self.0 {
            Table::Named(table) => table.check(None, checker),
            Table::Recipe(recipe) => recipe.check(None, checker),
            Table::File(read, path) => {
                let relation = read.check(None, checker)?;
                checker.steps.push(StepInfo { aside: true, ..StepInfo::new(path.to_string()) });
                Some(relation)
            }
        }
    }

    /// Where it is written.
    pub(super) fn span(&self) -> churn_core::Position {
        match &self.0 {
            Table::Named(table) => table.1,
            Table::File(_, path) => path.span(),
            Table::Recipe(recipe) => recipe.span(),
        }
    }
}

impl fmt::Display for Other {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.0 {
            Table::Named(table) => f.write_str(&churn_core::names::name(&table.0)),
            Table::File(_, path) => path.fmt(f),
            Table::Recipe(recipe) => Shown(recipe).fmt(f),
        }
    }
}
