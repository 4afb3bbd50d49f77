//! The steps of the language as data: a struct for each, built by methods, compared, printed.
//!
//! What a step is built of are names, [`Expr`](crate::Expr)essions, [`Item`]s and values, never text of the language: whatever
//! they hold, they stay what they are. `Display` gives the step's text, and that reads back as an equal [`Step`].
//!
//! ```
//! use churn::steps::{Group, Sort, Step};
//! use churn::{column, count, sum};
//!
//! let group = Group::by(["farm"]).items([sum(column("litres")).named("litres"), count().named("loads")]);
//! let chain: [Step; 2] = [group.into(), Sort::by([column("litres").desc()]).into()];
//! assert_eq!(chain[1], "sort litres desc".parse()?);
//! # Ok::<(), churn::Error>(())
//! ```

// A step is one file here and one line in `CATALOGUE`. Checking a step turns the relation before it into the one after it;
// the operators that it is made of stand in `churn_plan`, and how they run in `churn_exec`.

mod add;
mod append;
mod checker;
mod columns;
mod densify;
mod distinct;
#[cfg(feature = "charts")]
mod draw;
mod ends;
#[cfg(test)]
mod example;
mod fill;
mod filter;
mod given;
mod group;
mod item;
mod join;
mod options;
mod other;
mod paste;
mod pivot;
mod read;
mod read_recipe;
mod read_table;
mod require;
mod sample;
mod select;
mod sort;
mod split;
#[cfg(feature = "sql")]
mod sql;
mod step;
mod table_values;
mod unnest;
mod unpivot;
mod values;
mod window;
mod write;

use churn_core::error::nearest;
use std::sync::Arc;

use churn_core::error::OrFault;
use churn_core::{Error, ErrorKind, Result, SourceText};
use churn_expr::text::layout::{Block, blocks};
use churn_expr::text::{Cursor, TokenKind, step_for};

pub(crate) use checker::{Checker, DeclaredTable};
#[cfg(feature = "charts")]
pub(crate) use draw::OPTIONS as DRAW_OPTIONS;
pub(crate) use given::Given;
pub(crate) use pivot::read_keys as read_pivot_keys;
#[cfg(feature = "sql")]
pub(crate) use read::reading_at;
pub(crate) use read::{OPTIONS as READ_OPTIONS, reading};
pub(crate) use require::read_condition;
pub(crate) use sort::read_key;
pub(crate) use step::Check;
pub(crate) use table_values::{declare as declare_table, know_own_tables};
pub(crate) use write::OPTIONS as WRITE_OPTIONS;

pub use add::Add;
pub use append::Append;
pub use columns::{Drop, Rename};
pub use densify::{DenseKey, Densify};
pub use distinct::Distinct;
#[cfg(feature = "charts")]
pub use draw::{Draw, DrawOptions};
pub use ends::End;
pub use fill::{Carry, Fill};
pub use filter::Filter;
pub use group::Group;
pub use item::Item;
pub use join::Join;
pub use other::Other;
pub use paste::Paste;
pub use pivot::{Pivot, PivotKey};
pub use read::{Read, ReadOptions};
pub use read_recipe::ReadRecipe;
pub use read_table::ReadTable;
pub use require::{Require, RequireUnique};
pub use sample::Sample;
pub use select::Select;
pub use sort::Sort;
pub use split::Split;
#[cfg(feature = "sql")]
pub use sql::Sql;
pub use step::Step;
pub use unnest::Unnest;
pub use unpivot::Unpivot;
pub use values::Values;
pub use window::Window;
pub use write::{Settings as WriteOptions, Write};

/// What the language knows of a step.
pub struct StepKind {
    /// Its first word.
    pub keyword: &'static str,
    /// How it is written.
    pub usage: &'static str,
    /// What it does, in a sentence.
    pub summary: &'static str,
    /// An example over the demo's data.
    pub example: &'static str,
    pub(crate) parse: fn(StepText<'_>) -> Result<Step>,
}

/// Every step, in the order in which the help lists them.
pub const CATALOGUE: &[StepKind] = &[
    read::KIND,
    values::KIND,
    #[cfg(feature = "sql")]
    sql::KIND,
    filter::KIND,
    select::KIND,
    columns::DROP,
    columns::RENAME,
    add::KIND,
    sort::KIND,
    ends::FIRST,
    ends::LAST,
    sample::KIND,
    distinct::KIND,
    group::GROUP,
    group::TOTAL,
    window::KIND,
    join::KIND,
    append::KIND,
    paste::KIND,
    pivot::KIND,
    unpivot::KIND,
    split::KIND,
    unnest::KIND,
    fill::KIND,
    densify::KIND,
    require::KIND,
    write::KIND,
    #[cfg(feature = "charts")]
    draw::KIND,
];

/// Finds a step by its first word.
pub fn find(keyword: &str) -> Option<&'static StepKind> {
    CATALOGUE.iter().find(|kind| kind.keyword.eq_ignore_ascii_case(keyword))
}

