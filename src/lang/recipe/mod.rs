//! Recipes: parameters, functions and tables first, then the main chain. Read, printed, checked.

mod check;
mod file;
mod parse;
mod print;

use std::fmt;
use std::sync::Arc;

use churn_core::names::{comma, name};
use churn_core::{Scalar, SourceText, Span, Type};
use churn_expr::expand::Define;

pub(crate) use check::{Argument, CheckRequest, GivenBy, check, check_scope, environment};
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
#[derive(Clone, Debug)]
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
#[derive(Clone, Debug)]
pub(crate) struct Chain {
    /// The table's name; empty for the main chain.
    pub(crate) name: String,
    pub(crate) steps: Vec<PlacedStep>,
}

/// A step and where it stands.
#[derive(Clone, Debug)]
pub(crate) struct PlacedStep {
    pub(crate) step: Arc<dyn Step>,
    pub(crate) span: Span,
    /// The text that the place is in: steps of a Rust chain have one each.
    pub(crate) source: Arc<SourceText>,
}
