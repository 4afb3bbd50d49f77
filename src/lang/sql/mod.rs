//! SQL: a query of the ISO standard as the steps that it means.
//!
//! A chain may start with a query. Before a recipe is checked, each such chain is replaced by the tables and the steps that the
//! query means, so that everything after knows steps only: the plan, the ledger, messages, whose places are those of
//! the query, and the recipe that `--as recipe` prints.
//!
//! A query is translated clause by clause, in the order in which the standard gives them a meaning: `from` and its joins
//! ([`from`], [`join`]), `where` ([`condition`]), groups ([`grouping`]), windows ([`windows`]), the columns of `select`
//! ([`select`]), sets of rows ([`sets`]) and the order ([`order`]). Each step is checked when it is made, so that the next clause
//! knows the columns.

mod aggregates;
mod calls;
mod condition;
mod dialect;
mod expression;
mod from;
mod grouping;
mod join;
mod literals;
mod order;
mod parse;
mod places;
mod predicates;
mod query;
mod rows;
mod scope;
mod select;
mod sets;
mod subquery;
mod translator;
mod windows;
mod words;

use std::borrow::Cow;
use std::collections::HashSet;

use churn_core::{Result, deep};

use super::recipe::{Chain, PlacedStep, Recipe, check_chain};
use crate::steps::{Checker, declare_table, know_own_tables};
use places::Places;
use translator::Translator;

/// A query as a chain: the tables that it needs, and its steps.
struct Translated {
    tables: Vec<Chain>,
    steps: Vec<PlacedStep>,
}

/// The recipe with the steps of its queries in place of the queries; mistakes in them are noted with the checker.
///
/// The files that queries name are looked at for their columns, and what was found is kept for the check of the steps.
pub(crate) fn expanded<'r>(recipe: &'r Recipe, checker: &mut Checker<'_>) -> Cow<'r, Recipe> {
    let chains = || recipe.tables.iter().chain([&recipe.main]);
    if !chains().any(|chain| query_of(chain).is_some()) {
        return Cow::Borrowed(recipe);
    }
    let mut scratch = checker.scratch();
    know_own_tables(&mut scratch);
    let mut taken: HashSet<String> = recipe.tables.iter().map(|table| table.name.clone()).collect();
    let mut made = Vec::new();
    for chain in chains() {
        let is_over = scratch.open || scratch.has_errors();
        let chain = match query_of(chain).filter(|_| !is_over) {
            None => chain.clone(),
            Some((query, placed)) => match translate(query, placed, &mut scratch, &mut taken) {
                Ok(Translated { tables, mut steps }) => {
                    made.extend(tables);
                    steps.extend(chain.steps.iter().skip(1).cloned());
                    Chain { name: chain.name.clone(), steps }
                }
                Err(error) => {
                    scratch.errors.push(error);
                    chain.clone()
                }
            },
        };
        if !is_over && !chain.name.is_empty() {
            let relation = check_chain(&chain, Some(&chain.name), &mut scratch);
            declare_table(&chain.name, relation, Vec::new(), false, &mut scratch);
        }
        made.push(chain);
    }
    let Checker { errors, query_notes, opened, .. } = scratch;
    checker.errors.extend(errors);
    checker.notes.extend(query_notes);
    checker.opened.extend(opened);
    let main = made.pop().unwrap_or_else(|| recipe.main.clone());
    Cow::Owned(Recipe { tables: made, main, ..recipe.clone() })
}

/// The query that a chain starts with.
fn query_of(chain: &Chain) -> Option<(&crate::steps::Sql, &PlacedStep)> {
    chain.steps.first().and_then(|placed| Some((placed.step.check().query()?, placed)))
}

fn translate(
    query: &crate::steps::Sql,
    placed: &PlacedStep,
    checker: &mut Checker<'_>,
    taken: &mut HashSet<String>,
) -> Result<Translated> {
    let places = Places::new(query.text(), &placed.source, query.span());
    deep::with_room_for(query.text().len().min(MOST_ROOM), || {
        let parsed = parse::parse(&places)?;
        // What a run alone can find is not needed for the columns.
        let find = checker.find.take();
        let translated = Translator::new(&places, &parsed.tokens, checker, taken).whole(&parsed.query);
        checker.find = find;
        translated
    })
}

/// Operators that the stack gives room for: a query of more bytes than this nests no deeper.
const MOST_ROOM: usize = 100_000;
