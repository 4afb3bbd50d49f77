//! What other languages call what this one has: for messages about functions that it does not have.

/// The name in another language, in lower case, and what is written here in its place.
const SYNONYMS: &[(&str, &str)] = &[
    ("approx_count_distinct", "count_distinct(x)"),
    ("array_length", "unnest, or parts(…) and element(x, n)"),
    ("average", "mean(x)"),
    ("avg", "mean(x)"),
    ("ceiling", "ceil(x)"),
    ("char_length", "length(x)"),
    ("concat", "a || b"),
    ("concat_ws", "a || ' ' || b"),
    ("count_if", "count() where (condition)"),
    ("countif", "count() where (condition)"),
    ("cumsum", "sum(x) over rows between unbounded preceding and current row, in window"),
    ("current_date", "today()"),
    ("current_timestamp", "now()"),
    ("date_add", "x + interval '1' day"),
    ("date_format", "cast(x as text format '%Y-%m')"),
    ("date_part", "year(x), month(x), day(x), hour(x), …"),
    ("date_sub", "x - interval '1' day"),
    ("date_trunc", "start_of(month, x)"),
    ("dateadd", "x + interval '1' day"),
    ("datediff", "date_diff(day, a, b)"),
    ("datepart", "year(x), month(x), day(x), hour(x), …"),
    ("datetrunc", "start_of(month, x)"),
    ("dayofweek", "weekday(x)"),
    ("dayofyear", "day_of_year(x)"),
    ("endswith", "ends_with(x, part)"),
    ("eomonth", "end_of(month, x)"),
    ("explode", "unnest, a step"),
    ("extract", "year(x), month(x), day(x), hour(x), …"),
    ("find", "position(x, part)"),
    ("group_concat", "listagg(x, ', ')"),
    ("ifelse", "if(condition, a, b)"),
    ("iff", "if(condition, a, b)"),
    ("ifnull", "coalesce(x, 0)"),
    ("iif", "if(condition, a, b)"),
    ("initcap", "title(x)"),
    ("instr", "position(x, part)"),
    ("int", "cast(x as int)"),
    ("is_null", "x is null"),
    ("isblank", "x is null"),
    ("isnull", "x is null; for another value in its place coalesce(x, 0)"),
    ("last_day", "end_of(month, x)"),
    ("lcase", "lower(x)"),
    ("left", "substring(x, 1, n)"),
    ("len", "length(x)"),
    ("list_agg", "array_agg(x)"),
    ("log", "ln(x), or log10(x)"),
    ("lpad", "pad_left(x, n)"),
    ("ltrim", "trim_left(x)"),
    ("mid", "substring(x, start, n)"),
    ("nvl", "coalesce(x, 0)"),
    ("percentile", "quantile(x, 0.9)"),
    ("percentile_cont", "quantile(x, 0.9)"),
    ("pow", "power(x, y)"),
    ("proper", "title(x)"),
    ("regexp_count", "matches(x, 'pattern')"),
    ("regexp_extract", "capture(x, 'pattern')"),
    ("regexp_like", "matches(x, 'pattern')"),
    ("regexp_matches", "matches(x, 'pattern')"),
    ("regexp_replace", "replace_matches(x, 'pattern', to)"),
    ("regexp_substr", "capture(x, 'pattern')"),
    ("repeat", "repeat_text(x, n)"),
    ("replicate", "repeat_text(x, n)"),
    ("right", "substring(x, length(x) - n + 1)"),
    ("rownum", "row_number(), in window"),
    ("rpad", "pad_right(x, n)"),
    ("rtrim", "trim_right(x)"),
    ("safe_cast", "try_cast(x as int)"),
    ("sd", "stddev(x)"),
    ("split_part", "element(parts(x, ','), n)"),
    ("square", "x * x"),
    ("startswith", "starts_with(x, part)"),
    ("std", "stddev(x)"),
    ("stdev", "stddev(x)"),
    ("str", "cast(x as text)"),
    ("str_to_date", "cast(x as date format '%d/%m/%Y')"),
    ("strftime", "cast(x as text format '%Y-%m')"),
    ("string_agg", "listagg(x, ', ')"),
    ("strip", "trim(x)"),
    ("strpos", "position(x, part)"),
    ("strptime", "cast(x as date format '%d/%m/%Y')"),
    ("substr", "substring(x, start, n)"),
    ("sumif", "sum(x) where (condition)"),
    ("to_char", "cast(x as text format '%Y-%m')"),
    ("to_date", "cast(x as date format '%d/%m/%Y')"),
    ("to_number", "cast(x as float)"),
    ("to_timestamp", "cast(x as timestamp)"),
    ("tolower", "lower(x)"),
    ("toupper", "upper(x)"),
    ("trunc", "start_of(month, x) for dates, floor(x) for numbers"),
    ("ucase", "upper(x)"),
    ("unix_timestamp", "epoch(x)"),
    ("var", "variance(x)"),
];

/// What is written here in place of another language's function.
pub(crate) fn synonym(function: &str) -> Option<&'static str> {
    let place = SYNONYMS.binary_search_by(|(name, _)| (*name).cmp(function)).ok()?;
    SYNONYMS.get(place).map(|(_, here)| *here)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_in_order_and_none_is_one_of_ours() {
        assert!(SYNONYMS.windows(2).all(|pair| pair[0].0 < pair[1].0));
        for (name, here) in SYNONYMS {
            let is_ours = crate::functions::find(name).is_some() || crate::aggregates::find(name).is_some();
            assert!(!is_ours, "{name}");
            assert_eq!(synonym(name), Some(*here));
        }
        assert_eq!(synonym("sourness"), None);
    }
}
