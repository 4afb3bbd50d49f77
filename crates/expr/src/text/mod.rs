//! Text of the language: tokens, layout and expressions. Back to text goes `print`.
//!
//! This module knows the grammar that all steps share. What each step reads from its own line stands with the step, in the
//! layer of steps.

pub mod cursor;
mod expression;
mod frame;
mod habits;
pub mod layout;
mod primary;
pub mod raw;
#[cfg(test)]
mod round_trip;
pub mod token;

use std::str::FromStr;
use std::sync::Arc;

use churn_core::{Error, ErrorKind, Result, SourceText};

pub use cursor::Cursor;
pub use expression::{expression, joined};
pub use habits::step_for;
pub use primary::{number_literal, operand};
pub use token::TokenKind;

use crate::Expr;
use layout::{Block, blocks};

/// Reads the pieces of a text that stands alone, on one line or several; `what` is what messages call the text.
///
/// # Errors
/// The text is not what `each` reads, or goes on behind it.
pub fn read<T>(
    text: &str,
    what: &str,
    mut each: impl FnMut(&mut Cursor<'_>) -> Result<Vec<T>>,
) -> Result<Vec<T>> {
    let source = Arc::new(SourceText { name: what.to_owned(), text: text.to_owned() });
    let mut found = Vec::new();
    for block in blocks(&source)? {
        found.extend(read_line(&block, &mut each)?);
    }
    Ok(found)
}

/// Reads a line, and those that are indented below it.
fn read_line<T>(line: &Block, each: &mut impl FnMut(&mut Cursor<'_>) -> Result<Vec<T>>) -> Result<Vec<T>> {
    let mut cursor = line.cursor();
    let mut found = each(&mut cursor)?;
    cursor.expect_end()?;
    for deeper in &line.below {
        found.extend(read_line(deeper, each)?);
    }
    Ok(found)
}

/// Reads a text that stands alone as one thing.
///
/// # Errors
/// As [`read`]; the text is empty, or more than one thing.
pub fn one<T>(text: &str, what: &str, each: impl Fn(&mut Cursor<'_>) -> Result<T>) -> Result<T> {
    let mut found = read(text, what, |c| Ok(vec![each(c)?]))?.into_iter();
    let error = |told: &str| Error::new(ErrorKind::Syntax, told);
    match (found.next(), found.next()) {
        (Some(found), None) => Ok(found),
        (None, _) => Err(error("An expression is wanted, and the text is empty.")),
        (Some(_), Some(_)) => Err(error("One expression is wanted, and these are several.")
            .next("A line break in an expression stands within parentheses.")),
    }
}

/// An expression in the language.
///
/// ```
/// # extern crate churn_expr as churn;
/// use churn::Expr;
/// let share: Expr = "litres / sum(litres) per farm".parse()?;
/// assert_eq!(share.to_string(), "litres / sum(litres) per farm");
/// assert!("litres /".parse::<Expr>().is_err());
/// # Ok::<(), churn_core::Error>(())
/// ```
impl FromStr for Expr {
    type Err = Error;

    fn from_str(text: &str) -> Result<Expr> {
        one(text, "the expression", expression)
    }
}
