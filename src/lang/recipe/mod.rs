//! Recipes: parameters, functions and tables first, then the main chain. Read, printed, checked.

mod check;
mod file;
mod parse;
mod print;

use std::fmt;
use std::sync::Arc;

use churn_core::names::{comma, name};
use churn_core::{Result, Scalar, SourceText, Span, Type};
use churn_expr::expand::Define;

pub(crate) use check::{Argument, CheckRequest, Checked, GivenBy, check, check_scope, environment};
#[cfg(feature = "sql")]
pub(crate) use check::{check_chain, expanded};
#[cfg(feature = "sql")]
pub(crate) use file::read_query;
pub(crate) use file::{is_named_as_recipe, read_file};
pub(crate) use parse::{list_of_literals, parse, parse_chain};

use crate::steps::Step;

/// A recipe as it was read.
#[derive(Clone, Debug)]
pub(crate) struct Recipe {
    pub(crate) source: Arc<SourceText>,
    pub(crate) givens: Vec<Given>,
    pub(crate) defines: Vec<(String, Define)>,
    pub(crate) tables: Vec<Chain>,
    pub(crate) main: Chain,
}

impl Recipe {
    /// The number of its steps.
    pub(crate) fn length(&self) -> usize {
        self.main.steps.len() + self.tables.iter().map(|table| table.steps.len()).sum::<usize>()
    }
}

/// A parameter with its default.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Given {
    pub(crate) name: String,
    pub(crate) default: GivenDefault,
}

/// What a parameter stands for if nothing else is given.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum GivenDefault {
    /// A value, or a list of values of one type.
    Value(Scalar),
    /// A column.
    Column(String),
    /// Nothing: a value of this type must be given.
    Required(Type),
}

impl fmt::Display for GivenDefault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            GivenDefault::Value(Scalar::List(values, _)) => write!(f, " = ({})", comma(values)),
            GivenDefault::Value(value) => write!(f, " = {value}"),
            GivenDefault::Column(column) => write!(f, " = column {}", name(column)),
            GivenDefault::Required(kind) => write!(f, " {kind}"),
        }
    }
}

/// Steps one after the other.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Chain {
    /// The table's name; empty for the main chain.
    pub(crate) name: String,
    pub(crate) steps: Vec<PlacedStep>,
}

/// A step and where it stands. Two are equal if their steps are.
#[derive(Clone, Debug)]
pub(crate) struct PlacedStep {
    pub(crate) step: Step,
    pub(crate) span: Span,
    /// The text that the place is in: steps of a Rust chain have one each.
    pub(crate) source: Arc<SourceText>,
}

impl PlacedStep {
    /// A step that was built, with the places of its parts in its own text, for messages. They are those of the text read
    /// back; what would not read back as the same step is taken as it is, without them.
    ///
    /// # Errors
    /// What was built is no step of the language: a list is empty that must not be, or a number beyond its bounds.
    pub(crate) fn located(step: Step, name: String) -> Result<PlacedStep> {
        let source = Arc::new(SourceText { name, text: step.to_string() });
        let read = parse_chain(&source)?;
        let same = read.into_iter().next().filter(|placed| placed.step == step);
        let span = Span { start: 0, end: source.text.len() };
        Ok(same.unwrap_or(PlacedStep { step, span, source }))
    }
}

impl PartialEq for PlacedStep {
    fn eq(&self, other: &PlacedStep) -> bool {
        self.step == other.step
    }
}

impl PartialEq for Recipe {
    fn eq(&self, other: &Recipe) -> bool {
        let Recipe { givens, defines, tables, main, .. } = self;
        (givens, defines, tables, main) == (&other.givens, &other.defines, &other.tables, &other.main)
    }
}
