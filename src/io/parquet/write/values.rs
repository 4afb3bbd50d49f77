//! The values of a column of a row group: as numbers into a dictionary, or one behind the other, and their bounds.

use std::marker::PhantomData;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrowPrimitiveType};
use arrow_schema::{DataType, TimeUnit};
use churn_kernels::dense::Dense;
use churn_kernels::hash;
use churn_kernels::numbering::Numbering;
use hashbrown::HashTable;
use parquet::data_type::ByteArray;
use parquet::file::statistics::{Statistics, ValueStatistics};

/// Bytes of a text that are told as a bound.
const BOUND_BYTES: usize = 64;

/// Bytes of a text that its view holds.
const SHORT: usize = 12;

/// The least and the greatest value of a page, as the page index has them, and how many of its numbers are none.
pub(super) struct PageBounds {
    pub(super) least_and_greatest: Option<(Vec<u8>, Vec<u8>)>,
    pub(super) nans: Option<i64>,
}

/// What encoding a column needs of its type. Null values are passed over.
pub(super) trait Values: Send {
    /// Appends the number of each value; a new one gets the next number.
    fn number(&mut self, array: &dyn Array, into: &mut Vec<u32>);
    /// Appends the values as they are.
    fn plain(&mut self, array: &dyn Array, into: &mut Vec<u8>);
    /// How many values have numbers.
    fn len(&self) -> usize;
    /// Bytes of the values that have numbers.
    fn size(&self) -> usize;
    /// The values that have numbers, in order.
    fn dictionary(&self) -> Vec<u8>;
    /// The bounds of what was handed over since this was last asked.
    fn page(&mut self) -> PageBounds;
    /// Whether each page's bounds are no less, or no greater, than those of the page before it.
    fn order(&self) -> (bool, bool);
    /// The bounds of all pages.
    fn statistics(&self, nulls: u64) -> Statistics;
}

/// The values of a column of this type; `None` where they are left to the crate's own encoders.
pub(super) fn of(data: &DataType) -> Option<Box<dyn Values>> {
    Some(match data {
        DataType::Int64 => Box::new(Fixed::<Int64Type>::default()),
        DataType::Float64 => Box::new(Fixed::<Float64Type>::default()),
        DataType::Date32 => Box::new(Fixed::<Date32Type>::default()),
        DataType::Time64(TimeUnit::Microsecond) => Box::new(Fixed::<Time64MicrosecondType>::default()),
        DataType::Timestamp(TimeUnit::Microsecond, _) => {
            Box::new(Fixed::<TimestampMicrosecondType>::default())
        }
        DataType::Utf8View => Box::new(Texts::default()),
        _ => return None,
    })
}

/// Bounds of a page, of all pages before it, and whether they rise or fall from page to page.
struct Bounds<N> {
    page: Option<(N, N)>,
    all: Option<(N, N)>,
    last: Option<(N, N)>,
    falls: bool,
    rises: bool,
}

impl<N> Default for Bounds<N> {
    fn default() -> Self {
        Bounds { page: None, all: None, last: None, falls: false, rises: false }
    }
}

impl<N: Clone + PartialOrd> Bounds<N> {
    fn add(&mut self, least: N, greatest: N) {
        widen(&mut self.page, least, greatest);
    }

    /// The page's bounds; what comes next is another page's.
    fn end_page(&mut self) -> Option<(N, N)> {
        let (least, greatest) = self.page.take()?;
        if let Some((a, b)) = &self.last {
            self.falls |= least < *a || greatest < *b;
            self.rises |= least > *a || greatest > *b;
        }
        self.last = Some((least.clone(), greatest.clone()));
        widen(&mut self.all, least.clone(), greatest.clone());
        Some((least, greatest))
    }
}

fn widen<N: PartialOrd>(bounds: &mut Option<(N, N)>, least: N, greatest: N) {
    match bounds {
        Some((a, b)) => {
            if least < *a {
                *a = least;
            }
            if greatest > *b {
                *b = greatest;
            }
        }
        None => *bounds = Some((least, greatest)),
    }
}

