//! A recipe into a checked plan: every mistake that names and types can show, before a row is read.

use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;

use churn_core::error::nearest;
use churn_core::names::{comma, name};
use churn_core::{Counters, Error, ErrorKind, Field, Result, Scalar, Type};
use churn_expr::expand::{Environment, GivenValue};
use churn_expr::extend::Functions;
use churn_expr::moment::Moment;
use churn_io::source::ReadResources;
use churn_plan::{Find, Plan, Relation, StepInfo};

use super::{Chain, GivenDefault, Recipe};
use crate::extend::Catalogue;
use crate::steps::{Checker, DeclaredTable, declare_table, know_own_tables};

/// What a check needs beside the recipe.
#[derive(Clone, Default)]
pub(crate) struct CheckRequest {
    /// Values for parameters, as texts; each is read as its default's type.
    pub(crate) givens: Vec<(String, String)>,
    /// The folder that paths are relative to.
    pub(crate) base: PathBuf,
    /// What may be used while files are opened.
    pub(crate) resources: ReadResources,
    /// What `now()` stands for.
    pub(crate) moment: Moment,
    /// What the user adds to the language.
    pub(crate) catalogue: Arc<Catalogue>,
}

/// A recipe, checked.
pub(crate) struct Checked {
    pub(crate) plan: Plan,
    /// What it draws that the program takes, if it ends so.
    #[cfg(feature = "charts")]
    pub(crate) drawing: Option<Arc<crate::draw::Drawing>>,
    /// The charts that its steps write.
    #[cfg(feature = "charts")]
    pub(crate) charts: Vec<crate::draw::WrittenChart>,
}

/// Checks a recipe.
///
/// # Errors
/// All mistakes that were found, as one error.
pub(crate) fn check(recipe: &Recipe, request: &CheckRequest, find: Option<Find<'_>>) -> Result<Checked> {
    let mut checker = Checker::new(recipe.source.clone(), of_request(recipe, request)?, request, find);
    let main = check_scope(recipe, &mut checker);
    if let Some(error) = Error::all(std::mem::take(&mut checker.errors)) {
        return Err(error);
    }
    let lost = || Error::new(ErrorKind::Internal, "A chain without a mistake has no result.");
    let fired = if checker.folded { vec!["constants worked out"] } else { Vec::new() };
    #[cfg(feature = "charts")]
    let (drawing, charts) = (checker.drawing.take(), std::mem::take(&mut checker.charts));
    let Checker { steps, notes, mut counted, open, lacks_values, ran, files, others, .. } = checker;
    let mut plan = Plan {
        main: main.ok_or_else(lost)?,
        others,
        steps,
        ends_in_write: recipe.main.steps.last().is_some_and(|p| p.step.check().writes()),
        notes,
        files,
        fired,
        ran: Vec::new(),
        counted: Counters::new(0),
        open,
        lacks_values,
        moment: request.moment.clone(),
    };
    // What runs again is counted again.
    plan.nodes().iter().for_each(|node| counted.clear(node.step));
    (plan.ran, plan.counted) = (ran, counted);
    Ok(Checked {
        plan,
        #[cfg(feature = "charts")]
        drawing,
        #[cfg(feature = "charts")]
        charts,
    })
}

/// The recipe with the steps of its queries in place of the queries.
///
/// # Errors
/// Mistakes that are found on the way.
#[cfg(feature = "sql")]
pub(crate) fn expanded(recipe: &Recipe, request: &CheckRequest) -> Result<Recipe> {
    let mut checker = Checker::new(recipe.source.clone(), of_request(recipe, request)?, request, None);
    let expanded = crate::lang::sql::expanded(recipe, &mut checker).into_owned();
    match Error::all(std::mem::take(&mut checker.errors)) {
        Some(error) => Err(error),
        None => Ok(expanded),
    }
}

/// The parameters with the values that a request gives, and the functions.
fn of_request(recipe: &Recipe, request: &CheckRequest) -> Result<Environment> {
    let given = request.givens.iter().map(|(name, text)| (name.clone(), Argument::Text(text.clone())));
    environment(recipe, &given.collect::<Vec<_>>(), GivenBy::Request, request.catalogue.functions())
}

