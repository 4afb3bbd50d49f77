//! The grammar of queries: that of the standard, without the extensions of any product.

use sqlparser::dialect::Dialect;

/// Queries of the ISO standard. Names are Unicode letters, digits and `_`; others stand in double quotes.
#[derive(Debug)]
pub(super) struct Standard;

impl Dialect for Standard {
    fn is_identifier_start(&self, c: char) -> bool {
        c.is_alphabetic() || c == '_'
    }

    fn is_identifier_part(&self, c: char) -> bool {
        c.is_alphanumeric() || c == '_'
    }

    fn is_delimited_identifier_start(&self, c: char) -> bool {
        c == '"'
    }

    fn supports_filter_during_aggregation(&self) -> bool {
        true
    }

    fn supports_window_clause_named_window_reference(&self) -> bool {
        true
    }

    fn supports_group_by_expr(&self) -> bool {
        true
    }

    fn supports_nested_comments(&self) -> bool {
        true
    }

    fn supports_numeric_literal_underscores(&self) -> bool {
        true
    }
}
