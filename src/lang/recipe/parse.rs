//! Text into a recipe.

use std::sync::Arc;

use churn_core::names::name;
use churn_core::{Error, ErrorKind, Result, Scalar, SourceText, Span, Type};
use churn_expr::expand::Define;
use churn_expr::text::layout::{Block, blocks};
use churn_expr::text::{Cursor, expression};
use churn_expr::{aggregates, functions};

use super::{Chain, Given, GivenDefault, PlacedStep, Recipe};
use crate::steps;

/// Reads a recipe. Every line that cannot be read is told, not only the first.
///
/// # Errors
/// The text is not in the language, or declares a name twice.
pub(crate) fn parse(source: &Arc<SourceText>) -> Result<Recipe> {
    let mut recipe = Recipe {
        source: source.clone(),
        givens: Vec::new(),
        defines: Vec::new(),
        tables: Vec::new(),
        main: Chain { name: String::new(), steps: Vec::new() },
    };
    let mut errors = Vec::new();
    let mut names: Vec<(String, Span)> = Vec::new();
    for block in blocks(source)? {
        if let Err(error) = declare(&mut recipe, &block, &mut names, &mut errors) {
            errors.push(error);
        }
    }
    if recipe.main.steps.is_empty() && errors.is_empty() {
        let error = Error::new(ErrorKind::Syntax, "The recipe has no main chain.");
        errors.push(error.next("After its tables stands a chain that starts with read."));
    }
    Error::all(errors).map_or(Ok(recipe), Err)
}

/// Reads one block of the top level into the recipe.
fn declare(
    recipe: &mut Recipe,
    block: &Block,
    names: &mut Vec<(String, Span)>,
    errors: &mut Vec<Error>,
) -> Result<()> {
    let mut c = block.cursor();
    let late = |what: &str| {
        c.error(format!("{what} stands before the main chain."))
            .next("Move it up: first given and define, then tables, then the main chain.")
    };
    if c.is_word_at(0, "given") {
        if !recipe.main.steps.is_empty() || !recipe.tables.is_empty() {
            return Err(late("given"));
        }
        c.advance();
        let (name, span) = c.name("the parameter's name")?;
        unique(&name, *span, names, &c)?;
        let default = default(&mut c)?;
        c.expect_end()?;
        recipe.givens.push(Given { name, default });
    } else if c.is_word_at(0, "define") {
        if !recipe.main.steps.is_empty() || !recipe.tables.is_empty() {
            return Err(late("define"));
        }
        c.advance();
        let (name, span) = c.name("the function's name")?;
        let name = name.to_ascii_lowercase();
        if functions::find(&name).is_some() || aggregates::find(&name).is_some() {
            return Err(c
                .error_at(span, format!("There is a built-in function {name}."))
                .next("Choose another name."));
        }
        unique(&name, *span, names, &c)?;
        let parameters = c.in_parentheses(|c| Ok(c.name("a parameter's name")?.0))?;
        c.expect_symbol("=", "and what it stands for")?;
        let body = expression(&mut c)?;
        c.expect_end()?;
        recipe.defines.push((name, Define { parameters, body }));
    } else if c.is_word_at(0, "table") {
        if !recipe.main.steps.is_empty() {
            return Err(late("table"));
        }
        c.advance();
        let (name, span) = c.name("the table's name")?;
        if ["inner", "left", "right", "full", "semi", "anti", "cross", "asof"].contains(&name.as_str()) {
            let error =
                c.error_at(span, format!("{name} is a kind of join.")).next("Call the table something else.");
            return Err(error);
        }
        unique(&name, *span, names, &c)?;
        c.expect_end()?;
        if block.below.is_empty() {
            let error =
                c.error_at(span, format!("The table {} has no steps.", churn_core::names::name(&name)));
            return Err(error.next("Its steps stand on the lines below, indented."));
        }
        let steps = chain(&block.below, &recipe.source, errors);
        recipe.tables.push(Chain { name, steps });
    } else {
        let placed = placed(block, &recipe.source)?;
        check_start(&placed, recipe.main.steps.is_empty())?;
        recipe.main.steps.push(placed);
    }
    Ok(())
}

