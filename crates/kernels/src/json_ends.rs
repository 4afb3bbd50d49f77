//! Where the values of JSON end, found sixteen bytes at a time.

/// Bytes that are looked at together.
const TOGETHER: usize = 16;

/// One bit a byte, the first one lowest.
type Mask = u16;

/// Those of sixteen bytes that end a plain text: a quotation mark, a backslash, a control character.
#[cfg(target_arch = "x86_64")]
#[inline(always)]
fn text_ends(bytes: &[u8; TOGETHER]) -> Mask {
    // SAFETY: every processor of this kind has SSE2.
    unsafe { sse2::text_ends(bytes) }
}

/// Those of sixteen bytes that are no digits.
#[cfg(target_arch = "x86_64")]
#[inline(always)]
fn others(bytes: &[u8; TOGETHER]) -> Mask {
    // SAFETY: every processor of this kind has SSE2.
    unsafe { sse2::others(bytes) }
}

#[cfg(target_arch = "x86_64")]
mod sse2 {
    use super::{Mask, TOGETHER};
    use std::arch::x86_64::{
        __m128i, _mm_cmpeq_epi8, _mm_loadu_si128, _mm_min_epu8, _mm_movemask_epi8, _mm_or_si128,
        _mm_set1_epi8, _mm_sub_epi8,
    };

    #[target_feature(enable = "sse2")]
    #[inline]
    pub(super) fn text_ends(bytes: &[u8; TOGETHER]) -> Mask {
        let bytes = loaded(bytes);
        let is_control = _mm_cmpeq_epi8(_mm_min_epu8(bytes, _mm_set1_epi8(0x1f)), bytes);
        let is_quote = _mm_cmpeq_epi8(bytes, _mm_set1_epi8(b'"'.cast_signed()));
        let is_escape = _mm_cmpeq_epi8(bytes, _mm_set1_epi8(b'\\'.cast_signed()));
        _mm_movemask_epi8(_mm_or_si128(_mm_or_si128(is_quote, is_escape), is_control)) as Mask
    }

    #[target_feature(enable = "sse2")]
    #[inline]
    pub(super) fn others(bytes: &[u8; TOGETHER]) -> Mask {
        let digits = _mm_sub_epi8(loaded(bytes), _mm_set1_epi8(b'0'.cast_signed()));
        !_mm_movemask_epi8(_mm_cmpeq_epi8(_mm_min_epu8(digits, _mm_set1_epi8(9)), digits)) as Mask
    }

    #[target_feature(enable = "sse2")]
    #[inline]
    fn loaded(bytes: &[u8; TOGETHER]) -> __m128i {
        // SAFETY: sixteen bytes are there to be read; they need no alignment.
        unsafe { _mm_loadu_si128(bytes.as_ptr().cast()) }
    }
}

/// One bit for each byte that a condition holds for.
#[cfg(any(test, not(target_arch = "x86_64")))]
#[inline(always)]
fn each(bytes: &[u8; TOGETHER], is: impl Fn(u8) -> bool) -> Mask {
    bytes.iter().rev().fold(0, |mask, byte| mask << 1 | Mask::from(is(*byte)))
}

#[cfg(not(target_arch = "x86_64"))]
#[inline(always)]
fn text_ends(bytes: &[u8; TOGETHER]) -> Mask {
    each(bytes, ends_text)
}

#[cfg(not(target_arch = "x86_64"))]
#[inline(always)]
fn others(bytes: &[u8; TOGETHER]) -> Mask {
    each(bytes, |byte| !byte.is_ascii_digit())
}

#[inline(always)]
fn ends_text(byte: u8) -> bool {
    matches!(byte, b'"' | b'\\' | 0..0x20)
}