/// Checks the tables of a recipe and its main chain; gives the rows of the main chain, or of the last table that could
/// be followed where it has none.
///
/// The checker's source, environment, folder and tables are the recipe's own.
pub(crate) fn check_scope(recipe: &Recipe, checker: &mut Checker<'_>) -> Option<Relation> {
    #[cfg(feature = "sql")]
    let recipe = &*crate::lang::sql::expanded(recipe, checker);
    know_own_tables(checker);
    let mut ranges = Vec::new();
    for chain in &recipe.tables {
        if checker.open {
            break;
        }
        checker.used.clear();
        let acted = std::mem::take(&mut checker.acted);
        let first = checker.steps.len();
        let relation = check_chain(chain, Some(&chain.name), checker);
        let (needs, acts) = (checker.used.clone(), checker.acted);
        checker.acted |= acted;
        // Tables of a user's own may have been declared on the way.
        ranges.push((checker.tables.len(), first..checker.steps.len()));
        declare_table(&chain.name, relation, needs, acts, checker);
    }
    checker.used.clear();
    let main = if checker.open { None } else { check_chain(&recipe.main, None, checker) };
    let needed_by_main = reached(&checker.tables, &checker.used);
    let acting = || checker.tables.iter().enumerate().filter(|(_, table)| table.acts);
    let start: Vec<usize> = checker.used.iter().copied().chain(acting().map(|(i, _)| i)).collect();
    let others =
        acting().filter(|(i, _)| !needed_by_main.contains(i)).filter_map(|(_, t)| t.relation.clone());
    let others: Vec<Relation> = others.collect();
    checker.others.extend(others);
    let run = reached(&checker.tables, &start);
    for (i, range) in ranges.into_iter().filter(|(i, _)| !run.contains(i)) {
        checker.steps.iter_mut().take(range.end).skip(range.start).for_each(|step| step.runs = false);
        // Of steps that cannot be followed yet nobody knows which tables they need.
        if let Some(table) = checker.tables.get(i).filter(|_| !checker.open) {
            let label = checker.label(Some(&table.name)).unwrap_or_default();
            let note = format!("The table {} is checked but not run: nothing needs it.", name(&label));
            checker.notes.push(note);
        }
    }
    main.or_else(|| checker.tables.iter().rev().find_map(|t| t.relation.clone()))
}

/// Checks the steps of a chain in order.
pub(crate) fn check_chain(
    chain: &Chain,
    table: Option<&String>,
    checker: &mut Checker<'_>,
) -> Option<Relation> {
    let label = checker.label(table.map(String::as_str));
    let mut relation: Option<Relation> = None;
    for (number, placed) in chain.steps.iter().enumerate() {
        checker.source = placed.source.clone();
        checker.condition.clear();
        let (first, first_error) = (checker.steps.len(), checker.errors.len());
        relation = placed.step.check().check(relation, checker);
        let own = checker.steps.iter_mut().skip(first).filter(|step| step.aside && step.table.is_none());
        own.for_each(|aside| aside.table = label.clone());
        checker.acted |= placed.step.check().acts();
        tell_once(&mut checker.errors, first_error);
        if placed.step.check().shows() && (number + 1 < chain.steps.len() || label.is_some()) {
            let error =
                Error::new(ErrorKind::Check, "A chart without a file stands at the end of the main chain.");
            checker.wrong(placed.span, error.next("Say where it goes: to 'chart.svg'."));
        }
        let fields = relation.as_ref().map(|r| r.fields.as_slice()).unwrap_or_default();
        checker.steps.push(StepInfo {
            text: placed.step.to_string(),
            table: label.clone(),
            reads: placed.step.check().table().and_then(|table| checker.label(Some(table))),
            aside: false,
            joins: placed.step.check().joins(),
            keeps_rows: placed.step.check().keeps_rows(),
            runs: true,
            columns: told(fields, &checker.steps),
            condition: std::mem::take(&mut checker.condition),
        });
        if checker.open {
            break;
        }
        relation.as_ref()?;
    }
    relation
}

/// Leaves out names of a step that are told to be wrong already.
fn tell_once(errors: &mut Vec<Error>, first: usize) {
    for error in errors.split_off(first) {
        let is_same = |other: &Error| error.kind() == ErrorKind::Name && other.what() == error.what();
        if !errors.iter().skip(first).any(is_same) {
            errors.push(error);
        }
    }
}