/// Reads what a parameter stands for: `= VALUE`, `= (VALUE, …)`, `= column NAME`, or the type of a value that must be given.
fn default(c: &mut Cursor<'_>) -> Result<GivenDefault> {
    if !c.is_symbol_at(0, "=") && c.peek().is_some() {
        return c.type_name().map(GivenDefault::Required);
    }
    c.expect_symbol("=", "and the default value, or a type: given since date")?;
    if c.is_word_at(0, "column") {
        c.advance();
        return Ok(GivenDefault::Column(c.name("a column's name")?.0));
    }
    if !c.is_symbol_at(0, "(") {
        return c.literal().map(GivenDefault::Value);
    }
    list_of_literals(c).map(GivenDefault::Value)
}

/// Reads `(VALUE, …)`: values of one type.
///
/// # Errors
/// There is none, or they are of several types.
pub(crate) fn list_of_literals(c: &mut Cursor<'_>) -> Result<Scalar> {
    let start = c.span();
    let values = c.in_parentheses(Cursor::literal)?;
    let kind = values.iter().try_fold(Type::Null, |shared: Type, value| shared.common_type(&value.kind()));
    let kind = kind.filter(|kind| *kind != Type::Null).ok_or_else(|| {
        c.error_at(c.since(start), "The values of a list are of one type.")
            .next("Write given farms = ('F001', 'F002').")
    })?;
    let values = values.iter().filter_map(|value| churn_expr::converted(value, &kind)).collect();
    Ok(Scalar::List(values, kind))
}

fn unique(wanted: &str, span: Span, names: &mut Vec<(String, Span)>, c: &Cursor<'_>) -> Result<()> {
    if names.iter().any(|(n, _)| n == wanted) {
        return Err(Error::new(ErrorKind::Name, format!("{} is declared twice.", name(wanted)))
            .at(c.source, span)
            .next("Tables, parameters and functions share their names; choose another."));
    }
    names.push((wanted.to_owned(), span));
    Ok(())
}

fn placed(block: &Block, source: &Arc<SourceText>) -> Result<PlacedStep> {
    let step = steps::parse(block)?;
    Ok(PlacedStep { step, span: block.whole_span(), source: source.clone() })
}

/// Refuses a source in the middle of a chain, and anything else at its start.
fn check_start(placed: &PlacedStep, first: bool) -> Result<()> {
    match (first, placed.step.check().starts()) {
        (false, true) => Err(Error::new(ErrorKind::Syntax, "A chain has one start.")
            .at(&placed.source, placed.span)
            .next("To bring a second table in, give it a name with table and join or append it.")),
        (true, false) => Err(Error::new(ErrorKind::Syntax, "A chain starts with read or values.")
            .at(&placed.source, placed.span)
            .next("Write before it: read 'deliveries-2026.csv'")),
        _ => Ok(()),
    }
}

fn chain(below: &[Block], source: &Arc<SourceText>, errors: &mut Vec<Error>) -> Vec<PlacedStep> {
    let mut steps = Vec::new();
    let mut lost = false;
    for block in below {
        let step = placed(block, source).and_then(|p| {
            // After a first step that could not be read, the next one is not to blame.
            if lost { Ok(p) } else { check_start(&p, steps.is_empty()).map(|()| p) }
        });
        match step {
            Ok(placed) => steps.push(placed),
            Err(error) => {
                lost = true;
                errors.push(error);
            }
        }
    }
    steps
}

/// Reads steps without declarations: one, or several lines of them.
///
/// # Errors
/// A step cannot be read.
pub(crate) fn parse_chain(source: &Arc<SourceText>) -> Result<Vec<PlacedStep>> {
    blocks(source)?.iter().map(|block| placed(block, source)).collect()
}
