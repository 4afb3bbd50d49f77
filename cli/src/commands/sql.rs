//! `churn sql`: a query over files, its rows shown or written.

use std::path::Path;

use churn::Flow;

use super::run::tried;
use super::{input, is_query_file, is_step};
use crate::Outcome;
use crate::arguments::Sql;
use crate::terminal::Failure;

pub(crate) fn run(arguments: &Sql) -> Outcome {
    let path = Path::new(&arguments.query);
    let mut flow = if is_query_file(path) && path.exists() {
        Flow::sql_file(path)?
    } else {
        Flow::sql(&arguments.query)
    };
    for (name, text) in &arguments.tables {
        flow = flow.with_table(name, &input(text));
    }
    for text in &arguments.inputs {
        flow = flow.with_table(&name_of(text)?, &input(text));
    }
    tried(flow, &arguments.trial, &arguments.running)
}

/// What a query calls an input: the file's name without its ending.
fn name_of(text: &str) -> Result<String, Failure> {
    let file = Path::new(text).file_name().and_then(|file| file.to_str()).unwrap_or_default();
    let stem = file.split('.').next().unwrap_or_default();
    let is_name = stem.chars().next().is_some_and(|c| c.is_alphabetic() || c == '_')
        && stem.chars().all(|c| c.is_alphanumeric() || c == '_');
    if is_name && !is_step(text) {
        return Ok(stem.to_owned());
    }
    Err(Failure::Request(format!(
        "The input {text} has no name by which the query could call it.\n  Give it one: --table milk=\"{text}\"."
    )))
}
