//! What is known of one column: filled batch by batch, put together in the order of rows.

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef};
use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Events, Result, Scalar, Type};
use churn_expr::aggregates::{self, Accumulator, Maker};
use churn_expr::functions::Arguments;
use churn_expr::{Bound, Node};

use super::buckets::{Buckets, Scale};
use super::measure;
use super::values::{Limits, ValueCounts};

/// An aggregate over columns of the batch.
#[derive(Clone)]
pub struct Fact {
    args: Vec<Bound>,
    make: Maker,
}

impl Fact {
    /// The aggregate of a name over the columns at some places; `None` if it is not for their types.
    pub fn of(name: &str, columns: &[(usize, &Type)]) -> Option<Fact> {
        let aggregate = aggregates::find(name)?;
        let column = |(place, kind): &(usize, &Type)| Bound {
            node: Node::Column(*place as u32),
            kind: (*kind).clone(),
        };
        let values = columns.iter().map(column).collect();
        let arguments = Arguments { name: aggregate.name, usage: aggregate.usage, values };
        let made = (aggregate.bind)(arguments).ok()?;
        Some(Fact { args: made.args, make: made.make })
    }
}

/// A fact as it grows.
pub(crate) struct Growing(Box<dyn Accumulator>);

impl Growing {
    pub(crate) fn new(fact: &Fact) -> Growing {
        let mut accumulator = (fact.make)();
        accumulator.grow(1);
        Growing(accumulator)
    }

    /// Adds a batch; `zeros` has a zero for each of its rows.
    pub(crate) fn update(&mut self, fact: &Fact, batch: &Batch, zeros: &[u32]) -> Result<()> {
        let evaluate = |arg: &Bound| arg.evaluate_array(batch, &mut Events::default());
        let args = fact.args.iter().map(evaluate).collect::<Result<Vec<_>>>()?;
        self.0.update(zeros, &args)
    }

    pub(crate) fn merge(&mut self, mut later: Growing) -> Result<()> {
        self.0.merge(&mut *later.0, &[(0, 0)])
    }

    pub(crate) fn finish(mut self) -> Result<Scalar> {
        Ok(Scalar::from_array(&widen(&self.0.finish()?)?, 0))
    }
}

/// The lengths of texts, in characters.
pub struct Lengths {
    pub buckets: Buckets,
    pub shortest: u64,
    pub longest: u64,
    pub characters: u128,
}

impl Lengths {
    fn new() -> Lengths {
        Lengths { buckets: Buckets::new(Scale::Relative), shortest: u64::MAX, longest: 0, characters: 0 }
    }

    fn add(&mut self, length: u64) {
        self.buckets.add(length as f64, 1);
        self.shortest = self.shortest.min(length);
        self.longest = self.longest.max(length);
        self.characters += u128::from(length);
    }

    fn merge(&mut self, later: &Lengths) {
        self.buckets.merge(&later.buckets);
        self.shortest = self.shortest.min(later.shortest);
        self.longest = self.longest.max(later.longest);
        self.characters += later.characters;
    }
}

/// What is known of one column.
pub struct Summary {
    kind: Type,
    /// Rows in all.
    pub rows: u64,
    /// Rows without a value.
    pub missing: u64,
    /// Numbers that are 0, texts that are empty or blank, truths that are false.
    pub zeros: u64,
    /// Floats that are no number.
    pub nan: u64,
    /// How long its texts are.
    pub lengths: Option<Lengths>,
    /// Of types whose values can be compared.
    pub values: Option<ValueCounts>,
}

impl Summary {
    pub(crate) fn new(kind: &Type, limits: Limits) -> Result<Summary> {
        let compares = kind.has_order() && !matches!(kind, Type::Binary | Type::Null | Type::Unknown);
        Ok(Summary {
            kind: kind.clone(),
            rows: 0,
            missing: 0,
            zeros: 0,
            nan: 0,
            lengths: (*kind == Type::Text).then(Lengths::new),
            values: compares.then(|| ValueCounts::new(kind, limits)).transpose()?,
        })
    }

    /// Adds a column of a batch.
    pub(crate) fn update(&mut self, array: &ArrayRef) -> Result<()> {
        self.rows += array.len() as u64;
        let nulls = array.logical_nulls().filter(|nulls| nulls.null_count() > 0);
        let array = match nulls {
            None => array.clone(),
            Some(nulls) => {
                self.missing += nulls.null_count() as u64;
                let present = nulls.into_inner().into();
                arrow_select::filter::filter(array, &present).map_err(churn_core::arrow_error)?
            }
        };
        let wide = widen(&array)?;
        let measures = measure::of(&wide, &self.kind);
        self.zeros += match &self.kind {
            Type::Bool => wide.as_boolean_opt().map_or(0, |truths| truths.len() - truths.true_count()),
            Type::Text => self.texts(&wide),
            kind if kind.is_number() => measures.iter().filter(|x| **x == 0.0).count(),
            _ => 0,
        } as u64;
        self.nan += measures.iter().filter(|x| x.is_nan()).count() as u64;
        match &mut self.values {
            Some(values) if !array.is_empty() => values.update(&array, &measures),
            _ => Ok(()),
        }
    }

    /// Counts the lengths of texts; gives the number of blank ones.
    fn texts(&mut self, array: &ArrayRef) -> usize {
        let (Some(texts), Some(lengths)) = (array.as_string_view_opt(), &mut self.lengths) else { return 0 };
        let mut blank = 0;
        for text in texts.iter().flatten() {
            lengths.add(if text.is_ascii() { text.len() } else { text.chars().count() } as u64);
            blank += usize::from(text.trim().is_empty());
        }
        blank
    }

    /// Adds the same column of later rows.
    pub(crate) fn merge(&mut self, later: Summary) -> Result<()> {
        self.rows += later.rows;
        self.missing += later.missing;
        self.zeros += later.zeros;
        self.nan += later.nan;
        if let (Some(ours), Some(theirs)) = (&mut self.lengths, &later.lengths) {
            ours.merge(theirs);
        }
        match (&mut self.values, later.values) {
            (Some(ours), Some(theirs)) => ours.merge(theirs),
            (None, None) => Ok(()),
            _ => Err(Error::new(ErrorKind::Internal, "Two columns of different types were put together.")),
        }
    }
}
