//! The text of a query into the parser's tree.

use churn_core::{Error, ErrorKind, Result, Span, deep};
use sqlparser::ast::{Query, Statement};
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Location, Token, TokenWithSpan, Tokenizer, TokenizerError};

use super::dialect::Standard;
use super::places::Places;

/// What starts a statement that is no query.
const OTHER_STATEMENTS: [&str; 12] = [
    "insert", "update", "delete", "merge", "create", "alter", "drop", "truncate", "grant", "copy", "set",
    "call",
];

/// A query, and the tokens that it is made of.
pub(super) struct Parsed {
    pub(super) query: Box<Query>,
    pub(super) tokens: Vec<TokenWithSpan>,
}

/// Reads one query.
///
/// # Errors
/// The text is no query, or more than one statement.
pub(super) fn parse(places: &Places) -> Result<Parsed> {
    let tokens = Tokenizer::new(&Standard, &places.text)
        .tokenize_with_location()
        .map_err(|error| unreadable(&error, places))?;
    let significant = || tokens.iter().filter(|t| !matches!(t.token, Token::Whitespace(_)));
    let Some(first) = significant().next() else {
        let error = Error::new(ErrorKind::Syntax, "The query is empty.");
        return Err(error.next("Write: select farm, sum(litres) from 'deliveries-2026.csv' group by farm"));
    };
    if let Token::Word(word) = &first.token
        && OTHER_STATEMENTS.contains(&word.value.to_ascii_lowercase().as_str())
    {
        let what = format!("{} is no query: it would change data.", word.value);
        let error = places.error(ErrorKind::Syntax, what, places.span(first.span));
        return Err(error.next("Select what is wanted, and write it to a file: write 'result.csv', or -o."));
    }
    if let Some(second) = second_statement(&tokens) {
        let span = places.span(second.span);
        let error =
            places.error(ErrorKind::Syntax, "One query is wanted, and these are two statements.", span);
        return Err(error.next("Run each on its own; what one needs of the other stands in with."));
    }
    let statements = Parser::new(&Standard)
        .with_recursion_limit(deep::NESTED)
        .with_tokens_with_locations(tokens.clone())
        .parse_statements()
        .map_err(|error| misread(&error, &tokens, places))?;
    match statements.into_iter().next() {
        Some(Statement::Query(query)) => Ok(Parsed { query, tokens }),
        _ => {
            let error = places.error(ErrorKind::Syntax, "This is no query.", places.span(first.span));
            Err(error.next("A query starts with select, with, values or a parenthesis."))
        }
    }
}

/// The first token behind a semicolon.
fn second_statement(tokens: &[TokenWithSpan]) -> Option<&TokenWithSpan> {
    let mut behind = tokens.iter().skip_while(|t| t.token != Token::SemiColon);
    behind.find(|t| !matches!(t.token, Token::SemiColon | Token::Whitespace(_) | Token::EOF))
}

fn unreadable(error: &TokenizerError, places: &Places) -> Error {
    let at = places.within(sqlparser::tokenizer::Span { start: error.location, end: error.location });
    let start = at.map_or(0, |span| span.start);
    let rest = places.text.get(start..).unwrap_or_default();
    let end = start + rest.chars().next().map_or(0, char::len_utf8);
    let what = match error.message.as_str() {
        "Unterminated string literal" => "This text never ends.".to_owned(),
        "Unexpected EOF while in a multi-line comment" => "This comment never ends.".to_owned(),
        _ if rest.starts_with('"') => "This name never ends.".to_owned(),
        _ => format!("{} means nothing here.", rest.chars().next().map_or("The end".into(), String::from)),
    };
    places.error(ErrorKind::Syntax, what, places.shown(Span { start, end })).next(
        "Texts stand in single quotes, names with blanks in double quotes; inside, a quote is written twice.",
    )
}

/// The parser's error in plain words, at its place.
fn misread(error: &ParserError, tokens: &[TokenWithSpan], places: &Places) -> Error {
    let message = match error {
        ParserError::RecursionLimitExceeded => {
            return Error::new(ErrorKind::Syntax, "The query is nested too deep.").why(format!(
                "Parentheses and sub-queries may stand {} deep within each other.",
                deep::NESTED
            ));
        }
        ParserError::ParserError(message) | ParserError::TokenizerError(message) => message,
    };
    let (message, at) = location_of(message);
    let token = at.and_then(|at| tokens.iter().find(|t| t.span.start == at));
    let span = match (token, at) {
        (Some(token), _) => places.span(token.span),
        (None, _) => places.shown(Span { start: places.text.len(), end: places.text.len() }),
    };
    let (wanted, found) = match message.strip_prefix("Expected: ").and_then(|m| m.split_once(", found: ")) {
        Some((wanted, "EOF")) => (wanted, "the query ends".to_owned()),
        Some((wanted, found)) => (wanted, format!("here stands {found}")),
        None => {
            let what = format!("This is not understood: {}.", message.trim_end_matches('.'));
            return places.error(ErrorKind::Syntax, what, span);
        }
    };
    let what = match wanted {
        "end of statement" => {
            format!("The query should end here, and {}.", found.replace("here stands", "goes on with"))
        }
        "an SQL statement" => "A query starts with select, with, values or a parenthesis.".to_owned(),
        wanted => format!("{} is wanted here, and {found}.", capitalized(wanted)),
    };
    places.error(ErrorKind::Syntax, what, span)
}

fn capitalized(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

/// Takes the place off the end of a message of the parser.
fn location_of(message: &str) -> (&str, Option<Location>) {
    let Some((before, place)) = message.rsplit_once(" at Line: ") else { return (message, None) };
    let location = place
        .split_once(", Column: ")
        .and_then(|(line, column)| Some(Location { line: line.parse().ok()?, column: column.parse().ok()? }));
    if location.is_some() { (before, location) } else { (message, None) }
}
