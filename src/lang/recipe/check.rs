//! A recipe into a checked plan: every mistake that names and types can show, before a row is read.

use std::path::PathBuf;

use churn_core::error::nearest;
use churn_core::names::{comma, name};
use churn_core::{Counters, Error, ErrorKind, Field, Result, Scalar, Type};
use churn_expr::bind::Ids;
use churn_expr::expand::{Environment, GivenValue};
use churn_expr::moment::Moment;
use churn_io::files::Files;
use churn_io::source::ReadResources;
use churn_plan::{Find, Plan, Relation, StepInfo};

use super::{Chain, GivenDefault, Recipe};
use crate::steps::{Checker, DeclaredTable};

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
}

/// Checks a recipe.
///
/// # Errors
/// All mistakes that were found, as one error.
pub(crate) fn check(recipe: &Recipe, request: &CheckRequest, find: Option<Find<'_>>) -> Result<Plan> {
    let environment = environment(recipe, &request.givens)?;
    let mut checker = Checker {
        source: recipe.source.clone(),
        environment: &environment,
        ids: Ids::default(),
        base: request.base.clone(),
        resources: request.resources.clone(),
        streams: Vec::new(),
        tables: Vec::new(),
        used: Vec::new(),
        steps: Vec::new(),
        errors: Vec::new(),
        folded: false,
        notes: Vec::new(),
        files: Files::default(),
        find,
        open: false,
        ran: Vec::new(),
        counted: Counters::new(0),
    };
    let mut acting = Vec::new();
    for chain in &recipe.tables {
        if checker.open {
            break;
        }
        checker.used.clear();
        let relation = check_chain(chain, Some(&chain.name), &mut checker);
        let needs = checker.used.clone();
        acting.push(chain.steps.iter().any(|p| p.step.acts()));
        checker.tables.push(DeclaredTable { name: chain.name.clone(), relation, needs, is_used: false });
    }
    checker.used.clear();
    let main = if checker.open { None } else { check_chain(&recipe.main, None, &mut checker) };
    let runs = tables_that_run(&checker, &acting);
    for (table, runs) in checker.tables.iter().zip(&runs) {
        // Of steps that cannot be followed yet nobody knows which tables they need.
        if !runs && !checker.open {
            checker
                .notes
                .push(format!("The table {} is checked but not run: nothing needs it.", name(&table.name)));
        }
    }
    for step in &mut checker.steps {
        let table = step.table.as_ref().and_then(|t| checker.tables.iter().position(|c| c.name == *t));
        step.runs = table.is_none_or(|t| runs.get(t).copied().unwrap_or(true));
    }
    if let Some(error) = Error::all(checker.errors) {
        return Err(error);
    }
    let found = main.or_else(|| checker.tables.iter().rev().find_map(|t| t.relation.clone()));
    let main =
        found.ok_or_else(|| Error::new(ErrorKind::Internal, "A chain without a mistake has no result."))?;
    let needed_by_main = reached(&checker.tables, &checker.used);
    let others = checker
        .tables
        .iter()
        .enumerate()
        .filter(|(i, _)| acting.get(*i) == Some(&true) && !needed_by_main.contains(i))
        .filter_map(|(_, t)| t.relation.clone())
        .collect();
    let fired = if checker.folded { vec!["constants worked out"] } else { Vec::new() };
    let ends_in_write = recipe.main.steps.last().is_some_and(|p| p.step.writes());
    let Checker { steps, notes, mut counted, open, ran, files, .. } = checker;
    let mut plan = Plan {
        main,
        others,
        steps,
        ends_in_write,
        notes,
        files,
        fired,
        ran: Vec::new(),
        counted: Counters::new(0),
        open,
        moment: request.moment.clone(),
    };
    // What runs again is counted again.
    plan.nodes().iter().for_each(|node| counted.clear(node.step));
    (plan.ran, plan.counted) = (ran, counted);
    Ok(plan)
}

