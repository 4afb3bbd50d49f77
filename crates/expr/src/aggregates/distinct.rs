//! `count_distinct`: the number of different values.

use std::hash::Hash;
use std::sync::Arc;

use arrow_array::builder::StringViewBuilder;
use arrow_array::cast::AsArray;
use arrow_array::{ArrayRef, Int64Array};
use churn_core::{Result, Scalar, Type};
use hashbrown::{DefaultHashBuilder, HashSet};
use serde::{Deserialize, Serialize};

use super::super::functions::{Arguments, Complaint};
use super::bits::{bits_of, has_bits};
use super::external::{ExternalValues, FromSorted};
use super::{Aggregate, Made, State, at, column, each_valid, made_external};

pub(super) const AGGREGATES: &[Aggregate] = &[Aggregate {
    name: "count_distinct",
    usage: "count_distinct(x)",
    summary: "The number of different values; null is none.",
    bind: count_distinct,
}];

/// The bits of values; made only when the first comes.
#[derive(Clone, Default, Serialize, Deserialize)]
struct DistinctKeys(Option<HashSet<u128, DefaultHashBuilder>>);

impl State for DistinctKeys {
    fn merge(&mut self, later: &mut Self) {
        match (&mut self.0, later.0.take()) {
            (Some(ours), Some(theirs)) => ours.extend(theirs),
            (None, theirs) => self.0 = theirs,
            (Some(_), None) => {}
        }
    }

    fn heap(&self) -> usize {
        // A table that grows holds its old places beside the new ones for a moment.
        self.0.as_ref().map_or(0, |set| set.capacity() * (size_of::<u128>() + 1) / 2 * 3)
    }

    fn part(&mut self, most: usize) -> Option<Self> {
        part_of(&mut self.0, most).map(|part| DistinctKeys(Some(part)))
    }
}

impl DistinctKeys {
    fn len(&self) -> usize {
        self.0.as_ref().map_or(0, HashSet::len)
    }
}

/// So many values of a set, if it has more.
fn part_of<T: Hash + Eq>(
    set: &mut Option<HashSet<T, DefaultHashBuilder>>,
    most: usize,
) -> Option<HashSet<T, DefaultHashBuilder>> {
    let set = set.as_mut().filter(|set| set.len() > most)?;
    let mut left = most;
    let is_taken = |_: &T| {
        let is = left > 0;
        left -= usize::from(is);
        is
    };
    Some(set.extract_if(is_taken).collect())
}

/// Values as text: those that fit into a view as its bits, the others beside.
#[derive(Clone, Default, Serialize, Deserialize)]
struct DistinctTexts {
    short: DistinctKeys,
    long: Option<HashSet<Box<[u8]>, DefaultHashBuilder>>,
}

impl DistinctTexts {
    fn len(&self) -> usize {
        self.short.len() + self.long.as_ref().map_or(0, HashSet::len)
    }

    fn add(&mut self, text: &[u8]) {
        if text.len() <= 12 {
            let mut bits = [0; 16];
            bits.iter_mut().skip(4).zip(text).for_each(|(to, from)| *to = *from);
            let bits = u128::from_le_bytes(bits) | text.len() as u128;
            self.short.0.get_or_insert_default().insert(bits);
            return;
        }
        let long = self.long.get_or_insert_default();
        if !long.contains(text) {
            long.insert(text.into());
        }
    }
}

impl State for DistinctTexts {
    fn merge(&mut self, later: &mut Self) {
        self.short.merge(&mut later.short);
        match (&mut self.long, later.long.take()) {
            (Some(ours), Some(theirs)) => ours.extend(theirs),
            (None, theirs) => self.long = theirs,
            (Some(_), None) => {}
        }
    }

    fn heap(&self) -> usize {
        let long = self.long.as_ref().map_or(0, |set| {
            set.capacity() * (size_of::<Box<[u8]>>() + 1)
                + set.iter().map(|text| text.len() + 16).sum::<usize>()
        });
        self.short.heap() + long
    }

