//! `sample N [per COLS]` and `sample P percent`: random rows, reproducible, in input order.

use std::fmt;

use churn_core::names::comma;
use churn_core::{Result, Scalar};
use churn_expr::ast::ColumnRef;
use churn_expr::expand::columns_of_list;
use churn_expr::text::Cursor;
use churn_plan::Relation;
use churn_plan::operators::{self, SampleSize};

use super::checker::Count;
use super::columns;
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "sample",
    usage: "sample N [per COLS] [seed S] | sample P percent [seed S]",
    summary: "Keeps N random rows, of the table or of each group, or each row with a chance of P in a hundred; the same ones for the same seed.",
    example: "sample 5 percent seed 7",
    parse: |text| Ok(Step::from(text.one(read)?)),
};

/// `sample`: random rows in input order, the same ones for the same seed.
#[derive(Clone, Debug, PartialEq)]
pub struct Sample {
    size: Size,
    per: Vec<ColumnRef>,
    seed: u64,
}

#[derive(Clone, Debug, PartialEq)]
enum Size {
    Rows(Count),
    Percent(f64),
}

impl Sample {
    /// So many rows, or all where there are not so many.
    pub fn rows(count: usize) -> Sample {
        Sample { size: Size::Rows(Count::Number(count)), per: Vec::new(), seed: 0 }
    }

    /// Each row with a chance of so many in a hundred, 0 to 100.
    pub fn percent(share: f64) -> Sample {
        Sample { size: Size::Percent(share), per: Vec::new(), seed: 0 }
    }

    /// So many rows of each group that these columns make; not for a percentage.
    #[must_use]
    pub fn per<T: Into<ColumnRef>>(self, columns: impl IntoIterator<Item = T>) -> Sample {
        Sample { per: columns::all(columns), ..self }
    }

    /// Other rows for another seed.
    #[must_use]
    pub fn seed(self, seed: u64) -> Sample {
        Sample { seed, ..self }
    }
}

fn read(c: &mut Cursor<'_>) -> Result<Sample> {
    let start = c.span();
    let is_percent = c.is_word_at(1, "percent");
    let size = if is_percent {
        let wanted = c.literal()?;
        c.advance();
        let share = match wanted {
            Scalar::Int(p) => p as f64,
            Scalar::Float(p) => p,
            _ => f64::NAN,
        };
        if !(0.0..=100.0).contains(&share) {
            return Err(c
                .error_at(c.since(start), "A sample is a number of rows, or 0 to 100 percent.")
                .next("Write sample 1000, or sample 5 percent."));
        }
        Size::Percent(share)
    } else {
        Size::Rows(Count::read(c)?)
    };
    let per = if is_percent || !c.take_word("per") { Vec::new() } else { c.list(Cursor::column_ref)? };
    let seed = if c.take_word("seed") { c.count("a whole number")? as u64 } else { 0 };
    Ok(Sample { size, per, seed })
}

impl Check for Sample {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let size = match &self.size {
            Size::Percent(share) => SampleSize::Percent(*share),
            Size::Rows(count) => match count.resolved(checker) {
                Some(rows) => SampleSize::Rows(rows),
                None => return Some(input),
            },
        };
        let step = checker.step();
        let source = checker.source.clone();
        let per = checker.kept(columns_of_list(&self.per, &input.fields, &source))?;
        let per = per.iter().map(|field| field.id).collect();
        Some(input.then(operators::Sample { size, seed: self.seed, per }, step))
    }
}

impl fmt::Display for Sample {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.size {
            Size::Rows(count) => write!(f, "sample {count}")?,
            Size::Percent(share) => write!(f, "sample {share} percent")?,
        }
        if !self.per.is_empty() {
            write!(f, " per {}", comma(&self.per))?;
        }
        if self.seed == 0 { Ok(()) } else { write!(f, " seed {}", self.seed) }
    }
}
