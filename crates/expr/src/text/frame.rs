//! Frames of window functions: what stands after `over`.

use crate::ast::{Edge, Frame, Unit};
use churn_core::Result;

use super::Cursor;
use super::expression::unary;

/// Reads what stands after `over`.
pub(super) fn frame(c: &mut Cursor<'_>) -> Result<Frame> {
    const FORMS: &str =
        "last 7 rows, next 7 days, rows so far, rows from here, rows between … or range between …";
    let is_last = c.take_word("last");
    if is_last || c.take_word("next") {
        let count = unary(c)?;
        let (word, span) = c.name("rows, or a unit of time: days, months, …")?;
        let word = word.to_ascii_lowercase();
        let Some(unit) = Unit::ALL.into_iter().find(|u| u.word() == word.trim_end_matches('s')) else {
            return Err(c
                .error_at(span, format!("{word} is neither rows nor a unit of time."))
                .next("The units are years, quarters, months, weeks, days, hours, minutes, seconds."));
        };
        return Ok(if is_last { Frame::Last(count, unit) } else { Frame::Next(count, unit) });
    }
    if c.take_words(&["rows", "so", "far"]) {
        return Ok(Frame::SoFar);
    }
    if c.take_words(&["rows", "from", "here"]) {
        return Ok(Frame::FromHere);
    }
    let rows = c.take_word("rows");
    if !rows && !c.take_word("range") {
        return Err(c.unexpected(FORMS));
    }
    c.expect_word("between", "and the two ends of the frame")?;
    let from = edge(c)?;
    c.expect_word("and", "between the two ends of the frame")?;
    Ok(Frame::Between { rows, from, to: edge(c)? })
}

/// Reads an end of a frame.
fn edge(c: &mut Cursor<'_>) -> Result<Edge> {
    let sided = "preceding or following";
    if c.take_words(&["current", "row"]) {
        return Ok(Edge::Here);
    }
    if c.take_word("unbounded") {
        return match (c.take_word("preceding"), c.is_word_at(0, "following")) {
            (true, _) => Ok(Edge::First),
            (false, true) => {
                c.advance();
                Ok(Edge::Last)
            }
            _ => Err(c.unexpected(sided)),
        };
    }
    let by = unary(c)?;
    if c.take_word("preceding") {
        Ok(Edge::Before(by))
    } else if c.take_word("following") {
        Ok(Edge::After(by))
    } else {
        Err(c.unexpected(sided))
    }
}