/// Columns of all steps together that are told of; a chain of thousands of steps that add columns has millions.
const COLUMNS_TOLD: usize = 1_000_000;

/// The columns after a step, with their types, as long as those of the steps before it are not very many.
fn told(fields: &[Field], before: &[StepInfo]) -> Vec<(String, Type)> {
    let told = before.last().map_or(0, |step| step.columns.len()) * before.len() / 2;
    if told > COLUMNS_TOLD {
        return Vec::new();
    }
    fields.iter().map(|f| (f.name.clone(), f.kind.clone())).collect()
}

/// These tables and those that they need.
fn reached(tables: &[DeclaredTable], from: &[usize]) -> Vec<usize> {
    let mut reached: Vec<usize> = Vec::new();
    let mut open: Vec<usize> = from.to_vec();
    while let Some(table) = open.pop() {
        if !reached.contains(&table) {
            reached.push(table);
            open.extend(tables.get(table).map(|t| t.needs.as_slice()).unwrap_or_default());
        }
    }
    reached
}

/// A value for a parameter.
#[derive(Clone, Debug)]
pub(crate) enum Argument {
    /// A text, read as the parameter's type.
    Text(String),
    /// A value, which must fit that type.
    Value(Scalar),
}

impl fmt::Display for Argument {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Argument::Text(text) => write!(f, "'{text}'"),
            Argument::Value(value) => value.fmt(f),
        }
    }
}

/// Who gives a recipe its values.
#[derive(Clone, Copy, Debug)]
pub(crate) enum GivenBy {
    /// The command line, or a program.
    Request,
    /// A step that reads the recipe.
    Step,
}

/// The recipe's parameters with the values they were given, and its functions.
///
/// # Errors
/// A value for a parameter that there is not, one of another type, or none where one is needed.
pub(crate) fn environment(
    recipe: &Recipe,
    given: &[(String, Argument)],
    by: GivenBy,
    functions: &Arc<Functions>,
) -> Result<Environment> {
    let mut environment = Environment { functions: functions.clone(), ..Environment::default() };
    for parameter in &recipe.givens {
        let default = match &parameter.default {
            GivenDefault::Value(value) => GivenValue::Value(value.clone()),
            GivenDefault::Column(column) => GivenValue::Column(column.clone()),
            GivenDefault::Required(kind) if !given.iter().any(|(name, _)| *name == parameter.name) => {
                return Err(lacking(recipe, &parameter.name, kind, by));
            }
            GivenDefault::Required(_) => continue,
        };
        environment.givens.insert(parameter.name.clone(), default);
    }
    for (parameter, argument) in given {
        let declared = recipe.givens.iter().find(|g| g.name == *parameter);
        let declared = declared.ok_or_else(|| no_parameter(recipe, parameter))?;
        let value = given_value(&declared.default, argument);
        let value = value.ok_or_else(|| unfit(parameter, &declared.default, argument))?;
        environment.givens.insert(parameter.clone(), value);
    }
    let mut known = environment.clone();
    for (name, define) in &recipe.defines {
        if functions.has_own(name) {
            let what = format!("There is a function {name} already, given from Rust.");
            return Err(Error::new(ErrorKind::Name, what).next("Define it by another name."));
        }
        // A function may use those before it, so that none can use itself.
        let body = known.expand(&define.body, &recipe.source)?;
        let define = churn_expr::expand::Define { parameters: define.parameters.clone(), body };
        known.defines.insert(name.clone(), define);
    }
    environment.defines = known.defines;
    Ok(environment)
}

/// What a parameter stands for that is given an argument; `None` if that does not fit.
fn given_value(default: &GivenDefault, argument: &Argument) -> Option<GivenValue> {
    match (default, argument) {
        (GivenDefault::Column(_), Argument::Text(column) | Argument::Value(Scalar::Text(column))) => {
            Some(GivenValue::Column(column.clone()))
        }
        (GivenDefault::Column(_), _) => None,
        (GivenDefault::Value(default), Argument::Text(text)) => {
            value_like(default, text).map(GivenValue::Value)
        }
        (GivenDefault::Required(kind), Argument::Text(text)) => value_of(kind, text).map(GivenValue::Value),
        (GivenDefault::Value(Scalar::Null), Argument::Value(value)) => Some(GivenValue::Value(value.clone())),
        (GivenDefault::Value(default), Argument::Value(value)) => {
            value_as(value, &default.kind()).map(GivenValue::Value)
        }
        (GivenDefault::Required(kind), Argument::Value(value)) => {
            value_as(value, kind).map(GivenValue::Value)
        }
    }
}

