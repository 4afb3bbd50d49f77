//! Text of the language: tokens, layout, expressions, and back to text.
//!
//! This module knows the grammar that all steps share. What each step reads from its own line stands with the
//! step, in `crate::steps`.

pub(crate) mod cursor;
mod expression;
mod frame;
mod habits;
pub(crate) mod layout;
mod primary;
#[cfg(test)]
mod round_trip;
mod token;

pub(crate) use cursor::Cursor;
pub(crate) use expression::expression;
pub(crate) use habits::step_for;
pub(crate) use primary::operand;
pub(crate) use token::TokenKind;
