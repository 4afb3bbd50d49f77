//! Numbers as text, two digits at a time.

use crate::masks::Way;

/// All numbers of two digits.
static PAIRS: [[u8; 2]; 100] = {
    let mut pairs = [[b'0'; 2]; 100];
    let mut i = 0;
    while i < 100 {
        pairs[i] = [b'0' + (i / 10) as u8, b'0' + (i % 10) as u8];
        i += 1;
    }
    pairs
};

/// The last two digits of a number.
#[inline]
pub(crate) fn pair(value: u32) -> [u8; 2] {
    PAIRS[(value % 100) as usize]
}

/// Appends the first bytes of sixteen.
#[inline(always)]
fn push_bytes(bytes: u128, count: usize, out: &mut Vec<u8>) {
    debug_assert!(count <= 16);
    out.reserve(16);
    let length = out.len();
    // SAFETY: 16 bytes were reserved behind the end, and all of them are written; `count` is at most 16.
    unsafe {
        out.as_mut_ptr().add(length).cast::<[u8; 16]>().write_unaligned(bytes.to_le_bytes());
        out.set_len(length + count.min(16));
    }
}

/// The least number of more than eight digits.
const EIGHT_DIGITS: u64 = 100_000_000;

/// The eight digits of a number below 10^8, the first in the lowest byte, and how many of them are leading zeros
/// that are not written: at most seven.
#[inline(always)]
fn eight_digits(value: u32) -> (u64, u32) {
    let fours = u64::from(value / 10_000) | u64::from(value % 10_000) << 32;
    let hundreds = (fours.wrapping_mul(10_486) >> 20) & 0x0000_007f_0000_007f;
    let pairs = hundreds | fours.wrapping_sub(hundreds * 100) << 16;
    let tens = (pairs.wrapping_mul(103) >> 10) & 0x000f_000f_000f_000f;
    let digits = tens | pairs.wrapping_sub(tens * 10) << 8;
    (digits | 0x3030_3030_3030_3030, (digits.trailing_zeros() / 8).min(7))
}

/// Appends a whole number.
#[inline]
pub fn push_int(value: i64, out: &mut Vec<u8>) {
    match short_int(value) {
        Some((text, length)) => push_bytes(text, length, out),
        None => push_large(value, out),
    }
}

/// The text of a whole number of at most sixteen digits that is not negative, the first byte lowest, and its length; `None`
/// of any other.
#[inline]
pub fn short_int(value: i64) -> Option<(u128, usize)> {
    let value = u64::try_from(value).ok().filter(|value| *value < EIGHT_DIGITS * EIGHT_DIGITS)?;
    let (high, low) = ((value / EIGHT_DIGITS) as u32, (value % EIGHT_DIGITS) as u32);
    let (last, zeros) = eight_digits(low);
    if high == 0 {
        return Some((u128::from(last >> (8 * zeros)), 8 - zeros as usize));
    }
    let (first, zeros) = eight_digits(high);
    let count = 8 - zeros as usize;
    Some((u128::from(first >> (8 * zeros)) | u128::from(last) << (8 * count), count + 8))
}

fn push_large(value: i64, out: &mut Vec<u8>) {
    if value < 0 {
        out.push(b'-');
    }
    let (mut rest, mut parts) = (value.unsigned_abs(), [0u32; 3]);
    for part in parts.iter_mut().rev() {
        *part = (rest % 100_000_000) as u32;
        rest /= 100_000_000;
    }
    let first = parts.iter().position(|part| *part > 0).unwrap_or(2);
    let (digits, zeros) = eight_digits(parts[first]);
    push_bytes(u128::from(digits >> (8 * zeros)), 8 - zeros as usize, out);
    for part in &parts[first + 1..] {
        push_bytes(u128::from(eight_digits(*part).0), 8, out);
    }
}

/// Appends a float that has at most four decimals, as most in tables have; gives false for any other, and then
/// appends nothing.
#[inline]
pub fn push_short_decimal(value: f64, out: &mut Vec<u8>) -> bool {
    let Some((text, length)) = short_decimal(value) else { return false };
    push_bytes(text, length, out);
    true
}

/// The text of a float that has at most four decimals, the first byte lowest, and its length; `None` of any other.
#[inline]
fn short_decimal(value: f64) -> Option<(u128, usize)> {
    let (text, length) = decimal_words(value);
    (length > 0).then(|| (u128::from(text[0]) | u128::from(text[1]) << 64, length as usize))
}