/// How many bytes come before the first that a mask has a bit for; `is` says the same of one byte.
#[inline(always)]
fn before(text: &[u8], mask: impl Fn(&[u8; TOGETHER]) -> Mask, is: impl Fn(u8) -> bool) -> usize {
    let (pieces, rest) = text.as_chunks::<TOGETHER>();
    for (number, piece) in pieces.iter().enumerate() {
        let found = mask(piece);
        if found != 0 {
            return number * TOGETHER + found.trailing_zeros() as usize;
        }
    }
    pieces.len() * TOGETHER + rest.iter().position(|byte| is(*byte)).unwrap_or(rest.len())
}

/// How many bytes come before a quotation mark, a backslash or a control character.
#[inline]
pub fn plain_text(text: &[u8]) -> usize {
    before(text, text_ends, ends_text)
}

/// How many digits a text begins with.
#[inline]
pub fn digits(text: &[u8]) -> usize {
    before(text, others, |byte| !byte.is_ascii_digit())
}

/// How long the number is that sixteen bytes begin with, and whether it is a whole one: a sign, digits without a zero before
/// them, a fraction. None where it is none, has an exponent, or is not seen to end within them.
#[inline]
pub fn short_number(bytes: &[u8; TOGETHER]) -> Option<(usize, bool)> {
    let sign = u32::from(bytes[0] == b'-');
    let others = u32::from(others(bytes)) >> sign;
    let whole = others.trailing_zeros();
    let byte = |at: u32| bytes.get((sign + at) as usize).copied();
    if whole == 0 || (whole > 1 && byte(0) == Some(b'0')) {
        return None;
    }
    let end = if byte(whole)? == b'.' { (others & (others - 1)).trailing_zeros() } else { whole };
    let is_number = end != whole + 1 && byte(end)? | 0x20 != b'e';
    is_number.then_some(((sign + end) as usize, end == whole))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("0,", Some((1, true)))]
    #[case("-0.5}", Some((4, false)))]
    #[case("1234567890.1234,", Some((15, false)))]
    #[case("123456789012345]", Some((15, true)))]
    #[case("1234567890123456", None)]
    #[case("12345678901234.1", None)]
    #[case("123456789012345.", None)]
    #[case("01,", None)]
    #[case("-,", None)]
    #[case("1.,", None)]
    #[case(".5,", None)]
    #[case("1e5,", None)]
    #[case("1.5E5,", None)]
    #[case("-01,", None)]
    fn short_numbers(#[case] text: &str, #[case] expected: Option<(usize, bool)>) {
        let mut bytes = [b' '; TOGETHER];
        bytes[..text.len()].copy_from_slice(text.as_bytes());
        assert_eq!(short_number(&bytes), expected);
    }

    proptest! {
        #[test]
        fn ends_are_those_of_a_search_byte_by_byte(
            text in prop::collection::vec(prop_oneof![10 => b'0'..=b'9', 3 => any::<u8>(), 3 => 0x1eu8..0x24, 1 => Just(b'\\')], 0..70),
        ) {
            let is_end = |byte: &u8| matches!(byte, b'"' | b'\\' | 0..0x20);
            prop_assert_eq!(plain_text(&text), text.iter().position(is_end).unwrap_or(text.len()));
            let is_other = |byte: &u8| !byte.is_ascii_digit();
            prop_assert_eq!(digits(&text), text.iter().position(is_other).unwrap_or(text.len()));
            if let Some(piece) = text.first_chunk() {
                // Of a byte more than a number, which no number goes on with.
                if let Some((length, is_whole)) = short_number(piece) {
                    let number = std::str::from_utf8(&text[..length]).unwrap_or_default();
                    prop_assert!(number.parse::<f64>().is_ok() && !number.ends_with('.'), "{}", number);
                    prop_assert_eq!(is_whole, !number.contains('.'));
                    prop_assert!(!matches!(text[length], b'0'..=b'9' | b'e' | b'E'));
                }
                prop_assert_eq!(text_ends(piece), each(piece, ends_text));
                prop_assert_eq!(others(piece), each(piece, |byte| !byte.is_ascii_digit()));
            }
        }
    }
}
