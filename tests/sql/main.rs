//! Queries of SQL against an evaluator of the tests' own: written ones and ones drawn by a grammar, at every setting.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod calls;
mod eval;
mod guide;
mod literals;
mod mangled;
mod random;
mod recipes;
mod refused;
mod tables;
mod value;

use std::path::Path;
use std::sync::LazyLock;

use churn::{Flow, RunOptions, Table};
use rstest::rstest;
use sqlparser::ast::{Query, Statement};
use sqlparser::dialect::GenericDialect;
use sqlparser::parser::Parser;
use tempfile::TempDir;

use eval::World;
use tables::{Data, Form};
use value::V;

/// The folder of the tables, written once.
static FOLDER: LazyLock<TempDir> = LazyLock::new(|| {
    let folder = TempDir::new().unwrap();
    tables::write(folder.path());
    folder
});

fn folder() -> &'static Path {
    FOLDER.path()
}

/// The queries of the corpus.
fn written() -> impl Iterator<Item = &'static str> {
    include_str!("queries.txt").lines().filter(|line| !line.is_empty() && !line.starts_with('#'))
}

fn parsed(text: &str) -> Query {
    let statements = Parser::parse_sql(&GenericDialect {}, text).unwrap_or_else(|e| panic!("{text}\n{e}"));
    match statements.into_iter().next() {
        Some(Statement::Query(query)) => *query,
        other => panic!("{other:?}"),
    }
}

fn rows_of(table: &Table) -> Vec<Vec<V>> {
    let names: Vec<String> = table.columns().map(|(name, _)| name.to_owned()).collect();
    let columns: Vec<Vec<V>> =
        names.iter().map(|name| table.values(name).unwrap().into_iter().map(V::of).collect()).collect();
    (0..table.len()).map(|row| columns.iter().map(|column| column[row].clone()).collect()).collect()
}

/// Whether two answers are alike: row by row where there is an order, else as sets in which rows may be repeated.
fn are_alike(answer: &[Vec<V>], expected: &[Vec<V>], is_ordered: bool) -> bool {
    let close = |a: &Vec<V>, b: &Vec<V>| a.len() == b.len() && a.iter().zip(b).all(|(a, b)| a.is_close(b));
    if answer.len() != expected.len() {
        return false;
    }
    if is_ordered {
        return answer.iter().zip(expected).all(|(a, b)| close(a, b));
    }
    let mut left: Vec<&Vec<V>> = expected.iter().collect();
    answer.iter().all(|row| match left.iter().position(|other| close(row, other)) {
        Some(found) => {
            left.swap_remove(found);
            true
        }
        None => false,
    })
}

/// A float where the engine has one and the evaluator a whole number, and the other way round: `sum` of what is null, 7 / 7.
fn as_numbers(rows: &[Vec<V>]) -> Vec<Vec<V>> {
    let cell = |v: &V| if let V::Int(v) = v { V::Float(*v as f64) } else { v.clone() };
    rows.iter().map(|row| row.iter().map(cell).collect()).collect()
}

/// What the engine answers otherwise than the evaluator.
fn differences(text: &str, is_drawn: bool, form: Form, options: &RunOptions) -> Option<String> {
    let query = parsed(text);
    let Data { rows: expected, .. } = eval::query(&query, &World::default());
    let flow = tables::query(folder(), form, text);
    let recipe = || flow.expanded().map_or_else(|e| e.to_string(), |recipe| recipe.to_string());
    let table = match flow.run_with(options) {
        Ok(table) => table,
        // Of the written ones none is refused.
        Err(error) if is_drawn && error.what().ends_with("has no counterpart here.") => return None,
        Err(error) => return Some(format!("{text}\n{error}\n\n{}", recipe())),
    };
    let (answer, expected) = (as_numbers(&rows_of(&table)), as_numbers(&expected));
    let told = || {
        let rows: String = expected.iter().map(|row| format!("{row:?}\n")).collect();
        format!("{text}\n\n{}\ngives\n{table}\nand not\n{rows}", recipe())
    };
    (!are_alike(&answer, &expected, query.order_by.is_some())).then(told)
}

/// The engine answers all queries as the evaluator does.
fn agree<'q>(queries: impl Iterator<Item = &'q str>, are_drawn: bool, form: Form, options: &RunOptions) {
    let wrong: Vec<String> = queries.filter_map(|text| differences(text, are_drawn, form, options)).collect();
    assert!(wrong.is_empty(), "{} are answered otherwise:\n{}", wrong.len(), wrong.join("\n----\n"));
}

fn setting(threads: usize, batch_rows: usize, block_bytes: usize, memory: Option<u64>) -> RunOptions {
    let options = RunOptions::new().threads(threads).batch_rows(batch_rows).block_bytes(block_bytes);
    memory.map_or(options.clone(), |bytes| options.memory(bytes))
}

#[rstest]
#[case::one_thread(Form::Csv, setting(1, 8192, 1 << 20, None))]
#[case::two_threads_single_rows(Form::Csv, setting(2, 1, 16, None))]
#[case::seven_threads(Form::Csv, setting(7, 7, 64, None))]
#[case::spilled(Form::Csv, setting(2, 7, 64, Some(1)))]
#[case::parquet(Form::Parquet, setting(2, 7, 64, None))]
#[case::lines_of_json(Form::Lines, setting(2, 7, 64, None))]
fn written_queries_have_the_evaluators_answer(#[case] form: Form, #[case] options: RunOptions) {
    agree(written(), false, form, &options);
}

#[rstest]
#[case(0, setting(1, 8192, 1 << 20, None))]
#[case(1000, setting(2, 1, 16, None))]
#[case(2000, setting(7, 7, 64, None))]
#[case(3000, setting(2, 7, 64, Some(1)))]
fn drawn_queries_have_the_evaluators_answer(#[case] seed: u64, #[case] options: RunOptions) {
    let more: u64 = std::env::var("CHURN_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(150);
    let drawn: Vec<String> = (seed..seed + more).map(random::query).collect();
    agree(drawn.iter().map(String::as_str), true, Form::Csv, &options);
}

/// The recipe that a query becomes reads back, and its plan is that of the query.
#[test]
fn a_query_and_its_recipe_have_the_same_plan() {
    let drawn: Vec<String> = (0..100).map(random::query).collect();
    for text in written().map(str::to_owned).chain(drawn) {
        let text = text.as_str();
        let flow = tables::query(folder(), Form::Csv, text);
        let recipe = flow.expanded().unwrap_or_else(|e| panic!("{text}\n{e}")).to_string();
        let again = Flow::recipe(&recipe);
        let plan = |flow: &Flow| flow.plan().unwrap_or_else(|e| panic!("{text}\n{recipe}\n{e}")).picture(120);
        assert_eq!(plan(&flow), plan(&again), "{text}");
        assert_eq!(again.to_string(), recipe);
    }
}

#[test]
fn there_are_enough_queries() {
    assert!(written().count() >= 250, "{}", written().count());
}
