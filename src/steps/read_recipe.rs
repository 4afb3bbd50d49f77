//! `read 'PATH.churn' [with (given = (NAME = VALUE, …))]`: a chain that starts from the result of another recipe.

use std::fmt;
use std::sync::Arc;

use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Position, Result, Scalar, SourceText, deep};
use churn_expr::text::{Cursor, TokenKind};
use churn_plan::Relation;

use super::checker::{Path, RecipeResult};
use super::read_table::shared;
use super::{Check, Checker};
use crate::lang::recipe::{self, Argument, GivenBy};

/// `read` of a recipe: its result as a table.
#[derive(Clone, Debug, PartialEq)]
pub struct ReadRecipe {
    /// As it is written.
    path: String,
    given: Vec<(String, GivenArgument)>,
    span: Position,
}

/// A value for a parameter of the recipe, as it is written.
#[derive(Clone, Debug, PartialEq)]
enum GivenArgument {
    Value(Scalar),
    /// A parameter of the recipe that reads it.
    Parameter(String, Position),
}

impl ReadRecipe {
    /// Starts from the result of this recipe, whose paths are relative to its own folder.
    pub fn new(path: impl AsRef<std::path::Path>) -> ReadRecipe {
        let path = path.as_ref().to_string_lossy().into_owned();
        ReadRecipe { path, given: Vec::new(), span: Position::default() }
    }

    /// A value for a parameter of the recipe.
    #[must_use]
    pub fn given(mut self, name: &str, value: impl Into<Scalar>) -> ReadRecipe {
        self.given.push((name.to_owned(), GivenArgument::Value(value.into())));
        self
    }

    /// The recipe of a path, if it is one by its name.
    pub(super) fn of(path: &Path) -> Option<ReadRecipe> {
        let Path::Text(path, span) = path else { return None };
        let is_recipe = recipe::is_named_as_recipe(std::path::Path::new(path)) && !path.contains(['*', '?']);
        is_recipe.then(|| ReadRecipe { path: path.clone(), given: Vec::new(), span: *span })
    }

    /// Where it is written.
    pub(super) fn span(&self) -> Position {
        self.span
    }

    /// Reads the values for its parameters, if they stand here.
    pub(super) fn with_given(mut self, c: &mut Cursor<'_>) -> Result<ReadRecipe> {
        if !c.take_word("with") {
            return Ok(self);
        }
        let options = c.in_parentheses(|c| {
            c.expect_word(
                "given",
                "and values for parameters; a recipe has no other options: (given = (since = …))",
            )?;
            c.expect_symbol("=", "between the option and its value")?;
            c.in_parentheses(|c| {
                let (name, _) = c.name("a parameter's name")?;
                c.expect_symbol("=", "between the parameter and its value")?;
                Ok((name, argument(c)?))
            })
        })?;
        self.given = options.into_iter().flatten().collect();
        Ok(self)
    }

    /// The values for its parameters.
    fn arguments(&self, checker: &mut Checker<'_>) -> Result<Vec<(String, Argument)>> {
        let source = checker.source.clone();
        let argument = |(name, argument): &(String, GivenArgument)| {
            let value = match argument {
                GivenArgument::Value(value) => value.clone(),
                GivenArgument::Parameter(parameter, span) => {
                    checker.environment.given(parameter, &source, *span)?
                }
            };
            Ok((name.clone(), Argument::Value(value)))
        };
        self.given.iter().map(argument).collect()
    }

    /// Checks the recipe in a scope of its own, unless that was done for the same values; gives its rows.
    fn result(&self, checker: &mut Checker<'_>) -> Result<Option<Relation>> {
        let path = checker.base.join(&self.path);
        let text = recipe::read_file(&path)?;
        let file = path.canonicalize().unwrap_or_else(|_| path.clone());
        let arguments = self.arguments(checker)?;
        let shown = arguments.iter().map(|(parameter, value)| format!("{parameter} = {value}"));
        let of = (file.clone(), comma(shown));
        if let Some(RecipeResult { table, relation, .. }) =
            checker.results.iter().find(|r| r.of == of).cloned()
        {
            return Ok(Some(shared(table, relation, true, checker)));
        }
        if let Some(first) = checker.recipes.iter().position(|(other, _)| *other == file) {
            let round = checker.recipes.iter().skip(first).map(|(_, shown)| shown.as_str());
            let what = format!("{} reads itself.", self.path);
            let round = comma(round.chain([self.path.as_str()]));
            return Err(
                Error::new(ErrorKind::Check, what).why(format!("Each of these reads the next: {round}."))
            );
        }
        checker.files.reads(std::slice::from_ref(&file))?;
        let source = Arc::new(SourceText { name: path.display().to_string(), text });
        let recipe = recipe::parse(&source)?;
        let functions = checker.environment.functions.clone();
        let environment = recipe::environment(&recipe, &arguments, GivenBy::Step, &functions)?;
        let base = path.parent().map(std::path::Path::to_owned).unwrap_or_default();
        let outer = (
            std::mem::replace(&mut checker.source, source),
            std::mem::replace(&mut checker.environment, environment),
            std::mem::replace(&mut checker.base, base),
            std::mem::take(&mut checker.tables),
            std::mem::take(&mut checker.used),
        );
        let shown = checker.label(Some(&self.path)).unwrap_or_default();
        checker.recipes.push((file, shown));
        let relation = deep::guarded(|| recipe::check_scope(&recipe, checker));
        checker.recipes.pop();
        (checker.source, checker.environment, checker.base, checker.tables, checker.used) = outer;
        let Some(relation) = relation.filter(|_| !checker.open) else { return Ok(None) };
        let table = checker.table_number();
        checker.results.push(RecipeResult { of, table, relation: relation.clone() });
        Ok(Some(shared(table, relation, false, checker)))
    }
}

/// A value, a list of values, or a parameter.
fn argument(c: &mut Cursor<'_>) -> Result<GivenArgument> {
    let span = c.span();
    if let Some(TokenKind::Parameter(name)) = c.peek() {
        c.advance();
        return Ok(GivenArgument::Parameter(name.clone(), span));
    }
    if !c.is_symbol_at(0, "(") {
        return c.literal().map(GivenArgument::Value);
    }
    recipe::list_of_literals(c).map(GivenArgument::Value)
}

impl Check for ReadRecipe {
    fn check(&self, _: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        match self.result(checker) {
            // None as well behind a pivot whose columns are not known yet: steps after it are not checked.
            Ok(relation) => relation,
            Err(error) if error.place().is_some() => {
                checker.errors.push(error);
                None
            }
            Err(error) => {
                checker.wrong(self.span, error);
                None
            }
        }
    }

    fn starts(&self) -> bool {
        true
    }

    fn keeps_rows(&self) -> bool {
        true
    }

    fn table(&self) -> Option<&str> {
        Some(&self.path)
    }
}

impl fmt::Display for ReadRecipe {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "read {}", Shown(self))
    }
}

/// The recipe as it is written where a table is named.
pub(super) struct Shown<'a>(pub(super) &'a ReadRecipe);

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", Scalar::Text(self.0.path.clone()))?;
        if self.0.given.is_empty() {
            return Ok(());
        }
        let given = self.0.given.iter().map(|(parameter, value)| format!("{} = {value}", name(parameter)));
        write!(f, " with (given = ({}))", comma(given))
    }
}

impl fmt::Display for GivenArgument {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            GivenArgument::Value(Scalar::List(values, _)) => write!(f, "({})", comma(values)),
            GivenArgument::Value(value) => value.fmt(f),
            GivenArgument::Parameter(parameter, _) => write!(f, "${parameter}"),
        }
    }
}
