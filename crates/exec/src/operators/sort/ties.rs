//! Rows whose numbers have the same bits of their keys, put in order by what these bits do not hold.
//!
//! A number has room for some keys. The keys behind them make numbers of their own, round by round, for rows alone that are alike so
//! far. So rows are compared by numbers in every round; only texts that are longer than their words are compared as texts.

use std::cmp::Ordering;
use std::ops::Range;

use churn_kernels::sorting;

use super::sort_keys::SortKeys;
use super::table::{Field, SortTable};

/// Keys that one number holds.
pub(super) struct Round {
    /// The words that it holds whole.
    pub(super) whole: Range<usize>,
    /// The words behind them, of which it holds so many of the highest bits.
    pub(super) part: Option<(usize, u32)>,
    /// Whether the last of the whole words are those of texts some of which are longer.
    is_long: bool,
}

/// The rounds by which rows with such fields are put in order, where numbers have so many bits for keys. `is_long` says of which
/// fields some texts are longer.
pub(super) fn rounds(fields: &[Field], is_long: impl Fn(usize) -> bool, bits: u32) -> Vec<Round> {
    let mut rounds = Vec::new();
    let mut next = 0;
    while next < fields.len() {
        let (first, mut left, mut ends_long) = (next, bits, false);
        while let Some(field) = fields.get(next).filter(|field| field.bits <= left && !ends_long) {
            left -= field.bits;
            ends_long = is_long(next);
            next += 1;
        }
        let part = (next < fields.len() && !ends_long).then_some((next, left));
        rounds.push(Round { whole: first..next, part, is_long: ends_long });
    }
    rounds
}

impl SortTable {
    /// Whether no two rows have the same bits of their keys unless they are equal.
    pub(super) fn is_exact(&self) -> bool {
        matches!(self.rounds.as_slice(), [Round { part: None, is_long: false, .. }])
    }

    /// Puts rows in order whose numbers, which are in order, have the same bits.
    pub(super) fn settle_ties(&self, numbers: &mut [u128]) {
        let bits = |number: &u128| number.unbounded_shr(self.place_bits);
        for alike in numbers.chunk_by_mut(|a, b| bits(a) == bits(b)).filter(|alike| alike.len() > 1) {
            match self.rounds.split_first() {
                Some((round, later)) => self.settle(alike, round, later),
                None => alike.sort_by(|a, b| self.compare(*a, *b, SortKeys::compare).then_with(|| a.cmp(b))),
            }
        }
    }

    /// Puts rows in order that are alike in all words up to those of a round.
    fn settle(&self, alike: &mut [u128], round: &Round, later: &[Round]) {
        if !round.is_long {
            return self.by_numbers(alike, later);
        }
        let field = round.whole.end - 1;
        let order = |a: &u128, b: &u128| {
            self.compare(*a, *b, |keys, row, other, other_row| {
                match (keys.words(field), other.words(field)) {
                    (Some(words), Some(other)) => words.compare_long(row, other, other_row),
                    _ => Ordering::Equal,
                }
            })
        };
        // Texts that are not longer are equal.
        alike.sort_by(order);
        for alike in alike.chunk_by_mut(|a, b| order(a, b).is_eq()) {
            self.by_numbers(alike, later);
        }
    }

    /// Puts rows in order by the words of later rounds.
    fn by_numbers(&self, alike: &mut [u128], rounds: &[Round]) {
        let Some((round, later)) = rounds.split_first().filter(|_| alike.len() > 1) else {
            // Of equal rows the earlier one comes first.
            return alike.sort_unstable();
        };
        let places = (1u128 << self.place_bits) - 1;
        let before = alike.first().map_or(0, |number| number & !places);
        let number = |number: &u128| self.key_bits(*number, round) << self.place_bits | number & places;
        let numbers = sorting::in_order(alike.iter().map(number).collect());
        alike.iter_mut().zip(&numbers).for_each(|(to, number)| *to = before | number & places);
        let mut rest = alike;
        for equal in numbers.chunk_by(|a, b| a & !places == b & !places) {
            let (own, behind) = rest.split_at_mut(equal.len());
            if own.len() > 1 {
                self.settle(own, round, later);
            }
            rest = behind;
        }
    }

    /// The words of a round of the row with a number.
    fn key_bits(&self, number: u128, round: &Round) -> u128 {
        let (part, row) = self.place(number);
        let keys = self.parts.get(part as usize).map(|part| &part.keys);
        let bits = |field: usize| {
            let (words, field) = (keys?.words(field)?, self.fields.get(field)?);
            Some((words.bits_of(row as usize, field), field.bits))
        };
        let whole = round.whole.clone().filter_map(bits).fold(0, |all, (word, bits)| all << bits | word);
        let part = round.part.and_then(|(field, taken)| {
            let (word, bits) = bits(field)?;
            Some((word >> (bits - taken), taken))
        });
        part.map_or(whole, |(word, taken)| whole << taken | word)
    }

    /// The order of two rows by a part of their keys.
    fn compare(
        &self,
        a: u128,
        b: u128,
        by: impl Fn(&SortKeys, usize, &SortKeys, usize) -> Ordering,
    ) -> Ordering {
        let ((part_a, a), (part_b, b)) = (self.place(a), self.place(b));
        let keys = |part: u32| self.parts.get(part as usize).map(|part| &part.keys);
        let (Some(left), Some(right)) = (keys(part_a), keys(part_b)) else { return Ordering::Equal };
        by(left, a as usize, right, b as usize)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// The whole words of a round, a part of the next, and whether they end in longer texts.
    type Told = (Range<usize>, Option<(usize, u32)>, bool);

    #[rstest]
    #[case::all_in_one(&[10, 20], None, 100, &[(0..2, None, false)])]
    #[case::a_part_of_the_next(&[66, 66, 10], None, 100, &[(0..1, Some((1, 34)), false), (1..3, None, false)])]
    #[case::texts_end_a_round(&[10, 20, 5], Some(1), 100, &[(0..2, None, true), (2..3, None, false)])]
    #[case::texts_at_the_end(&[66, 66], Some(1), 100, &[(0..1, Some((1, 34)), false), (1..2, None, true)])]
    #[case::none(&[], None, 100, &[])]
    fn words_are_held_round_by_round(
        #[case] bits: &[u32],
        #[case] long: Option<usize>,
        #[case] room: u32,
        #[case] expected: &[Told],
    ) {
        let fields: Vec<Field> = bits.iter().map(|bits| Field { low: 0, bits: *bits }).collect();
        let rounds = rounds(&fields, |field| Some(field) == long, room);
        let told: Vec<Told> = rounds.iter().map(|r| (r.whole.clone(), r.part, r.is_long)).collect();
        assert_eq!(told, expected);
    }
}