/// A number of fixed width: how it is stored, and what it is compared as.
trait Stored: ArrowPrimitiveType {
    type Ordered: Copy + PartialOrd + Send;
    const WIDTH: usize;
    /// How many are no numbers; `None` for types that have none such.
    fn nans(values: &[Self::Native]) -> Option<i64>;
    /// `None` for what is no number.
    fn ordered(value: Self::Native) -> Option<Self::Ordered>;
    /// Its bits, in the low bytes.
    fn bits(value: Self::Native) -> u64;
    /// Zero has two signs: as the least value it is told with one, as the greatest with the other.
    fn told(least: Self::Ordered, greatest: Self::Ordered) -> (Self::Ordered, Self::Ordered) {
        (least, greatest)
    }
    fn bytes(value: Self::Ordered) -> Vec<u8>;
    fn statistics(told: ValueStatistics<Self::Ordered>) -> Statistics;
    /// The table that is asked before the one for any keys.
    fn find(_: &Dense, _: &[Self::Native], _: &mut Vec<u32>) -> bool {
        false
    }
    fn learn(_: &mut Dense, _: &[Self::Native], _: &[u32]) {}
}

macro_rules! whole {
    ($kind:ty, $native:ty) => {
        impl Stored for $kind {
            type Ordered = $native;
            const WIDTH: usize = size_of::<$native>();
            fn nans(_: &[$native]) -> Option<i64> {
                None
            }
            fn ordered(value: $native) -> Option<$native> {
                Some(value)
            }
            fn bits(value: $native) -> u64 {
                i64::from(value).cast_unsigned()
            }
            fn bytes(value: $native) -> Vec<u8> {
                value.to_le_bytes().to_vec()
            }
            fn statistics(told: ValueStatistics<$native>) -> Statistics {
                told.into()
            }
            fn find(near: &Dense, keys: &[$native], into: &mut Vec<u32>) -> bool {
                near.find(keys, into)
            }
            fn learn(near: &mut Dense, keys: &[$native], numbers: &[u32]) {
                if near.cover(keys) {
                    near.learn(keys, numbers);
                }
            }
        }
    };
}

whole!(Int64Type, i64);
whole!(Date32Type, i32);
whole!(Time64MicrosecondType, i64);
whole!(TimestampMicrosecondType, i64);

impl Stored for Float64Type {
    type Ordered = f64;
    const WIDTH: usize = 8;
    fn nans(values: &[f64]) -> Option<i64> {
        Some(values.iter().filter(|value| value.is_nan()).count() as i64)
    }
    fn ordered(value: f64) -> Option<f64> {
        (!value.is_nan()).then_some(value)
    }
    fn bits(value: f64) -> u64 {
        value.to_bits()
    }
    fn told(least: f64, greatest: f64) -> (f64, f64) {
        (if least == 0.0 { -0.0 } else { least }, if greatest == 0.0 { 0.0 } else { greatest })
    }
    fn bytes(value: f64) -> Vec<u8> {
        value.to_le_bytes().to_vec()
    }
    fn statistics(told: ValueStatistics<f64>) -> Statistics {
        told.into()
    }
}

/// Numbers, days and points in time.
struct Fixed<T: Stored> {
    numbering: Numbering,
    near: Dense,
    bounds: Bounds<T::Ordered>,
    nans: Nans,
    keys: Vec<u128>,
    kind: PhantomData<T>,
}

/// How many values are no numbers, of the page and of all pages; `None` for types that have none such.
struct Nans {
    page: Option<i64>,
    all: Option<i64>,
}

impl<T: Stored> Default for Fixed<T> {
    fn default() -> Self {
        Fixed {
            numbering: Numbering::default(),
            near: Dense::default(),
            bounds: Bounds::default(),
            nans: Nans { page: T::nans(&[]), all: T::nans(&[]) },
            keys: Vec::new(),
            kind: PhantomData,
        }
    }
}