/// A value as one of a type that it fits without loss; a single value as a list of one.
fn value_as(value: &Scalar, kind: &Type) -> Option<Scalar> {
    match (value, kind) {
        (Scalar::List(values, _), Type::List(of)) => {
            let values = values.iter().map(|value| value_as(value, of)).collect::<Option<_>>();
            Some(Scalar::List(values?, (**of).clone()))
        }
        (value, Type::List(of)) => Some(Scalar::List(vec![value_as(value, of)?], (**of).clone())),
        (value, kind) if value.kind() == *kind => Some(value.clone()),
        (value, kind) => (value.kind().common_type(kind).as_ref() == Some(kind))
            .then(|| churn_expr::converted(value, kind))
            .flatten(),
    }
}

/// The error of a parameter that the recipe does not declare.
fn no_parameter(recipe: &Recipe, parameter: &str) -> Error {
    let error = Error::new(ErrorKind::Name, format!("The recipe has no parameter {parameter}."));
    let names = recipe.givens.iter().map(|g| g.name.as_str());
    let error = match recipe.givens.len() {
        0 => error.why("It declares none; given threshold = 100 at its top would."),
        _ => error.why(format!("Its parameters are {}.", comma(names.clone()))),
    };
    match nearest(parameter, names) {
        Some(near) => error.next(format!("Did you mean {near}?")),
        None => error,
    }
}

/// The error of a value that does not fit its parameter.
fn unfit(parameter: &str, default: &GivenDefault, argument: &Argument) -> Error {
    let (kind, default) = match default {
        GivenDefault::Required(kind) => (kind.clone(), None),
        GivenDefault::Value(value) => (value.kind(), Some(value)),
        GivenDefault::Column(_) => (Type::Text, None),
    };
    let error =
        Error::new(ErrorKind::Type, format!("{parameter} is {kind} in the recipe, and {argument} is none."));
    match default {
        Some(default) => error.next(format!("Its default is {default}.")),
        None => error,
    }
}

/// The error of a parameter that must be given and is not.
fn lacking(recipe: &Recipe, parameter: &str, kind: &Type, by: GivenBy) -> Error {
    let uses = format!("${parameter}");
    let chains = recipe.tables.iter().chain([&recipe.main]);
    let steps = chains.flat_map(|chain| &chain.steps).map(|placed| placed.step.to_string());
    let used = steps.into_iter().find(|text| text.contains(&uses));
    let error =
        Error::new(ErrorKind::Check, format!("The recipe needs {kind} for {parameter}, and none is given."));
    let error = match used.as_deref().and_then(|text| text.lines().find(|line| line.contains(&uses))) {
        Some(line) => error.why(format!("It is used in: {}", line.trim())),
        None => error,
    };
    let example = match kind {
        Type::Date => "2026-01-31",
        Type::Text => "F001",
        Type::Bool => "true",
        _ => "100",
    };
    error.next(match (by, kind) {
        (GivenBy::Request, _) => format!("Give it: --given {parameter}={example}"),
        (GivenBy::Step, Type::Text) => format!("Give it: with (given = ({parameter} = '{example}'))"),
        (GivenBy::Step, Type::Date) => format!("Give it: with (given = ({parameter} = date '{example}'))"),
        (GivenBy::Step, _) => format!("Give it: with (given = ({parameter} = {example}))"),
    })
}

/// The text read as the type of a default; of a list as values with commas between them.
fn value_like(default: &Scalar, text: &str) -> Option<Scalar> {
    match default {
        Scalar::Null => Some(Scalar::Text(text.to_owned())),
        Scalar::List(_, kind) => {
            let values = text.split(',').map(|part| value_of(kind, part.trim()));
            Some(Scalar::List(values.collect::<Option<_>>()?, kind.clone()))
        }
        other => value_of(&other.kind(), text),
    }
}

/// The text read as a type.
fn value_of(kind: &Type, text: &str) -> Option<Scalar> {
    match kind {
        Type::Text => Some(Scalar::Text(text.to_owned())),
        kind => churn_expr::converted(&Scalar::Text(text.to_owned()), kind),
    }
}
