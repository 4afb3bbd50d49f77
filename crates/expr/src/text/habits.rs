//! Ways out for what people write by habit: words and signs of other languages where this one has its own.

use super::Cursor;
use super::token::TokenKind;

/// The way out for what stands at a place where something else is expected; `None` if nothing is known of it.
pub(super) fn way_out(c: &Cursor<'_>) -> Option<&'static str> {
    if let Some(TokenKind::Word(before)) = c.previous()
        && let Some(way_out) = behind_word(&before.to_ascii_lowercase(), c)
    {
        return Some(way_out);
    }
    match c.peek()? {
        TokenKind::Word(word) => of_word(&word.to_ascii_lowercase()),
        TokenKind::Symbol(",") => Some("There is a comma too many, or something is missing beside it."),
        TokenKind::Symbol(".") => Some(
            "A column is named without its table; in a join the left column stands first: on farm = code.",
        ),
        TokenKind::Symbol(":") if c.is_symbol_at(1, ":") => {
            Some("A type is given by cast: cast(litres as int).")
        }
        TokenKind::Symbol(";") => {
            Some("Items stand behind a colon, with commas between them: group by farm: n = count().")
        }
        TokenKind::Symbol("=") => Some("One = gives a name at the start of an item; elsewhere it compares."),
        _ => None,
    }
}

/// The way out for what stands behind a word that is written otherwise here.
fn behind_word(before: &str, c: &Cursor<'_>) -> Option<&'static str> {
    let is_value = !matches!(c.peek()?, TokenKind::Symbol(_));
    match before {
        "distinct" if is_value => Some("Different values are counted by count_distinct(farm)."),
        "if" if is_value => of_word("then"),
        "not" | "is" if is_value => {
            Some("Values are compared with = and <>; is stands before null and distinct from.")
        }
        _ => None,
    }
}

fn of_word(word: &str) -> Option<&'static str> {
    Some(match word {
        "using" => "The keys of a join stand after on: join 'farms.csv' on farm.",
        "descending" => "Write desc: sort litres desc.",
        "ascending" => "A sort is ascending unless it says desc.",
        "as" => "The new name stands first: rename new = old, select new = old + 1.",
        "having" => "Groups are filtered by a filter behind them.",
        "where" => "Rows are filtered by a step of their own, filter; an aggregate takes where (condition).",
        "then" | "else" | "when" => {
            "A choice is if(condition, a, b), or case when condition then a else b end."
        }
        _ => return None,
    })
}

/// What another language's step is here; `None` if nothing is known of it.
pub fn step_for(keyword: &str) -> Option<&'static str> {
    // The word by without a space before it.
    match keyword.strip_suffix("by") {
        Some("group") => return Some("group by"),
        Some("window") => return Some("window by"),
        Some("order") => return step_for("order"),
        _ => {}
    }
    Some(match keyword {
        "where" | "keep" | "subset" => "filter",
        "having" => "filter, behind the group",
        "limit" | "head" | "top" | "take" => "first",
        "tail" => "last",
        "order" => "sort",
        "with" | "compute" | "derive" | "transform" => "add",
        "unique" | "dedupe" => "distinct",
        "aggregate" | "summarize" | "summary" => "group, or total",
        "from" | "load" | "open" | "import" => "read",
        "save" | "export" | "output" => "write",
        "assert" | "check" | "expect" => "require",
        "left" | "right" | "full" | "inner" | "outer" | "semi" | "anti" | "cross" | "asof" => {
            "join with its kind behind it: join left 'farms.csv' on farm"
        }
        "merge" | "lookup" => "join",
        "union" | "concat" | "concatenate" | "stack" => "append",
        "crosstab" => "pivot",
        "explode" | "flatten" => "unnest",
        "impute" => "fill",
        "delete" | "remove" => "drop for columns, filter for rows",
        "count" => "total: count()",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("group", "group by")]
    #[case("window", "window by")]
    #[case("order", "sort")]
    fn a_space_may_be_missing_before_by(#[case] step: &str, #[case] here: &str) {
        assert_eq!(step_for(&format!("{step}by")), Some(here));
    }

    #[rstest]
    fn steps_are_no_habits(#[values("group", "window", "sort", "by", "read")] step: &str) {
        assert_eq!(step_for(step), None);
    }
}
