//! The text of `draw`.

use churn_core::error::nearest;
use churn_core::names::comma;
use churn_core::{Error, ErrorKind, Result};
use churn_expr::text::{Cursor, TokenKind};

use super::Draw;
use crate::draw::ChartKind;
use crate::steps::checker::Path;
use crate::steps::item::Item;
use crate::steps::options as with;

/// Whether another part of the step begins here.
fn is_next_part(c: &Cursor<'_>) -> bool {
    let is_text_at = |ahead| matches!(c.peek_at(ahead), Some(TokenKind::Text(_) | TokenKind::Parameter(_)));
    c.is_word_at(0, "over")
        || c.is_word_at(0, "by")
        || c.is_word_at(0, "panels") && c.is_word_at(1, "by")
        || c.is_word_at(0, "to") && is_text_at(1)
        || c.is_word_at(0, "with") && c.is_symbol_at(1, "(")
}

/// The items of a part.
fn items(c: &mut Cursor<'_>) -> Result<Vec<Item>> {
    let mut part = c.part(is_next_part);
    let items = part.list(Item::read)?;
    part.expect_end()?;
    Ok(items)
}

/// The one item of a part.
fn one(c: &mut Cursor<'_>, word: &str) -> Result<Item> {
    let mut items = items(c)?;
    match (items.pop(), items.is_empty()) {
        (Some(item), true) => Ok(item),
        _ => Err(c.error(format!("{word} takes one key.")).next("Draw the others as panels by KEY.")),
    }
}

fn kind(c: &mut Cursor<'_>) -> Result<ChartKind> {
    let words = ChartKind::ALL.map(ChartKind::word);
    let (word, span) = c.name("a kind of chart: histogram, bars, lines, area, points, box or heat")?;
    if let Some(kind) = ChartKind::ALL.into_iter().find(|kind| kind.word().eq_ignore_ascii_case(&word)) {
        return Ok(kind);
    }
    let error = Error::new(ErrorKind::Syntax, format!("There is no kind of chart {word}."));
    let error = error.at(c.source, span).why(format!("The kinds are {}.", comma(words)));
    Err(match nearest(&word, words) {
        Some(near) => error.next(format!("Did you mean {near}?")),
        None => error,
    })
}

/// Reads the step behind its keyword.
pub(super) fn read(c: &mut Cursor<'_>) -> Result<Draw> {
    let start = c.span();
    let mut draw = Draw::new(kind(c)?, Vec::<Item>::new());
    if !c.at_end() && !is_next_part(c) {
        draw.measures = items(c)?;
    }
    loop {
        if draw.along.is_none() && c.take_word("over") {
            draw.along = Some(one(c, "over")?);
        } else if draw.colour.is_none() && c.take_word("by") {
            draw.colour = Some(one(c, "by")?);
        } else if draw.panels.is_empty() && c.take_words(&["panels", "by"]) {
            draw.panels = items(c)?;
        } else if draw.to.is_none() && c.is_word_at(0, "to") {
            c.advance();
            draw.to = Some(Path::read(c)?);
        } else {
            break;
        }
    }
    draw.options = with::read(c)?;
    draw.span = c.since(start);
    Ok(draw)
}
