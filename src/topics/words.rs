//! What people search for, and what of the language answers it.

/// Words that mean the same, in lower case, and the names of what they lead to, the most likely first.
struct Theme {
    words: &'static [&'static str],
    names: &'static [&'static str],
}

const fn theme(words: &'static [&'static str], names: &'static [&'static str]) -> Theme {
    Theme { words, names }
}

const THEMES: &[Theme] = &[
    theme(
        &["missing", "null", "nulls", "blank", "blanks", "empty", "nan", "na"],
        &[
            "fill",
            "coalesce",
            "is null",
            "present",
            "row_count",
            "nullif",
            "count",
            "missing",
            "bad_cells",
            "bad_rows",
        ],
    ),
    theme(&["mean", "average", "avg"], &["mean", "weighted_mean", "row_mean", "median"]),
    theme(&["deviation", "spread", "scatter"], &["stddev", "variance", "quantile"]),
    theme(
        &["percentile", "quantile", "quartile", "decile"],
        &["quantile", "median", "ntile", "percent_rank"],
    ),
    theme(
        &["distinct", "different", "unique", "duplicate", "duplicates", "repeated"],
        &["distinct", "count_distinct", "require"],
    ),
    theme(&["lookup", "match", "merge", "vlookup", "combine"], &["join", "in", "append", "paste"]),
    theme(&["subquery", "scalar", "member", "membership"], &["in", "table", "join"]),
    theme(&["concatenate", "stack", "union", "concat"], &["append", "listagg"]),
    theme(&["crosstab", "wide", "cross"], &["pivot", "join"]),
    theme(&["long", "lengthen"], &["unpivot"]),
    #[cfg(feature = "charts")]
    theme(&["chart", "plot", "graph", "diagram", "picture", "distribution"], &["draw"]),
    theme(
        &["moving", "rolling", "running", "cumulative", "sliding"],
        &["window", "over", "lag", "lead", "row_number"],
    ),
    theme(&["order", "ascending", "descending"], &["sort", "rank", "dense_rank"]),
    theme(&["top", "head", "limit", "largest", "smallest"], &["first", "sort", "max_by", "min_by", "rank"]),
    theme(&["tail", "bottom", "latest"], &["last", "max_by"]),
    theme(&["random", "sampling"], &["sample"]),
    theme(&["condition", "keep", "where", "subset"], &["filter", "where", "case", "if"]),
    theme(&["add", "compute", "column", "columns", "derive"], &["add", "select", "rename", "drop", "each"]),
    theme(&["share", "percent", "percentage", "proportion"], &["per", "percent_rank", "cume_dist"]),
    theme(&["aggregate", "summarize", "summary"], &["group", "total", "per", "window"]),
    theme(
        &["date", "dates", "day", "month", "year", "time", "calendar"],
        &[
            "start_of",
            "end_of",
            "interval",
            "date_diff",
            "make_date",
            "year",
            "month",
            "day",
            "today",
            "now",
            "dates",
        ],
    ),
    theme(&["delimiter", "tokens", "pieces"], &["split", "parts", "separator", "unnest"]),
    theme(&["substitute", "change"], &["replace", "replace_matches", "case"]),
    theme(
        &["regex", "regexp", "pattern", "regular"],
        &["matches", "capture", "replace_matches", "like", "each"],
    ),
    theme(&["capital", "capitals", "uppercase", "lowercase"], &["upper", "lower", "title"]),
    theme(&["convert", "type", "types", "parse"], &["cast", "try_cast", "types"]),
    theme(
        &["error", "errors", "bad", "wrong", "broken", "dirty"],
        &["bad_cells", "bad_rows", "try_cast", "require"],
    ),
    theme(&["heading", "headings", "names"], &["header", "columns", "rename", "header_join"]),
    theme(&["workbook", "spreadsheet", "xlsx"], &["sheet", "area", "header", "read"]),
    theme(&["round", "decimals", "digits"], &["round", "floor", "ceil", "decimal"]),
    theme(&["list", "array", "explode"], &["unnest", "array_agg", "parts", "element"]),
    theme(&["check", "assert", "verify", "validate"], &["require"]),
    theme(&["save", "export", "output"], &["write", "format", "mode", "split_by"]),
    theme(&["parameter", "variable", "argument"], &["given", "define"]),
    theme(&["nearest", "asof", "as-of"], &["join"]),
    theme(&["bucket", "bin", "band", "range"], &["band", "band_at", "case", "ntile"]),
];

/// The names that a word leads to, the most likely first.
pub(super) fn names_for(word: &str) -> Vec<&'static str> {
    let themes = THEMES.iter().filter(|theme| theme.words.contains(&word) || theme.names.contains(&word));
    let mut names: Vec<&'static str> = Vec::new();
    for name in themes.flat_map(|theme| theme.names.iter().copied()) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_name_is_one_of_the_language() {
        for name in THEMES.iter().flat_map(|theme| theme.names) {
            assert!(!crate::topics_named(name).is_empty(), "{name}");
        }
    }
}
