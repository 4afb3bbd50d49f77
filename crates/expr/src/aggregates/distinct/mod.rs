//! `count_distinct`: the number of different values.
//!
//! Each group has a set of its values. Where groups are many, the values of all of them are in one set instead, each with
//! the number of its group: see [`pairs`].

mod external;
mod pairs;
mod sets;
mod texts;
mod words;

use std::sync::Arc;

use arrow_array::{ArrayRef, Int64Array};
use churn_core::{Result, Type};

use super::super::functions::{Arguments, Complaint};
use super::bits::has_bits;
use super::{Accumulator, Aggregate, Made, Maker};
use pairs::{DistinctValues, PairSet};
use texts::TextPairs;
use words::WordPairs;

pub(super) const AGGREGATES: &[Aggregate] = &[Aggregate {
    name: "count_distinct",
    usage: "count_distinct(x)",
    summary: "The number of different values; null is none.",
    example: "total: farms = count_distinct(farm)",
    bind: count_distinct,
}];

fn count_distinct(args: Arguments) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    let make = if has_bits(&args.kind(0)) { maker::<WordPairs>() } else { maker::<TextPairs>() };
    Ok(Made { args: args.values, kind: Type::Int, make, quantile: None, float_frames: None })
}

fn maker<P: PairSet>() -> Maker {
    Arc::new(|| Box::new(DistinctValues::<P>::of_few(Vec::new())) as Box<dyn Accumulator>)
}

fn counted(counts: impl Iterator<Item = usize>) -> Result<ArrayRef> {
    Ok(Arc::new(Int64Array::from_iter_values(counts.map(|count| count as i64))))
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::StringViewArray;
    use arrow_array::cast::AsArray;
    use arrow_array::types::Int64Type;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    /// A row of one of many groups, and a value or null.
    type Row = (u32, Option<i64>);

    fn accumulator(of_text: bool, groups: usize) -> Box<dyn Accumulator> {
        let mut made = if of_text { maker::<TextPairs>()() } else { maker::<WordPairs>()() };
        made.grow(groups);
        made
    }

    fn column(of_text: bool, rows: &[Row]) -> ArrayRef {
        let values = rows.iter().map(|row| row.1);
        if !of_text {
            return Arc::new(values.collect::<Int64Array>());
        }
        let text = |value: i64| "x".repeat(value.rem_euclid(3) as usize * 10) + &value.to_string();
        Arc::new(values.map(|value| value.map(text)).collect::<StringViewArray>())
    }

    fn added(of_text: bool, groups: usize, rows: &[Row]) -> Result<Box<dyn Accumulator>> {
        let mut made = accumulator(of_text, groups);
        let (numbers, column) = (rows.iter().map(|row| row.0).collect::<Vec<_>>(), column(of_text, rows));
        made.update(&numbers, &[column])?;
        Ok(made)
    }

    fn counts(mut states: Box<dyn Accumulator>) -> Result<Vec<i64>> {
        Ok(states.finish()?.as_primitive::<Int64Type>().values().to_vec())
    }

    proptest! {
        /// Few groups and many, cut, merged in another numbering, partitioned and kept on disk.
        #[test]
        fn counts_are_those_of_sets(
            groups in prop::sample::select(vec![1usize, 16, 17, 64, 65, 300]),
            rows in prop::collection::vec((any::<u32>(), prop::option::of(-40i64..40)), 0..600),
            of_text in any::<bool>(),
            cut in 0usize..600,
        ) {
            let rows: Vec<Row> = rows.into_iter().map(|(group, value)| (group % groups as u32, value)).collect();
            let mut sets = vec![BTreeSet::new(); groups];
            rows.iter().for_each(|(group, value)| sets[*group as usize].extend(*value));
            let expected: Vec<i64> = sets.iter().map(|set| set.len() as i64).collect();
            let (first, second) = rows.split_at(cut.min(rows.len()));

            let mut merged = added(of_text, groups, first)?;
            // The groups of later rows have other numbers.
            let turned: Vec<Row> = second.iter().map(|(group, v)| (groups as u32 - 1 - group, *v)).collect();
            let pairs: Vec<(u32, u32)> = (0..groups as u32).map(|group| (groups as u32 - 1 - group, group)).collect();
            merged.merge(added(of_text, groups, &turned)?.as_mut(), &pairs)?;

            let mut parts = vec![Vec::new(); 5];
            (0..groups as u32).for_each(|group| parts[group as usize % 5].push(group));
            let mut whole = accumulator(of_text, groups);
            for (mut part, numbers) in merged.partition(&parts).into_iter().zip(&parts) {
                let mut loaded = accumulator(of_text, 0);
                while let (some, mut large) = part.part(7) && !some.is_empty() {
                    let saved = large.save()?;
                    let mut again = accumulator(of_text, 0);
                    again.load(&saved)?;
                    let pairs: Vec<(u32, u32)> =
                        (0u32..).zip(&some).map(|(here, group)| (here, numbers[*group as usize])).collect();
                    whole.merge(again.as_mut(), &pairs)?;
                }
                loaded.load(&part.save()?)?;
                let pairs: Vec<(u32, u32)> = (0u32..).zip(numbers.iter().copied()).collect();
                whole.merge(loaded.as_mut(), &pairs)?;
            }
            prop_assert_eq!(counts(whole)?, expected.clone());
            let second = added(of_text, groups, &rows)?;
            prop_assert_eq!(counts(second)?, expected);
        }
    }
}
