//! Texts, short and long.

use arrow_array::Array;
use arrow_array::cast::AsArray;
use churn_kernels::hash::Seed;
use churn_kernels::known::known_part;
use churn_kernels::numbering::Numbering;
use hashbrown::HashTable;
use parquet::data_type::ByteArray;
use parquet::file::statistics::{Statistics, ValueStatistics};

use super::{MinMax, PageBounds, ValueEncoder};

/// Bytes of a text that are told as a bound.
const BOUND_BYTES: usize = 64;

/// Bytes of a text that its view holds.
const SHORT: usize = 12;

/// Texts. A key is a short text's view, or the length of a long one and its number among the long ones.
#[derive(Default)]
pub(super) struct TextEncoder {
    numbering: Numbering,
    long: Long,
    size: usize,
    bounds: MinMax<Vec<u8>>,
    keys: Vec<u128>,
    /// By number of a text, the page that it was last seen in.
    seen: Vec<u32>,
    /// The numbers of the texts of this page.
    used: Vec<u32>,
    pages: u32,
}

/// Long texts, each once.
#[derive(Default)]
struct Long {
    table: HashTable<u32>,
    bytes: Vec<u8>,
    ends: Vec<usize>,
}

impl Long {
    fn text(&self, number: usize) -> &[u8] {
        let from = number.checked_sub(1).and_then(|before| self.ends.get(before)).copied().unwrap_or(0);
        self.ends.get(number).and_then(|end| self.bytes.get(from..*end)).unwrap_or_default()
    }

    fn number(&mut self, text: &[u8]) -> u32 {
        let hash = Seed::of_process().of_bytes(text);
        if let Some(found) = self.table.find(hash, |number| self.text(*number as usize) == text) {
            return *found;
        }
        let number = self.ends.len() as u32;
        self.bytes.extend_from_slice(text);
        self.ends.push(self.bytes.len());
        let Long { table, bytes, ends } = self;
        let own = |number: &u32| {
            let at = *number as usize;
            let from = at.checked_sub(1).and_then(|before| ends.get(before)).copied().unwrap_or(0);
            Seed::of_process()
                .of_bytes(ends.get(at).and_then(|end| bytes.get(from..*end)).unwrap_or_default())
        };
        table.insert_unique(hash, number, own);
        number
    }
}

impl TextEncoder {
    /// The text of a key; `short` is room for one.
    fn text<'a>(&'a self, key: &u128, short: &'a mut [u8; 16]) -> &'a [u8] {
        let length = *key as u32 as usize;
        if length > SHORT {
            return self.long.text((key >> 32) as usize);
        }
        *short = (key >> 32).to_le_bytes();
        known_part(short.as_slice(), ..length)
    }

    /// Takes note of the bounds of the texts that this page has shown.
    fn compare_used(&mut self) {
        let used = std::mem::take(&mut self.used);
        let (mut a, mut b) = ([0; 16], [0; 16]);
        let keys = self.numbering.keys();
        let by = |number: &u32| keys.get(*number as usize);
        let (mut least, mut greatest) = (used.first().and_then(by), used.first().and_then(by));
        for key in used.iter().filter_map(by) {
            if least.is_some_and(|least| self.text(key, &mut a) < self.text(least, &mut b)) {
                least = Some(key);
            }
            if greatest.is_some_and(|greatest| self.text(key, &mut a) > self.text(greatest, &mut b)) {
                greatest = Some(key);
            }
        }
        if let Some((least, greatest)) = least.zip(greatest) {
            let (least, greatest) = (self.text(least, &mut a).to_vec(), self.text(greatest, &mut b).to_vec());
            self.bounds.add(least, greatest);
        }
        self.used = used;
        self.used.clear();
    }
}

impl ValueEncoder for TextEncoder {
    fn number(&mut self, array: &dyn Array, into: &mut Vec<u32>) {
        let array = array.as_string_view();
        self.keys.clear();
        let long = &mut self.long;
        let views = array.views().iter().enumerate();
        self.keys.extend(views.filter(|(row, _)| array.is_valid(*row)).map(|(row, view)| {
            let length = *view as u32;
            if length as usize <= SHORT {
                return *view;
            }
            u128::from(long.number(array.value(row).as_bytes())) << 32 | u128::from(length)
        }));
        let (before, known) = (into.len(), self.numbering.keys().len());
        self.numbering.number(&self.keys, into);
        let new = self.numbering.keys().iter().skip(known);
        self.size += new.map(|key| *key as u32 as usize + 4).sum::<usize>();
        self.seen.resize(self.numbering.keys().len(), u32::MAX);
        for number in into.iter().skip(before) {
            if let Some(page) = self.seen.get_mut(*number as usize).filter(|page| **page != self.pages) {
                *page = self.pages;
                self.used.push(*number);
            }
        }
    }

