//! `sample N` and `sample P percent`: random rows, reproducible, in input order.

use std::fmt;

use super::{Checker, Step, StepKind};
use crate::error::Result;
use crate::expr::Scalar;
use crate::plan::node::SampleSize;
use crate::plan::{Op, Relation};
use crate::text::Cursor;

pub(super) const KIND: StepKind = StepKind {
    keyword: "sample",
    usage: "sample N | sample P percent [seed S]",
    summary: "Keeps N random rows, or each row with a chance of P in a hundred; the same ones for the same seed.",
    example: "sample 5 percent seed 7",
    parse: |text| Ok(Box::new(text.one(read)?)),
};

#[derive(Debug)]
struct Sample {
    size: SampleSize,
    seed: u64,
}

fn read(c: &mut Cursor<'_>) -> Result<Sample> {
    let start = c.span();
    let wanted = c.literal()?;
    let percent = c.take_word("percent");
    let size = match (wanted, percent) {
        (Scalar::Int(n), false) if n >= 0 => SampleSize::Rows(usize::try_from(n).unwrap_or(usize::MAX)),
        (Scalar::Int(p @ 0..=100), true) => SampleSize::Percent(p as f64),
        (Scalar::Float(p), true) if (0.0..=100.0).contains(&p) => SampleSize::Percent(p),
        _ => {
            return Err(c
                .error_at(c.since(start), "A sample is a number of rows, or 0 to 100 percent.")
                .next("Write sample 1000, or sample 5 percent."));
        }
    };
    let seed = if c.take_word("seed") { c.count("a whole number")? as u64 } else { 0 };
    Ok(Sample { size, seed })
}

impl Step for Sample {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let step = checker.step();
        Some(input?.then(Op::Sample { size: self.size, seed: self.seed }, step))
    }
}

impl fmt::Display for Sample {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.size {
            SampleSize::Rows(n) => write!(f, "sample {n}")?,
            SampleSize::Percent(p) => write!(f, "sample {} percent", p)?,
        }
        if self.seed == 0 { Ok(()) } else { write!(f, " seed {}", self.seed) }
    }
}