/// The text of a float that has at most four decimals, in two words, the first byte lowest, and its length; no length where it
/// has more, or is very large or small.
///
/// A whole number divided by a power of ten, both of which a float holds exactly, is rounded once. So if the
/// quotient is the value, the quotient's digits read back as it; and with the fewest decimals for which that is
/// so they are the shortest that do.
#[inline(always)]
fn decimal_words(value: f64) -> ([u64; 2], u64) {
    /// A sum with it is rounded to a whole number, which is its mantissa.
    const WHOLE: f64 = (1u64 << 52) as f64;
    const MANTISSA: u64 = (1 << 52) - 1;
    let size = value.abs();
    let ten_thousandths = size * 10_000.0 + WHOLE;
    let is_short = (1e-3..1e8).contains(&size) & ((ten_thousandths - WHOLE) / 10_000.0 == size);
    let whole = u64::from((size as i32).cast_unsigned());
    let decimals = (ten_thousandths.to_bits() & MANTISSA).wrapping_sub(whole.wrapping_mul(10_000)) as u32;
    let (digits, zeros) = eight_digits(whole as u32);
    let (tail, behind) = four_digits(decimals);
    let tail = u64::from(tail) << 8 | u64::from(b'.');
    // One digit at least stands before the point.
    let before = 8 - zeros;
    let low = digits >> (8 * zeros) | tail << (8 * before - 8) << 8;
    let high = tail >> (64 - 8 * before);
    let length = u64::from(before + 1 + behind.max(1));
    let (text, length) = if value < 0.0 {
        ([low << 8 | u64::from(b'-'), high << 8 | low >> 56], length + 1)
    } else {
        ([low, high], length)
    };
    (text, if is_short { length } else { 0 })
}

/// The four digits of a number below 10^4, the first in the lowest byte, and how many there are up to the last one that is not
/// zero.
#[inline(always)]
fn four_digits(value: u32) -> (u32, u32) {
    let hundreds = value.wrapping_mul(5_243) >> 19;
    let pairs = hundreds | value.wrapping_sub(hundreds.wrapping_mul(100)) << 16;
    let tens = (pairs.wrapping_mul(103) >> 10) & 0x000f_000f;
    let digits = tens | pairs.wrapping_sub(tens * 10) << 8;
    (digits | 0x3030_3030, 4 - digits.leading_zeros() / 8)
}

/// Numbers whose texts are made together.
pub const TOGETHER: usize = 64;

/// The texts of some numbers, each in two words, the first byte lowest, and their lengths; no length of one that is not short.
pub struct ShortTexts {
    low: [u64; TOGETHER],
    high: [u64; TOGETHER],
    lengths: [u64; TOGETHER],
}

impl ShortTexts {
    /// Those of floats that have at most four decimals.
    pub fn of_floats(values: &[f64]) -> ShortTexts {
        Way::run(
            #[inline(always)]
            || ShortTexts::of(values, decimal_words),
        )
    }

    /// Those of whole numbers of at most eight digits that are not negative.
    pub fn of_ints(values: &[i64]) -> ShortTexts {
        Way::run(
            #[inline(always)]
            || {
                ShortTexts::of(values, |value| {
                    let value = value.cast_unsigned();
                    let (digits, zeros) = eight_digits(value as u32);
                    ([digits >> (8 * zeros), 0], if value < EIGHT_DIGITS { u64::from(8 - zeros) } else { 0 })
                })
            },
        )
    }

    #[inline(always)]
    fn of<T: Copy>(values: &[T], words: impl Fn(T) -> ([u64; 2], u64)) -> ShortTexts {
        let none = [0; TOGETHER];
        let mut texts = ShortTexts { low: none, high: none, lengths: none };
        let places = texts.low.iter_mut().zip(&mut texts.high).zip(&mut texts.lengths);
        for (value, ((low, high), length)) in values.iter().zip(places) {
            ([*low, *high], *length) = words(*value);
        }
        texts
    }

    /// The texts and their lengths, one after the other.
    pub fn iter(&self) -> impl Iterator<Item = (u128, usize)> + '_ {
        let words = self.low.iter().zip(&self.high).zip(&self.lengths);
        words.map(|((low, high), length)| (u128::from(*low) | u128::from(*high) << 64, *length as usize))
    }
}