/// Checks the steps of a chain in order.
fn check_chain(chain: &Chain, table: Option<&String>, checker: &mut Checker<'_>) -> Option<Relation> {
    let mut relation: Option<Relation> = None;
    for placed in &chain.steps {
        checker.source = placed.source.clone();
        let first = checker.steps.len();
        relation = placed.step.check(relation, checker);
        checker.steps.iter_mut().skip(first).for_each(|aside| aside.table = table.cloned());
        let fields = relation.as_ref().map(|r| r.fields.as_slice()).unwrap_or_default();
        checker.steps.push(StepInfo {
            text: placed.step.to_string(),
            table: table.cloned(),
            reads: placed.step.table().map(str::to_owned),
            aside: false,
            joins: placed.step.joins(),
            keeps_rows: placed.step.keeps_rows(),
            runs: true,
            columns: told(fields, &checker.steps),
        });
        if checker.open {
            break;
        }
        relation.as_ref()?;
    }
    relation
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

/// Tables that the main chain needs, or that write or require, and those that they need.
fn tables_that_run(checker: &Checker<'_>, acting: &[bool]) -> Vec<bool> {
    let acts = acting.iter().enumerate().filter(|(_, a)| **a).map(|(i, _)| i);
    let start: Vec<usize> = checker.used.iter().copied().chain(acts).collect();
    let reached = reached(&checker.tables, &start);
    (0..checker.tables.len()).map(|i| reached.contains(&i)).collect()
}

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

/// The recipe's parameters with the values they were given, and its functions.
fn environment(recipe: &Recipe, given: &[(String, String)]) -> Result<Environment> {
    let mut environment = Environment::default();
    for parameter in &recipe.givens {
        let default = match &parameter.default {
            GivenDefault::Value(value) => GivenValue::Value(value.clone()),
            GivenDefault::Column(column) => GivenValue::Column(column.clone()),
            GivenDefault::Required(kind) if !given.iter().any(|(name, _)| *name == parameter.name) => {
                return Err(lacking(recipe, &parameter.name, kind));
            }
            GivenDefault::Required(_) => continue,
        };
        environment.givens.insert(parameter.name.clone(), default);
    }
    for (parameter, text) in given {
        let Some(declared) = recipe.givens.iter().find(|g| g.name == *parameter) else {
            let error = Error::new(ErrorKind::Name, format!("The recipe has no parameter {parameter}."));
            let names = recipe.givens.iter().map(|g| g.name.as_str());
            let error = match recipe.givens.len() {
                0 => error.why("It declares none; given threshold = 100 at its top would."),
                _ => error.why(format!("Its parameters are {}.", comma(names.clone()))),
            };
            return Err(match nearest(parameter, names) {
                Some(near) => error.next(format!("Did you mean {near}?")),
                None => error,
            });
        };
        let value = match &declared.default {
            GivenDefault::Column(_) => Some(GivenValue::Column(text.clone())),
            GivenDefault::Value(default) => value_like(default, text).map(GivenValue::Value),
            GivenDefault::Required(kind) => value_of(kind, text).map(GivenValue::Value),
        };
        let value = value.ok_or_else(|| {
            let (kind, next) = match &declared.default {
                GivenDefault::Required(kind) => (kind.clone(), None),
                GivenDefault::Value(value) => (value.kind(), Some(value)),
                GivenDefault::Column(_) => (Type::Text, None),
            };
            let what = format!("{parameter} is {kind} in the recipe, and '{text}' is none.");
            let error = Error::new(ErrorKind::Type, what);
            match next {
                Some(default) => error.next(format!("Its default is {default}.")),
                None => error,
            }
        })?;
        environment.givens.insert(parameter.clone(), value);
    }
    let mut known = Environment { givens: environment.givens.clone(), ..Environment::default() };
    for (name, define) in &recipe.defines {
        // A function may use those before it, so that none can use itself.
        let body = known.expand(&define.body, &recipe.source)?;
        let define = churn_expr::expand::Define { parameters: define.parameters.clone(), body };
        known.defines.insert(name.clone(), define);
    }
    environment.defines = known.defines;
    Ok(environment)
}

/// The error of a parameter that must be given and is not.
fn lacking(recipe: &Recipe, parameter: &str, kind: &Type) -> Error {
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
    error.next(format!("Give it: --given {parameter}={example}"))
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