    fn part(&mut self, most: usize) -> Option<Self> {
        if let Some(short) = self.short.part(most) {
            return Some(DistinctTexts { short, long: None });
        }
        part_of(&mut self.long, most)
            .map(|long| DistinctTexts { short: DistinctKeys(None), long: Some(long) })
    }
}

fn count_distinct(args: Arguments) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    Ok(if has_bits(&args.kind(0)) {
        let finish = |states: &mut [DistinctKeys]| counted(states.iter().map(DistinctKeys::len));
        made_external(args, Type::Int, add_bits, finish, Arc::new(ExternalDistinct))
    } else {
        let finish = |states: &mut [DistinctTexts]| counted(states.iter().map(DistinctTexts::len));
        made_external(args, Type::Int, add_texts, finish, Arc::new(ExternalDistinct))
    })
}

fn counted(counts: impl Iterator<Item = usize>) -> Result<ArrayRef> {
    Ok(Arc::new(Int64Array::from_iter_values(counts.map(|count| count as i64))))
}

fn add_bits(states: &mut [DistinctKeys], groups: &[u32], args: &[ArrayRef]) -> Result<()> {
    let array = column(args, 0)?;
    let bits = bits_of(array);
    each_valid(states, groups, &[array], |state, row| {
        state.0.get_or_insert_default().insert(u128::from(at(&bits, row)));
    });
    Ok(())
}

fn add_texts(states: &mut [DistinctTexts], groups: &[u32], args: &[ArrayRef]) -> Result<()> {
    let array = column(args, 0)?;
    let texts = array.as_string_view_opt();
    each_valid(states, groups, &[array], |state, row| match texts {
        Some(texts) => state.add(texts.value(row).as_bytes()),
        None => state.add(Scalar::from_array(array, row).to_string().as_bytes()),
    });
    Ok(())
}

/// Values sorted, so that different ones are counted where they begin.
struct ExternalDistinct;

impl ExternalValues<DistinctKeys> for ExternalDistinct {
    fn kind(&self) -> Type {
        Type::Int
    }

    fn drain(&self, state: &mut DistinctKeys) -> Vec<ArrayRef> {
        let bits = state.0.take().unwrap_or_default().into_iter();
        vec![Arc::new(Int64Array::from_iter_values(bits.map(|bits| (bits as u64).cast_signed())))]
    }

    fn sorted(&self, rows: &[u64]) -> Box<dyn FromSorted> {
        Box::new(Begun(vec![0; rows.len()]))
    }
}

impl ExternalValues<DistinctTexts> for ExternalDistinct {
    fn kind(&self) -> Type {
        Type::Text
    }

    fn drain(&self, state: &mut DistinctTexts) -> Vec<ArrayRef> {
        let mut texts = StringViewBuilder::new();
        for bits in state.short.0.take().unwrap_or_default() {
            let bytes = bits.to_le_bytes();
            let text = bytes.get(4..4 + (bits as u32 as usize).min(12)).unwrap_or_default();
            texts.append_value(String::from_utf8_lossy(text));
        }
        for text in state.long.take().unwrap_or_default() {
            texts.append_value(String::from_utf8_lossy(&text));
        }
        vec![Arc::new(texts.finish())]
    }

    fn sorted(&self, rows: &[u64]) -> Box<dyn FromSorted> {
        Box::new(Begun(vec![0; rows.len()]))
    }
}

/// How many different values each group has so far.
struct Begun(Vec<usize>);

impl FromSorted for Begun {
    fn add(&mut self, groups: &[usize], is_new: &[bool], _: &[ArrayRef]) -> Result<()> {
        for (group, is_new) in groups.iter().zip(is_new) {
            if let Some(count) = self.0.get_mut(*group) {
                *count += usize::from(*is_new);
            }
        }
        Ok(())
    }

    fn finish(self: Box<Self>) -> Result<ArrayRef> {
        counted(self.0.into_iter())
    }
}
