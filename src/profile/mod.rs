//! What the columns of a table hold: how many values are missing, how many differ, between what they lie, how they
//! are spread.

mod display;
mod histogram;

use churn_core::{Field, Ledger, Result, Scalar, Type};
use churn_exec::profile::{Asked, ColumnPairs, Fact, Found, Summary, measure};
use serde::Serialize;

pub use display::ProfileView;

/// Frequent values that are told.
const FREQUENT: usize = 10;

/// An account of a table's columns.
///
/// `Display` shows a line for each column; [`Profile::view`] does with a width, and with each column in full.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Profile {
    /// The number of rows.
    pub rows: u64,
    /// The columns, in order.
    pub columns: Vec<ColumnProfile>,
    /// The correlations of the number columns, if they were asked for: each pair once.
    pub pairs: Vec<PairProfile>,
    /// What became of every row on the way.
    pub ledger: Ledger,
}

/// An account of one column.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct ColumnProfile {
    /// Its name.
    pub name: String,
    /// Its type.
    #[serde(rename = "type", serialize_with = "as_text")]
    pub kind: Type,
    /// Rows in which it is null.
    pub missing: u64,
    /// Numbers that are 0, texts that are empty or blank, truths that are false; of other types none.
    pub zeros: Option<u64>,
    /// Floats that are no number; they are in no other figure but the number of different values.
    pub nan: u64,
    /// How many values differ; of lists and bytes not known.
    pub distinct: Option<Count>,
    /// The least value: of numbers, dates and times.
    #[serde(serialize_with = "plain")]
    pub min: Scalar,
    /// The greatest value.
    #[serde(serialize_with = "plain")]
    pub max: Scalar,
    /// The values below which a quarter, a half and three quarters lie.
    pub quartiles: Option<Quartiles>,
    /// The mean of numbers.
    pub mean: Option<f64>,
    /// The sample standard deviation of numbers.
    pub stddev: Option<f64>,
    /// The lengths of texts.
    pub lengths: Option<Lengths>,
    /// The most frequent values, the most frequent first.
    pub frequent: Vec<Frequent>,
    /// How the values lie between the least and the greatest; of texts, how their lengths do.
    pub histogram: Vec<Bin>,
}

/// A number of things, exact or about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Count {
    /// The number.
    pub count: u64,
    /// Whether it is exact; an estimate is off by 0.8 % (one standard deviation).
    pub exact: bool,
}

/// Quartiles, exact or about.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Quartiles {
    /// The values below which a quarter, a half and three quarters lie, interpolated.
    #[serde(serialize_with = "plain_all")]
    pub values: [Scalar; 3],
    /// Whether they are exact; an estimate is off by at most 0.4 % of its value, or a day, or a minute.
    pub exact: bool,
}

/// The lengths of texts, in characters.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Lengths {
    /// The shortest text's.
    pub shortest: u64,
    /// The quartiles; above 512 they are off by at most 0.4 %.
    pub quartiles: [f64; 3],
    /// The longest text's.
    pub longest: u64,
    /// The mean.
    pub mean: f64,
}

/// A value and how often it occurs.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Frequent {
    /// The value.
    #[serde(serialize_with = "plain")]
    pub value: Scalar,
    /// The rows that have it, at least.
    pub rows: u64,
    /// How many more there may be.
    pub more: u64,
}

/// The rows whose value lies from a border to before the next.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Bin {
    /// The first border.
    #[serde(serialize_with = "plain")]
    pub from: Scalar,
    /// The border that is out.
    #[serde(serialize_with = "plain")]
    pub to: Scalar,
    /// The rows.
    pub rows: u64,
}

/// Two columns of numbers.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct PairProfile {
    /// One column.
    pub first: String,
    /// The other.
    pub second: String,
    /// Pearson's correlation over the rows where both have a value; none where one of them does not vary.
    pub correlation: Option<f64>,
}

/// What is told of columns.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Detail {
    /// Each column on its own.
    #[default]
    Columns,
    /// The correlation of each two number columns besides.
    Pairs,
}

/// The facts of a column that are aggregates of it.
const FACTS: [&str; 4] = ["min", "max", "mean", "stddev"];

/// The pairs of number columns, by their places.
fn pairs(fields: &[Field], detail: Detail) -> Vec<(usize, usize)> {
    if detail == Detail::Columns {
        return Vec::new();
    }
    let numbers: Vec<usize> =
        (0..fields.len()).filter(|i| fields.get(*i).is_some_and(|f| f.kind.is_number())).collect();
    let after = |(n, first): (usize, &usize)| {
        let first = *first;
        numbers.iter().skip(n + 1).map(move |second| (first, *second)).collect::<Vec<_>>()
    };
    numbers.iter().enumerate().flat_map(after).collect()
}

/// The facts of a column: their names, and what makes them.
fn facts(place: usize, kind: &Type) -> impl Iterator<Item = (&'static str, Fact)> {
    let has_range = kind.is_number() || kind.is_temporal();
    FACTS
        .into_iter()
        .filter(move |_| has_range)
        .filter_map(move |name| Some((name, Fact::of(name, &[(place, kind)])?)))
}