/// Floats of this size and more may be written with an exponent.
const LARGE: f64 = 1e15;

/// Appends the shortest text that reads back as the same finite float, of two as short and as near the one with an
/// even last digit; of large numbers with an exponent, as `1.5e16`.
pub fn push_float(value: f64, out: &mut Vec<u8>) {
    let mut buffer = zmij::Buffer::new();
    let text = buffer.format_finite(value).as_bytes();
    let plus = if value.abs() < LARGE { None } else { memchr::memchr(b'+', text) };
    let (number, exponent) = text.split_at(plus.unwrap_or(text.len()));
    out.extend_from_slice(number);
    out.extend_from_slice(exponent.get(1..).unwrap_or_default());
}

/// Puts the text of a float that [`push_float`] appends into a room; gives its length, or `None` of floats that are not
/// finite, or so large that they have an exponent.
#[inline]
pub fn put_float(value: f64, room: &mut [u8; 32]) -> Option<usize> {
    if value.is_nan() || value.abs() >= LARGE {
        return None;
    }
    let mut buffer = zmij::Buffer::new();
    let text = buffer.format_finite(value).as_bytes();
    let length = text.len();
    match (text.first_chunk::<16>(), text.last_chunk::<16>()) {
        // Two copies of a fixed length, which overlap.
        (Some(first), Some(last)) => {
            *room.first_chunk_mut()? = *first;
            *room.get_mut(..length)?.last_chunk_mut()? = *last;
        }
        _ => room.get_mut(..length)?.copy_from_slice(text),
    }
    Some(length)
}

/// The ten bytes of a day of a year of four digits, the first in the lowest byte.
#[inline]
pub fn day_text(year: u32, month: u32, day: u32) -> u128 {
    let ([y1, y2], [y3, y4]) = (pair(year / 100), pair(year));
    let ([m1, m2], [d1, d2]) = (pair(month), pair(day));
    u128::from_le_bytes([y1, y2, y3, y4, b'-', m1, m2, b'-', d1, d2, 0, 0, 0, 0, 0, 0])
}

/// Bytes of the text of a day.
pub const DAY_BYTES: usize = 10;

/// Appends the ten bytes of a day.
#[inline]
pub fn push_day(text: u128, out: &mut Vec<u8>) {
    push_bytes(text, DAY_BYTES, out);
}

/// Whether a word holds one of four bytes, none of them zero.
#[inline(always)]
fn word_holds(word: u64, of: [u8; 4]) -> bool {
    const LOW: u64 = 0x0101_0101_0101_0101;
    let zero = |byte: u8| {
        let differs = word ^ (LOW * u64::from(byte));
        differs.wrapping_sub(LOW) & !differs & (LOW << 7)
    };
    zero(of[0]) | zero(of[1]) | zero(of[2]) | zero(of[3]) != 0
}

/// Whether a text holds one of four bytes, none of them zero.
#[inline]
pub fn holds_any(text: &[u8], of: [u8; 4]) -> bool {
    let (words, rest) = text.as_chunks::<8>();
    words.iter().any(|word| word_holds(u64::from_le_bytes(*word), of))
        || rest.iter().any(|byte| of.contains(byte))
}

/// Appends a text by its view, if that holds it whole, it is not empty, and it has none of four bytes; gives false
/// for any other, and then appends nothing.
#[inline]
pub fn push_short_text(view: u128, without: [u8; 4], out: &mut Vec<u8>) -> bool {
    let Some((text, length)) = short_text(view, without) else { return false };
    push_bytes(text, length, out);
    true
}