    fn end_numbers(&mut self) {
        self.numbering.end();
        self.long.table = HashTable::new();
        (self.seen, self.used) = (Vec::new(), Vec::new());
    }

    fn plain(&mut self, array: &dyn Array, into: &mut Vec<u8>) {
        let array = array.as_string_view();
        let (mut least, mut greatest): (Option<&[u8]>, Option<&[u8]>) = (None, None);
        for text in array.iter().flatten().map(str::as_bytes) {
            into.extend_from_slice(&(text.len() as u32).to_le_bytes());
            into.extend_from_slice(text);
            least = Some(least.map_or(text, |l| l.min(text)));
            greatest = Some(greatest.map_or(text, |g| g.max(text)));
        }
        if let Some((least, greatest)) = least.zip(greatest) {
            self.bounds.add(least.to_vec(), greatest.to_vec());
        }
    }

    fn len(&self) -> usize {
        self.numbering.keys().len()
    }

    fn size(&self) -> usize {
        self.size
    }

    fn dictionary(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(self.size);
        let mut short = [0; 16];
        for key in self.numbering.keys() {
            out.extend_from_slice(&(*key as u32).to_le_bytes());
            out.extend_from_slice(self.text(key, &mut short));
        }
        out
    }

    fn page(&mut self) -> PageBounds {
        self.keys = Vec::new();
        self.compare_used();
        self.pages += 1;
        let bounds = self.bounds.end_page();
        PageBounds { least_and_greatest: bounds.map(|(a, b)| (below(&a).0, above(&b).0)), nans: None }
    }

    fn order(&self) -> (bool, bool) {
        (!self.bounds.falls, !self.bounds.rises)
    }

    fn statistics(&self, nulls: u64) -> Statistics {
        let (least, greatest) = self.bounds.all.as_ref().map(|(a, b)| (below(a), above(b))).unzip();
        let exact = (least.as_ref().is_none_or(|l| l.1), greatest.as_ref().is_none_or(|g| g.1));
        let array = |bound: (Vec<u8>, bool)| ByteArray::from(bound.0);
        let told = ValueStatistics::new(least.map(array), greatest.map(array), None, Some(nulls), false);
        Statistics::ByteArray(told.with_min_is_exact(exact.0).with_max_is_exact(exact.1))
    }
}

/// The first characters of a text, none greater than it, and whether that is all of it.
fn below(text: &[u8]) -> (Vec<u8>, bool) {
    if text.len() <= BOUND_BYTES {
        return (text.to_vec(), true);
    }
    let is_start = |at: &usize| text.get(*at).is_some_and(|b| b & 0xc0 != 0x80);
    let end = (0..=BOUND_BYTES).rev().find(is_start).unwrap_or(0);
    (known_part(text, ..end).to_vec(), false)
}

/// A text that is not less than this one: its first characters, the last of them made the next one. If there is none
/// such, all of it.
fn above(text: &[u8]) -> (Vec<u8>, bool) {
    let (start, is_all) = below(text);
    let mut chars: Vec<char> = String::from_utf8_lossy(&start).chars().collect();
    while let Some(last) = chars.pop().filter(|_| !is_all) {
        if let Some(next) = char::from_u32(last as u32 + 1) {
            chars.push(next);
            return (chars.iter().collect::<String>().into_bytes(), false);
        }
    }
    (text.to_vec(), true)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("short", "short", "short")]
    #[case(&"x".repeat(70), &"x".repeat(64), &format!("{}y", "x".repeat(63)))]
    #[case(&format!("{}\u{10ffff}tail", "x".repeat(60)), &format!("{}\u{10ffff}", "x".repeat(60)), &format!("{}y", "x".repeat(59)))]
    #[case(&"é".repeat(40), &"é".repeat(32), &format!("{}ê", "é".repeat(31)))]
    fn bounds_of_long_texts_are_short(#[case] text: &str, #[case] least: &str, #[case] greatest: &str) {
        assert_eq!(below(text.as_bytes()).0, least.as_bytes());
        assert_eq!(above(text.as_bytes()).0, greatest.as_bytes());
    }
}