/// What is to be found for a profile of these columns.
///
/// # Errors
/// None that a table could cause.
pub(crate) fn asked(fields: &[Field], detail: Detail) -> Result<Asked> {
    let of_column =
        fields.iter().enumerate().flat_map(|(place, f)| facts(place, &f.kind)).map(|(_, fact)| fact);
    let kinds: Vec<Type> = fields.iter().map(|f| f.kind.clone()).collect();
    let pairs = ColumnPairs::new(&pairs(fields, detail), &kinds)?;
    Ok(Asked { kinds, facts: of_column.collect(), pairs })
}

impl Profile {
    pub(crate) fn new(fields: &[Field], detail: Detail, found: Found, ledger: Ledger) -> Result<Profile> {
        let rows = found.columns.first().map_or(0, |column| column.rows);
        let mut values = found.facts.into_iter();
        let mut columns = Vec::with_capacity(fields.len());
        for ((place, field), summary) in fields.iter().enumerate().zip(&found.columns) {
            let mut column = ColumnProfile::of(field, summary)?;
            for ((name, _), value) in facts(place, &field.kind).zip(values.by_ref()) {
                match (name, value) {
                    ("min", value) => column.min = value,
                    ("max", value) => column.max = value,
                    ("mean", Scalar::Float(mean)) => column.mean = Some(mean),
                    ("stddev", Scalar::Float(stddev)) => column.stddev = Some(stddev),
                    _ => {}
                }
            }
            columns.push(column);
        }
        let name = |place: usize| fields.get(place).map_or(String::new(), |f| f.name.clone());
        let pair = |((first, second), correlation): ((usize, usize), Option<f64>)| PairProfile {
            first: name(first),
            second: name(second),
            correlation,
        };
        let pairs = pairs(fields, detail).into_iter().zip(found.correlations).map(pair).collect();
        Ok(Profile { rows, columns, pairs, ledger })
    }
}

impl ColumnProfile {
    fn of(field: &Field, summary: &Summary) -> Result<ColumnProfile> {
        let kind = &field.kind;
        let mut column = ColumnProfile {
            name: field.name.clone(),
            kind: kind.clone(),
            missing: summary.missing,
            zeros: (kind.is_number() || matches!(kind, Type::Text | Type::Bool)).then_some(summary.zeros),
            nan: summary.nan,
            distinct: None,
            min: Scalar::Null,
            max: Scalar::Null,
            quartiles: None,
            mean: None,
            stddev: None,
            lengths: None,
            frequent: Vec::new(),
            histogram: Vec::new(),
        };
        let present = summary.rows - summary.missing;
        if let Some(lengths) = summary.lengths.as_ref().filter(|_| present > 0) {
            let measured: Vec<(f64, u64)> = lengths.buckets.middles().collect();
            column.lengths = Some(Lengths {
                shortest: lengths.shortest,
                quartiles: quartiles(&measured),
                longest: lengths.longest,
                mean: lengths.characters as f64 / present as f64,
            });
            column.histogram = histogram::of(&measured, &Type::Int);
        }
        let Some(values) = &summary.values else { return Ok(column) };
        let (count, exact) = values.distinct();
        column.distinct = Some(Count { count: count.min(present), exact });
        let measured = values.spread()?;
        if !measured.is_empty() {
            let values = quartiles(&measured).map(|measure| measure::value(measure, kind));
            column.quartiles = Some(Quartiles { values, exact });
            column.histogram = histogram::of(&measured, kind);
        }
        let (array, counts, more) = values.frequent(FREQUENT)?;
        // Of very many values none is worth a word that less than one row in a thousand has.
        let counts = counts.into_iter().filter(|rows| exact || rows * 1000 >= present);
        let frequent = counts.enumerate();
        column.frequent = frequent
            .map(|(place, rows)| Frequent { value: Scalar::from_array(&array, place), rows, more })
            .collect();
        Ok(column)
    }
}

/// The quartiles of measures that rise, each with its rows.
fn quartiles(measured: &[(f64, u64)]) -> [f64; 3] {
    let rows: u64 = measured.iter().map(|(_, rows)| rows).sum();
    let at = |row: u64| {
        let mut before = 0;
        let found = measured.iter().find(|(_, rows)| {
            before += rows;
            row < before
        });
        found.or(measured.last()).map_or(f64::NAN, |(x, _)| *x)
    };
    [0.25, 0.5, 0.75].map(|share| {
        let place = share * rows.saturating_sub(1) as f64;
        let (low, high) = (at(place.floor() as u64), at(place.ceil() as u64));
        if low == high { low } else { low + (high - low) * place.fract() }
    })
}

fn as_text<S: serde::Serializer>(kind: &Type, to: S) -> std::result::Result<S::Ok, S::Error> {
    to.collect_str(kind)
}

/// A value as it is written to a file of JSON.
fn plain<S: serde::Serializer>(value: &Scalar, to: S) -> std::result::Result<S::Ok, S::Error> {
    match value {
        Scalar::Null => to.serialize_none(),
        Scalar::Bool(v) => to.serialize_bool(*v),
        Scalar::Int(v) => to.serialize_i64(*v),
        Scalar::Float(v) => to.serialize_f64(*v),
        other => to.serialize_str(&other.plain()),
    }
}

fn plain_all<S: serde::Serializer>(values: &[Scalar; 3], to: S) -> std::result::Result<S::Ok, S::Error> {
    struct Plain<'a>(&'a Scalar);
    impl Serialize for Plain<'_> {
        fn serialize<S: serde::Serializer>(&self, to: S) -> std::result::Result<S::Ok, S::Error> {
            plain(self.0, to)
        }
    }
    to.collect_seq(values.iter().map(Plain))
}
