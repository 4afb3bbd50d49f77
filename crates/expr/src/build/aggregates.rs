//! Aggregates and window functions.

use super::call;
use crate::ast::Expr;

macro_rules! calls {
    ($($(#[$doc:meta])* $name:ident($($arg:ident),*)),* $(,)?) => {$(
        $(#[$doc])*
        pub fn $name($($arg: impl Into<Expr>),*) -> Expr {
            call(stringify!($name), [$($arg.into()),*])
        }
    )*};
}

calls! {
    /// The number of rows.
    count(),
    /// The number of different values; nulls are none.
    count_distinct(x),
    /// The sum of the values; of whole numbers whole.
    sum(x),
    /// The arithmetic mean.
    mean(x),
    /// The mean of x, each value taken as often as w says.
    weighted_mean(x, w),
    /// The middle value.
    median(x),
    /// The value below which this share of the values lies, between two of them by their distance.
    quantile(x, share),
    /// The smallest value.
    min(x),
    /// The largest value.
    max(x),
    /// The value of x in the row where the key is smallest, the first of several.
    min_by(x, key),
    /// The value of x in the row where the key is largest, the first of several.
    max_by(x, key),
    /// The sample standard deviation.
    stddev(x),
    /// The sample variance.
    variance(x),
    /// The sample covariance.
    covar(x, y),
    /// The correlation.
    corr(x, y),
    /// The slope of the line through y over x.
    regr_slope(y, x),
    /// Where that line meets x = 0.
    regr_intercept(y, x),
    /// The share of y's variance that that line explains.
    regr_r2(y, x),
    /// The first value that is not null.
    first(x),
    /// The last value that is not null.
    last(x),
    /// The most frequent value, the first of several.
    mode(x),
    /// A list of the values, nulls among them.
    array_agg(x),
    /// The texts, one behind the other, with a separator between them.
    listagg(x, separator),
    /// Whether a condition holds in some row.
    any(condition),
    /// Whether a condition holds in every row.
    every(condition),
    /// The row's number in its partition.
    row_number(),
    /// The row's rank; equal rows have one, and leave a gap.
    rank(),
    /// The row's rank without gaps.
    dense_rank(),
    /// The rank as a share, from 0 to 1.
    percent_rank(),
    /// The share of rows that are not after this one.
    cume_dist(),
    /// The number of the row's part, of so many parts of about equal size.
    ntile(parts),
    /// The value of the row before.
    lag(x),
    /// The value of the row behind.
    lead(x),
    /// The first value of the frame.
    first_value(x),
    /// The last value of the frame.
    last_value(x),
    /// The value of the n-th row of the frame.
    nth_value(x, n),
}

/// The number of rows where x is not null.
pub fn count_of(x: impl Into<Expr>) -> Expr {
    call("count", [x.into()])
}

/// The value of the row so many rows before, or a default where there is none.
pub fn lag_by(x: impl Into<Expr>, rows: impl Into<Expr>, default: impl Into<Expr>) -> Expr {
    call("lag", [x.into(), rows.into(), default.into()])
}

/// The value of the row so many rows behind, or a default where there is none.
pub fn lead_by(x: impl Into<Expr>, rows: impl Into<Expr>, default: impl Into<Expr>) -> Expr {
    call("lead", [x.into(), rows.into(), default.into()])
}
