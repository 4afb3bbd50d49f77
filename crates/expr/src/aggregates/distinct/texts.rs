//! Different texts, and values that are told apart by what they are written as.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef};
use churn_core::{Result, Scalar};
use churn_kernels::byte_numbering::{ByteKeys, ByteNumbering};
use churn_kernels::hash::Seed;
use churn_kernels::known::{known, known_part};
use churn_kernels::numbering::Numbering;
use churn_kernels::word_set::WordSet;
use serde::{Deserialize, Serialize};

use super::super::{AggregateState, States, column, each_valid};
use super::counted;
use super::external::ExternalDistinct;
use super::pairs::{PairSet, Sets};
use super::sets::DistinctSet;

/// Values as text: those that fit into a view as its bits, the others as bytes.
#[derive(Clone, Default, Serialize, Deserialize)]
pub(super) struct DistinctTexts {
    pub(super) short: DistinctSet<Numbering>,
    pub(super) long: LongTexts,
}

/// Texts that do not fit into a view; made only when the first comes.
#[derive(Clone, Default, Serialize, Deserialize)]
#[serde(into = "Vec<Box<[u8]>>", from = "Vec<Box<[u8]>>")]
pub(super) struct LongTexts(pub(super) Option<Box<ByteNumbering>>);

impl From<LongTexts> for Vec<Box<[u8]>> {
    fn from(texts: LongTexts) -> Self {
        texts.0.iter().flat_map(|texts| texts.keys().iter()).map(Box::from).collect()
    }
}

impl From<Vec<Box<[u8]>>> for LongTexts {
    fn from(values: Vec<Box<[u8]>>) -> Self {
        let mut texts = LongTexts::default();
        values.iter().for_each(|text| texts.insert(text));
        texts
    }
}

impl LongTexts {
    fn insert(&mut self, text: &[u8]) {
        self.0.get_or_insert_default().insert(text, Seed::of_process().of_bytes(text));
    }

    fn len(&self) -> usize {
        self.0.as_ref().map_or(0, |texts| texts.keys().len())
    }
}

impl DistinctTexts {
    pub(super) fn count(&mut self) -> usize {
        self.short.count() + self.long.len()
    }

    pub(super) fn add(&mut self, text: &[u8]) {
        match short_text(text) {
            Some(bits) => self.short.insert(bits),
            None => self.long.insert(text),
        }
    }

    /// Calls `f` with each text.
    pub(super) fn each(mut self, mut f: impl FnMut(&[u8])) {
        self.short.take().into_iter().for_each(|bits| with_short(bits, &mut f));
        self.long.0.iter().flat_map(|texts| texts.keys().iter()).for_each(f);
    }

    /// Adds many texts.
    pub(super) fn extend<'a>(&mut self, texts: impl Iterator<Item = &'a [u8]>) {
        let mut short = Vec::new();
        for text in texts {
            match short_text(text) {
                Some(bits) => short.push(bits),
                None => self.long.insert(text),
            }
        }
        self.short.extend(&short);
    }
}

/// The text that the bits of a view are; `f` is called with its bytes.
fn with_short<T>(bits: u128, f: impl FnOnce(&[u8]) -> T) -> T {
    let bytes = bits.to_le_bytes();
    f(known_part(&bytes, 4..4 + usize::from(bytes[0]).min(12)))
}

/// A text of at most twelve bytes as the bits of its view.
fn short_text(text: &[u8]) -> Option<u128> {
    let mut bits = [0; 16];
    bits.get_mut(4..4 + text.len())?.copy_from_slice(text);
    Some(u128::from_le_bytes(bits) | text.len() as u128)
}

impl AggregateState for DistinctTexts {
    fn merge(&mut self, later: &mut Self) {
        self.short.merge(&mut later.short);
        match (&mut self.long.0, later.long.0.take()) {
            (Some(_), Some(theirs)) => theirs.keys().iter().for_each(|text| self.long.insert(text)),
            (None, theirs) => self.long.0 = theirs,
            (Some(_), None) => {}
        }
    }

    fn heap(&self) -> usize {
        self.short.heap() + self.long.0.as_ref().map_or(0, |texts| texts.memory())
    }

    fn part(&mut self, most: usize) -> Option<Self> {
        if let Some(short) = self.short.part(most) {
            return Some(DistinctTexts { short, long: LongTexts::default() });
        }
        let mut keys = self.long.0.take_if(|texts| texts.keys().len() > most)?.into_keys();
        let part = keys.split_off(keys.len() - most);
        let of = |keys: ByteKeys| LongTexts::from(keys.iter().map(Box::from).collect::<Vec<_>>());
        self.long = of(keys);
        Some(DistinctTexts { short: DistinctSet::default(), long: of(part) })
    }
}

/// The texts of many groups: each different text has a number, and a word is a group above and a number below.
#[derive(Default)]
pub(super) struct TextPairs {
    texts: TextNumbers,
    words: WordSet,
}

