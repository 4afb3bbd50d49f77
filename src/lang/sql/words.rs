//! Which columns a query names, by its tokens: a quick look that finds too many rather than too few.

use churn_core::Span;
use sqlparser::tokenizer::{Token, TokenWithSpan};

use super::places::Places;

/// The names in a query, in lower case.
#[derive(Default)]
pub(super) struct Words {
    uses: Vec<Use>,
    /// Whether all columns of all tables are taken: `select *`.
    takes_all: bool,
    /// Tables of which all columns are taken: `d.*`.
    all_of: Vec<String>,
}

struct Use {
    table: Option<String>,
    name: String,
    /// The place in the query.
    span: Span,
}

impl Words {
    pub(super) fn of(tokens: &[TokenWithSpan], places: &Places) -> Words {
        let tokens: Vec<&TokenWithSpan> =
            tokens.iter().filter(|t| !matches!(t.token, Token::Whitespace(_))).collect();
        let word = |i: Option<usize>| match i.and_then(|i| tokens.get(i)).map(|t| &t.token) {
            Some(Token::Word(word)) => Some(word.value.to_lowercase()),
            _ => None,
        };
        let is = |i: Option<usize>, token: &Token| {
            i.and_then(|i| tokens.get(i)).is_some_and(|t| t.token == *token)
        };
        let mut words = Words::default();
        for (i, token) in tokens.iter().enumerate() {
            let before = i.checked_sub(1);
            let table = if is(before, &Token::Period) { word(i.checked_sub(2)) } else { None };
            match &token.token {
                Token::Word(_) => {
                    let (Some(name), Some(span)) = (word(Some(i)), places.within(token.span)) else {
                        continue;
                    };
                    words.uses.push(Use { table, name, span });
                }
                Token::Mul => match table {
                    Some(table) => words.all_of.push(table),
                    None => {
                        let starts = ["select", "distinct", "all"];
                        // exists (select * …) takes no column.
                        let exists =
                            i.checked_sub(3).is_some_and(|at| word(Some(at)).as_deref() == Some("exists"));
                        words.takes_all |= !exists
                            && (is(before, &Token::Comma)
                                || word(before).is_some_and(|word| starts.contains(&word.as_str())));
                    }
                },
                _ => {}
            }
        }
        words
    }

    /// Whether a name of a column stands in the query outside of a place, with the table's name before it; or, if `bare` is
    /// true, without.
    pub(super) fn name(&self, table: &str, column: &str, bare: bool, outside: Span) -> bool {
        let (table, column) = (table.to_lowercase(), column.to_lowercase());
        let is_outside = |span: Span| span.end <= outside.start || span.start >= outside.end;
        self.takes_all
            || self.all_of.contains(&table)
            || self.uses.iter().any(|one| {
                let fits = match &one.table {
                    Some(own) => *own == table,
                    None => bare,
                };
                fits && one.name == column && is_outside(one.span)
            })
    }

    /// Whether a word stands anywhere in the query.
    pub(super) fn contain(&self, name: &str) -> bool {
        let name = name.to_lowercase();
        self.uses.iter().any(|one| one.name == name)
    }
}
