//! Functions of the language as methods, by the type of what they are called on, and those of several values.

use super::{call, made};
use crate::ast::{Expr, Kind, Unit};

macro_rules! methods {
    ($($(#[$doc:meta])* $name:ident($($arg:ident),*)),* $(,)?) => {$(
        $(#[$doc])*
        #[must_use]
        pub fn $name(self $(, $arg: impl Into<Expr>)*) -> Expr {
            call(stringify!($name), [self $(, $arg.into())*])
        }
    )*};
}

/// Of text; lengths and positions count characters, from 1.
impl Expr {
    methods! {
        /// In lower case.
        lower(),
        /// In upper case.
        upper(),
        /// With the first letter of each word in upper case and the others in lower case.
        title(),
        /// From the last character to the first.
        reverse(),
        /// The number of characters, or of a list's values.
        length(),
        /// `n` characters from position `from`.
        substring(from, n),
        /// With each `a` replaced by `b`.
        replace(a, b),
        /// Whether it starts with a text.
        starts_with(a),
        /// Whether it ends with a text.
        ends_with(a),
        /// Whether the text, or the list, has this in it.
        contains(a),
        /// Where a text first stands in it; 0 if it does not.
        position(a),
        /// So many times in a row.
        repeat_text(n),
        /// Without blanks at its ends.
        trim(),
        /// Without blanks at its start.
        trim_left(),
        /// Without blanks at its end.
        trim_right(),
        /// At least `n` characters, filled with a character at its start.
        pad_left(n, with),
        /// At least `n` characters, filled with a character at its end.
        pad_right(n, with),
        /// Its digits alone.
        digits(),
        /// The list of its parts between separators.
        parts(separator),
        /// Value `n` of a list, from 1, or from -1 back from its end.
        element(n),
        /// Whether a regular expression is found in it.
        matches(regex),
        /// What a group of the first match of a regular expression holds; 0 is the whole match.
        capture(regex, group),
        /// With each match of a regular expression replaced.
        replace_matches(regex, to),
    }

    /// Without these characters at its ends.
    #[must_use]
    pub fn trim_of(self, characters: impl Into<Expr>) -> Expr {
        call("trim", [self, characters.into()])
    }
}

/// Of numbers.
impl Expr {
    methods! {
        /// Without its sign.
        abs(),
        /// The square root; null for negative numbers.
        sqrt(),
        /// e to its power.
        exp(),
        /// The natural logarithm; null unless it is above 0.
        ln(),
        /// The decimal logarithm; null unless it is above 0.
        log10(),
        /// To the power of `y`.
        power(y),
        /// -1, 0 or 1.
        sign(),
        /// Rounded to so many decimals, half away from zero as the number is written.
        round(decimals),
        /// The greatest whole number that is not above it.
        floor(),
        /// The least whole number that is not below it.
        ceil(),
        /// The lower edge of its band, where bands are so wide and start at 0.
        band(width),
    }

    /// The greatest of the bounds that is not above it.
    #[must_use]
    pub fn band_at<T: Into<Expr>>(self, bounds: impl IntoIterator<Item = T>) -> Expr {
        call("band_at", std::iter::once(self).chain(bounds.into_iter().map(Into::into)))
    }
}

/// Of dates, times and timestamps.
impl Expr {
    methods! {
        /// The year.
        year(),
        /// The quarter, 1 to 4.
        quarter(),
        /// The month, 1 to 12.
        month(),
        /// The ISO 8601 week, 1 to 53.
        week(),
        /// The day of the month.
        day(),
        /// The day of the week, Monday = 1.
        weekday(),
        /// The day of the year, from 1.
        day_of_year(),
        /// The hour.
        hour(),
        /// The minute.
        minute(),
        /// The second.
        second(),
        /// The whole seconds from 1970-01-01 00:00:00.
        epoch(),
        /// The timestamp so many seconds after 1970-01-01 00:00:00.
        from_epoch(),
    }

    /// The first moment of the unit that it lies in.
    #[must_use]
    pub fn start_of(self, unit: Unit) -> Expr {
        call("start_of", [word(unit), self])
    }

    /// The last day of the unit that it lies in, of a timestamp the last moment.
    #[must_use]
    pub fn end_of(self, unit: Unit) -> Expr {
        call("end_of", [word(unit), self])
    }

    /// How many whole units lie between it and a later moment.
    #[must_use]
    pub fn date_diff(self, unit: Unit, to: impl Into<Expr>) -> Expr {
        call("date_diff", [word(unit), self, to.into()])
    }

    methods! {
        /// Itself, or null where it equals `b`.
        nullif(b),
    }
}

/// A unit as an argument, where it stands as a bare word.
fn word(unit: Unit) -> Expr {
    made(Kind::Name(unit.word().to_owned()))
}

macro_rules! of_several {
    ($($(#[$doc:meta])* $name:ident),* $(,)?) => {$(
        $(#[$doc])*
        pub fn $name<T: Into<Expr>>(values: impl IntoIterator<Item = T>) -> Expr {
            call(stringify!($name), values.into_iter().map(Into::into))
        }
    )*};
}

of_several! {
    /// The first of the values that is not null.
    coalesce,
    /// The smallest of the values; null if any is null.
    least,
    /// The largest of the values; null if any is null.
    greatest,
    /// Whether none of the values is null.
    present,
    /// The sum of the values that are there.
    row_sum,
    /// The mean of the values that are there.
    row_mean,
    /// How many of the values are there.
    row_count,
}

/// `a` where the condition is true, else `b`; an unknown condition takes `b`.
pub fn if_else(condition: impl Into<Expr>, a: impl Into<Expr>, b: impl Into<Expr>) -> Expr {
    call("if", [condition.into(), a.into(), b.into()])
}

/// The day of a year, a month and a day; null if the calendar has none such.
pub fn make_date(year: impl Into<Expr>, month: impl Into<Expr>, day: impl Into<Expr>) -> Expr {
    call("make_date", [year.into(), month.into(), day.into()])
}

/// The day on which the run began, in the time zone of this machine.
pub fn today() -> Expr {
    call("today", [])
}

/// The moment at which the run began, in whole seconds.
pub fn now() -> Expr {
    call("now", [])
}