/// Numbers of texts: even ones of short texts, odd ones of long texts.
#[derive(Default)]
struct TextNumbers {
    short: Numbering,
    long: ByteNumbering,
}

impl TextNumbers {
    fn number(&mut self, text: &[u8]) -> u32 {
        match short_text(text) {
            Some(bits) => self.short.insert(bits) * 2,
            None => self.long.insert(text, Seed::of_process().of_bytes(text)) * 2 + 1,
        }
    }

    /// The text with a number; `f` is called with its bytes.
    fn with<T>(&self, number: u32, f: impl FnOnce(&[u8]) -> T) -> T {
        let at = number as usize / 2;
        if number % 2 == 1 {
            return f(self.long.keys().get(at));
        }
        with_short(known(self.short.keys(), at), f)
    }

    /// One more than the greatest number.
    fn end(&self) -> usize {
        2 * self.short.keys().len().max(self.long.keys().len())
    }
}

fn word(group: u32, number: u32) -> u64 {
    u64::from(group) << 32 | u64::from(number)
}

fn parts_of(word: u64) -> (usize, u32) {
    ((word >> 32) as usize, word as u32)
}

/// Numbers of another table that have no number here yet.
const UNKNOWN: u32 = u32::MAX;

impl PairSet for TextPairs {
    type Set = DistinctTexts;

    fn sets(states: Vec<DistinctTexts>) -> Sets<Self> {
        let finish = |states: &mut [DistinctTexts]| counted(states.iter_mut().map(DistinctTexts::count));
        States { states, update: add, finish, external: Some(Arc::new(ExternalDistinct)) }
    }

    fn add(&mut self, groups: &[u32], column: &ArrayRef) {
        let mut words = Vec::with_capacity(groups.len());
        match column.as_string_view_opt() {
            Some(texts) => {
                for (group, text) in groups.iter().zip(texts) {
                    words.extend(text.map(|text| word(*group, self.texts.number(text.as_bytes()))));
                }
            }
            None => {
                for (row, group) in groups.iter().enumerate().filter(|(row, _)| column.is_valid(*row)) {
                    let text = Scalar::from_array(column, row).to_string();
                    words.push(word(*group, self.texts.number(text.as_bytes())));
                }
            }
        }
        self.words.extend(&words);
    }

    fn add_set(&mut self, group: u32, set: DistinctTexts) {
        let mut words = Vec::new();
        set.each(|text| words.push(word(group, self.texts.number(text))));
        self.words.extend(&words);
    }

    fn merge(&mut self, other: Self, ours: &[u32]) {
        let mut numbers = vec![UNKNOWN; other.texts.end()];
        let mut words = Vec::with_capacity(other.words.len());
        other.words.each(|theirs| {
            let (group, number) = parts_of(theirs);
            let here = numbers.get_mut(number as usize).filter(|here| **here != UNKNOWN).map(|here| *here);
            let here = here.unwrap_or_else(|| {
                let here = other.texts.with(number, |text| self.texts.number(text));
                numbers.iter_mut().skip(number as usize).take(1).for_each(|slot| *slot = here);
                here
            });
            words.push(word(known(ours, group), here));
        });
        self.words.extend(&words);
    }

    fn into_sets(self, groups: usize) -> Vec<DistinctTexts> {
        let mut sets = vec![DistinctTexts::default(); groups];
        self.words.each(|word| {
            let (group, number) = parts_of(word);
            if let Some(set) = sets.get_mut(group) {
                self.texts.with(number, |text| set.add(text));
            }
        });
        sets
    }

    fn partition(self, parts: usize, places: &[(usize, u32)]) -> Vec<Self> {
        let mut partitions: Vec<TextPairs> = (0..parts).map(|_| TextPairs::default()).collect();
        self.words.each(|of| {
            let (group, number) = parts_of(of);
            let (part, group) = known(places, group);
            if let Some(part) = partitions.get_mut(part) {
                let here = self.texts.with(number, |text| part.texts.number(text));
                part.words.insert(word(group, here));
            }
        });
        partitions
    }

    fn counts(self, groups: usize) -> Vec<usize> {
        let mut counts = vec![0; groups];
        self.words.each(|word| {
            if let Some(count) = counts.get_mut(parts_of(word).0) {
                *count += 1;
            }
        });
        counts
    }

    fn memory(&self) -> usize {
        self.texts.short.memory() + self.texts.long.memory() + self.words.memory() / 2 * 3
    }
}

fn add(states: &mut [DistinctTexts], groups: &[u32], args: &[ArrayRef]) -> Result<()> {
    let array = column(args, 0)?;
    match (states, array.as_string_view_opt()) {
        ([state], Some(texts)) => state.extend(texts.iter().flatten().map(str::as_bytes)),
        (states, texts) => each_valid(states, groups, &[array], |state, row| match texts {
            Some(texts) => state.add(texts.value(row).as_bytes()),
            None => state.add(Scalar::from_array(array, row).to_string().as_bytes()),
        }),
    }
    Ok(())
}