/// The text of a view that holds it whole, the first byte lowest, and its length, if it is not empty and has none of
/// four bytes.
#[inline]
pub fn short_text(view: u128, without: [u8; 4]) -> Option<(u128, usize)> {
    let length = view as u32;
    let text = view >> 32;
    // The bytes behind a short text are zero.
    let is_plain = length.wrapping_sub(1) < 12
        && !word_holds(text as u64, without)
        && !word_holds((text >> 64) as u64, without);
    is_plain.then_some((text, length as usize))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn float_text(value: f64) -> String {
        let mut out = Vec::new();
        push_float(value, &mut out);
        String::from_utf8(out).unwrap()
    }

    /// How many digits of a number's text count.
    fn significant(text: &str) -> usize {
        let digits = text.split('e').next().unwrap_or_default().replace(['-', '.'], "");
        digits.trim_matches('0').len()
    }

    #[test]
    fn of_two_texts_as_short_the_last_digit_is_even() {
        assert_eq!(float_text(1_228_315_925_244_125.0 + 0.25), "1228315925244125.2");
        assert_eq!(float_text(-1_228_315_925_244_125.0 - 0.75), "-1228315925244125.8");
    }

    proptest! {
        #[test]
        fn decimals_are_the_shortest_that_read_back(digits in -1_000_000_000_000i64..1_000_000_000_000, decimals in 0u32..7) {
            let value = digits as f64 / 10f64.powi(decimals.cast_signed());
            let mut out = Vec::new();
            if push_short_decimal(value, &mut out) {
                // The shortest text, as the standard library has it, with a decimal at least.
                let plain = format!("{value}");
                let expected = if plain.contains('.') { plain } else { format!("{plain}.0") };
                prop_assert_eq!(String::from_utf8_lossy(&out), expected);
            } else {
                prop_assert!(decimals > 4 || value.abs() < 1e-3 || value.abs() >= 1e8);
            }
        }

        /// Texts that are made together are those that are made alone.
        #[test]
        fn together_as_alone(
            floats in prop::collection::vec(
                prop_oneof![any::<f64>(), (-9_999_999i64..99_999_999).prop_map(|n| n as f64 / 1e4), -9.9e9..9.9e9],
                0..=TOGETHER,
            ),
            ints in prop::collection::vec(prop_oneof![any::<i64>(), -9i64..200_000_000], 0..=TOGETHER),
        ) {
            for (value, (text, length)) in floats.iter().zip(ShortTexts::of_floats(&floats).iter()) {
                let mut out = Vec::new();
                prop_assert_eq!(push_short_decimal(*value, &mut out), length > 0);
                prop_assert_eq!(&text.to_le_bytes()[..length], out);
            }
            for (value, (text, length)) in ints.iter().zip(ShortTexts::of_ints(&ints).iter()) {
                prop_assert_eq!((0..100_000_000).contains(value), length > 0);
                let expected = if length > 0 { value.to_string() } else { String::new() };
                prop_assert_eq!(&text.to_le_bytes()[..length], expected.as_bytes());
            }
        }

        #[test]
        fn any_float_reads_back(value in any::<f64>()) {
            let mut out = Vec::new();
            if push_short_decimal(value, &mut out) {
                prop_assert_eq!(String::from_utf8_lossy(&out).parse(), Ok(value));
            }
        }

        #[test]
        fn finite_floats_are_the_shortest_that_read_back(
            value in prop_oneof![any::<f64>(), (0u64..1 << 60).prop_map(|n| n as f64), (0u32..1 << 30).prop_map(|n| f64::from(n) / 7e9)],
        ) {
            let text = float_text(value);
            prop_assert_eq!(text.parse(), Ok(value));
            let mut room = [0; 32];
            if let Some(length) = put_float(value, &mut room) {
                prop_assert_eq!(&room[..length], text.as_bytes());
            }
            // As many digits as the standard library has, which takes the higher of two texts as short and as near.
            prop_assert_eq!(significant(&text), significant(&format!("{value:e}")), "{}", text);
        }

        #[test]
        fn whole_numbers(value in prop_oneof![any::<i64>(), (0u32..63).prop_flat_map(|bits| 0i64..1 << bits)]) {
            let mut out = Vec::new();
            push_int(value, &mut out);
            prop_assert_eq!(String::from_utf8_lossy(&out), value.to_string());
        }

        #[test]
        fn short_texts(text in "[a,é]{0,14}") {
            let mut view = [0; 16];
            let short = text.len().min(12);
            view[4..4 + short].copy_from_slice(&text.as_bytes()[..short]);
            let view = u128::from_le_bytes(view) | text.len() as u128;
            let mut out = Vec::new();
            let pushed = push_short_text(view, [b',', b'"', b'\n', b'\r'], &mut out);
            prop_assert_eq!(pushed, (1..=12).contains(&text.len()) && !text.contains(','));
            prop_assert_eq!(out, if pushed { text.into_bytes() } else { Vec::new() });
        }

        #[test]
        fn bytes_are_found(text in "[a,\"\\n\\r;é]{0,30}") {
            let of = [b',', b'"', b'\n', b'\r'];
            prop_assert_eq!(holds_any(text.as_bytes(), of), text.bytes().any(|b| of.contains(&b)));
        }
    }
}