/// Reads the text of a step of a kind, without its keyword, as that step and nothing else.
pub(crate) fn read_as(keyword: &str, text: &str) -> Result<Step> {
    let source = Arc::new(SourceText { name: keyword.to_owned(), text: text.to_owned() });
    let blocks = blocks(&source)?;
    let (head, lines) = match blocks.split_first() {
        Some((head, lines)) => (head.cursor(), head.below.iter().chain(lines)),
        None => {
            return Err(Error::new(
                ErrorKind::Syntax,
                format!("What {keyword} is to do is wanted, and the text is empty."),
            ));
        }
    };
    let kind = find(keyword).or_fault("step of this name")?;
    (kind.parse)(StepText { head, lines: lines_of(lines)? })
}

/// The lines below a step; none of them has lines below it.
fn lines_of<'a>(below: impl Iterator<Item = &'a Block>) -> Result<Vec<Cursor<'a>>> {
    below
        .map(|line| match line.below.first() {
            Some(deeper) => {
                Err(deeper.cursor().error("This line is indented deeper than the items of a step."))
            }
            None => Ok(line.cursor()),
        })
        .collect()
}

/// The text of one step: what follows its keyword, and the lines below it.
pub(crate) struct StepText<'a> {
    pub(crate) head: Cursor<'a>,
    pub(crate) lines: Vec<Cursor<'a>>,
}

impl<'a> StepText<'a> {
    /// Reads a comma list that stands after the keyword, below it, or both.
    pub(crate) fn list<T>(self, mut item: impl FnMut(&mut Cursor<'a>) -> Result<T>) -> Result<Vec<T>> {
        let StepText { mut head, lines, .. } = self;
        let mut items = Vec::new();
        head.take_symbol(":");
        if !head.at_end() || lines.is_empty() {
            items = head.list(&mut item)?;
            head.expect_end()?;
        }
        for mut line in lines {
            items.extend(line.list(&mut item)?);
            line.expect_end()?;
        }
        Ok(items)
    }

    /// Reads the head of a step that has nothing below it.
    pub(crate) fn one<T>(self, read: impl FnOnce(&mut Cursor<'a>) -> Result<T>) -> Result<T> {
        let StepText { mut head, lines, .. } = self;
        let value = read(&mut head)?;
        if let Some(line) = lines.first().filter(|_| head.at_end()) {
            return Err(line
                .error("This line is indented below a step that takes no lines.")
                .next("Put a long condition in parentheses; inside them line breaks do not matter."));
        }
        head.expect_end()?;
        Ok(value)
    }
}

/// Reads a step from its line and the lines below it.
///
/// # Errors
/// The keyword is no step, or what follows does not fit it.
pub(crate) fn parse(block: &Block) -> Result<Step> {
    let mut head = block.cursor();
    if let Some(TokenKind::Word(word)) = head.peek()
        && step_for(&word.to_ascii_lowercase()).is_some()
    {
        return Err(unknown(word).at(head.source, head.span()));
    }
    let (keyword, span) = head.name("a step: read, filter, group, …")?;
    let Some(kind) = find(&keyword) else {
        return Err(unknown(&keyword).at(head.source, span));
    };
    (kind.parse)(StepText { head, lines: lines_of(block.below.iter())? })
}

/// The error of a word that is no step.
pub(crate) fn unknown(keyword: &str) -> Error {
    let error = Error::new(ErrorKind::Syntax, format!("There is no step {keyword}."));
    let lacked = [("sql", cfg!(feature = "sql"), "sql"), ("draw", cfg!(feature = "charts"), "charts")];
    if let Some((.., feature)) =
        lacked.iter().find(|(word, is_here, _)| !is_here && keyword.eq_ignore_ascii_case(word))
    {
        return error.next(format!("This build of churn lacks it: the feature {feature} adds it."));
    }
    if let Some(here) = step_for(&keyword.to_ascii_lowercase()) {
        return error.next(format!("Here it is written {here}."));
    }
    match nearest(keyword, CATALOGUE.iter().map(|k| k.keyword)) {
        Some(near) => error.next(format!("Did you mean {near}?")),
        None => error
            .why(format!("The steps are {}.", churn_core::names::comma(CATALOGUE.iter().map(|k| k.keyword)))),
    }
}
