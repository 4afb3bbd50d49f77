//! Lines and what is indented below them.
//!
//! A logical line ends where the text's line ends, unless a parenthesis is open. Lines indented deeper than the
//! one before belong to it.

use std::sync::Arc;

use churn_core::{Error, ErrorKind, Result, SourceText, Span, deep};

use super::cursor::Cursor;
use super::token::{Token, TokenKind, tokens};

/// A logical line and the lines indented below it.
#[derive(Debug)]
pub struct Block {
    /// The tokens of the line.
    pub tokens: Vec<Token>,
    /// The lines that are indented below it.
    pub below: Vec<Block>,
    source: Arc<SourceText>,
}

impl Block {
    /// Walks over the line's own tokens.
    pub fn cursor(&self) -> Cursor<'_> {
        Cursor::new(&self.source, &self.tokens)
    }

    /// The place of the line.
    pub fn span(&self) -> Span {
        let start = self.tokens.first().map(|t| t.span).unwrap_or_default();
        start.to(self.tokens.last().map(|t| t.span).unwrap_or_default())
    }

    /// The place of the line and all below it.
    pub fn whole_span(&self) -> Span {
        self.span().to(self.below.last().map_or(self.span(), Block::whole_span))
    }
}

/// Cuts a text into blocks by its lines and their indentation.
pub fn blocks(source: &Arc<SourceText>) -> Result<Vec<Block>> {
    let mut lines: Vec<(usize, Vec<Token>)> = Vec::new();
    let mut depth = 0usize;
    for token in tokens(source)? {
        let starts = token.indent.filter(|_| depth == 0);
        match token.kind {
            TokenKind::Symbol("(") => depth += 1,
            TokenKind::Symbol(")") => depth = depth.saturating_sub(1),
            _ => {}
        }
        match (starts, lines.last_mut()) {
            (None, Some((_, line))) => line.push(token),
            (indent, _) => lines.push((indent.unwrap_or(0), vec![token])),
        }
    }
    let mut lines = lines.into_iter().peekable();
    let mut top = Vec::new();
    let first = lines.peek().map_or(0, |(indent, _)| *indent);
    while let Some((indent, line)) = lines.next() {
        if indent != first {
            let span = line.first().map(|t| t.span).unwrap_or_default();
            return Err(uneven(source, span));
        }
        top.push(block(source, indent, line, &mut lines)?);
    }
    Ok(top)
}

fn block(
    source: &Arc<SourceText>,
    indent: usize,
    tokens: Vec<Token>,
    lines: &mut std::iter::Peekable<std::vec::IntoIter<(usize, Vec<Token>)>>,
) -> Result<Block> {
    let mut below: Vec<Block> = Vec::new();
    let mut inner = None;
    while let Some((next, line)) = lines.next_if(|(next, _)| *next > indent) {
        if *inner.get_or_insert(next) != next {
            return Err(uneven(source, line.first().map(|t| t.span).unwrap_or_default()));
        }
        below.push(deep::guarded(|| block(source, next, line, lines))?);
    }
    Ok(Block { tokens, below, source: source.clone() })
}

fn uneven(source: &Arc<SourceText>, span: Span) -> Error {
    Error::new(ErrorKind::Syntax, "This line's indentation fits none of the lines above it.")
        .at(source, span)
        .next("Indent the items of one step alike.")
}