impl<T: Stored> Fixed<T> {
    /// Calls with the values that are not null, and takes note of their bounds.
    fn each(&mut self, array: &dyn Array, then: impl FnOnce(&mut Self, &[T::Native])) {
        let array = array.as_primitive::<T>();
        let some: Vec<T::Native>;
        let values = match array.nulls().filter(|nulls| nulls.null_count() > 0) {
            None => array.values().as_ref(),
            Some(_) => {
                some = array.iter().flatten().collect();
                &some
            }
        };
        if let (Some(page), Some(more)) = (&mut self.nans.page, T::nans(values)) {
            *page += more;
        }
        let mut ordered = values.iter().filter_map(|v| T::ordered(*v));
        if let Some(first) = ordered.next() {
            let (least, greatest) = ordered.fold((first, first), |(least, greatest), v| {
                (if v < least { v } else { least }, if v > greatest { v } else { greatest })
            });
            self.bounds.add(least, greatest);
        }
        then(self, values);
    }
}

impl<T: Stored> Values for Fixed<T>
where
    Self: Send,
{
    fn number(&mut self, array: &dyn Array, into: &mut Vec<u32>) {
        self.each(array, |own, values| {
            if T::find(&own.near, values, into) {
                return;
            }
            let before = into.len();
            own.keys.clear();
            own.keys.extend(values.iter().map(|v| u128::from(T::bits(*v))));
            own.numbering.number(&own.keys, into);
            T::learn(&mut own.near, values, into.get(before..).unwrap_or_default());
        });
    }

    fn plain(&mut self, array: &dyn Array, into: &mut Vec<u8>) {
        self.each(array, |_, values| {
            into.reserve(values.len() * T::WIDTH);
            values.iter().for_each(|v| into.extend(T::bits(*v).to_le_bytes().iter().take(T::WIDTH)));
        });
    }

    fn len(&self) -> usize {
        self.numbering.keys().len()
    }

    fn size(&self) -> usize {
        self.len() * T::WIDTH
    }

    fn dictionary(&self) -> Vec<u8> {
        self.numbering.keys().iter().flat_map(|k| k.to_le_bytes().into_iter().take(T::WIDTH)).collect()
    }

    fn page(&mut self) -> PageBounds {
        let bounds = self.bounds.end_page().map(|(a, b)| T::told(a, b));
        let least_and_greatest = bounds.map(|(a, b)| (T::bytes(a), T::bytes(b)));
        let nans = std::mem::replace(&mut self.nans.page, T::nans(&[]));
        self.nans.all = self.nans.all.zip(nans).map(|(a, b)| a + b);
        PageBounds { least_and_greatest, nans }
    }

    fn order(&self) -> (bool, bool) {
        (!self.bounds.falls, !self.bounds.rises)
    }

    fn statistics(&self, nulls: u64) -> Statistics {
        let (least, greatest) = self.bounds.all.map(|(a, b)| T::told(a, b)).unzip();
        let told = ValueStatistics::new(least, greatest, None, Some(nulls), false);
        T::statistics(told.with_nan_count(self.nans.all.map(i64::cast_unsigned)))
    }
}

/// Texts. A key is a short text's view, or the length of a long one and its number among the long ones.
#[derive(Default)]
struct Texts {
    numbering: Numbering,
    long: Long,
    size: usize,
    bounds: Bounds<Vec<u8>>,
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
        let hash = hash::of_bytes(text);
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
            hash::of_bytes(ends.get(at).and_then(|end| bytes.get(from..*end)).unwrap_or_default())
        };
        table.insert_unique(hash, number, own);
        number
    }
}

impl Texts {
    /// The text of a key; `short` is room for one.
    fn text<'a>(&'a self, key: &u128, short: &'a mut [u8; 16]) -> &'a [u8] {
        let length = *key as u32 as usize;
        if length > SHORT {
            return self.long.text((key >> 32) as usize);
        }
        *short = (key >> 32).to_le_bytes();
        short.get(..length).unwrap_or_default()
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

impl Values for Texts {
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
    (text.get(..end).unwrap_or_default().to_vec(), false)
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
