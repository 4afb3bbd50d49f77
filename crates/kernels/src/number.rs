//! Numbers from text.
//!
//! Short decimal fractions, which is what tables hold, are read as one integer and divided by a power of ten:
//! with at most 15 digits and a power of at most 22 both are exact, so the one division rounds correctly
//! (Clinger, *How to Read Floating Point Numbers Accurately*, 1990). Everything else goes to `fast-float2`.

/// Powers of ten that a float holds exactly.
const TENS: [f64; 23] = [
    1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18,
    1e19, 1e20, 1e21, 1e22,
];

/// Reads a whole number with an optional sign; `None` if it is not one or does not fit.
#[inline]
pub fn parse_int(text: &[u8]) -> Option<i64> {
    let (negative, digits) = match text {
        [b'-', rest @ ..] => (true, rest),
        [b'+', rest @ ..] => (false, rest),
        _ => (false, text),
    };
    if digits.is_empty() {
        return None;
    }
    if digits.len() <= 18 {
        let mut value = 0i64;
        let mut bad = 0u8;
        for byte in digits {
            let digit = byte.wrapping_sub(b'0');
            bad |= u8::from(digit > 9);
            value = value * 10 + i64::from(digit & 15);
        }
        return (bad == 0).then_some(if negative { -value } else { value });
    }
    let mut value = 0i64;
    for byte in digits {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        let digit = i64::from(digit);
        value = value.checked_mul(10)?.checked_add(if negative { -digit } else { digit })?;
    }
    Some(value)
}

/// Reads a decimal fraction with an optional sign and exponent, `NaN`, `inf` or `-inf`; `None` if it is none, or beyond
/// the largest float.
#[inline]
pub fn parse_float(text: &[u8]) -> Option<f64> {
    let (negative, body) = match text {
        [b'-', rest @ ..] => (true, rest),
        [b'+', rest @ ..] => (false, rest),
        _ => (false, text),
    };
    if body.is_empty() {
        return None;
    }
    if body.len() <= 16 {
        let mut mantissa = 0u64;
        let mut point = usize::MAX;
        let mut digits = 0usize;
        let mut plain = true;
        for (i, byte) in body.iter().enumerate() {
            let digit = byte.wrapping_sub(b'0');
            if digit <= 9 {
                mantissa = mantissa * 10 + u64::from(digit);
                digits += 1;
            } else if *byte == b'.' && point == usize::MAX {
                point = i;
            } else {
                plain = false;
                break;
            }
        }
        if plain && (1..=15).contains(&digits) {
            let decimals = if point == usize::MAX { 0 } else { body.len() - 1 - point };
            let value = mantissa as f64 / TENS.get(decimals).copied().unwrap_or(1.0);
            return Some(if negative { -value } else { value });
        }
    }
    parse_unusual_float(body).map(|value| if negative { -value } else { value })
}

/// Whether zeros stand before the digits of a number, as in a code such as `0042`.
#[inline]
pub fn has_leading_zero(text: &[u8]) -> bool {
    let digits = text.strip_prefix(b"-").or_else(|| text.strip_prefix(b"+")).unwrap_or(text);
    matches!(digits, [b'0', b'0'..=b'9', ..])
}

/// Whether a text is a sign and digits and nothing else.
#[inline]
pub fn is_whole(text: &[u8]) -> bool {
    let digits = text.strip_prefix(b"-").or_else(|| text.strip_prefix(b"+")).unwrap_or(text);
    !digits.is_empty() && digits.iter().all(u8::is_ascii_digit)
}

/// Reads a whole number that loses nothing as an int: without leading zeros and without a plus sign.
#[inline]
pub fn parse_exact_int(text: &[u8]) -> Option<i64> {
    if has_leading_zero(text) || text.first() == Some(&b'+') { None } else { parse_int(text) }
}

/// Reads a number that loses no digits of a code as a float: without leading zeros, and if it is whole, not too long
/// for an int.
#[inline]
pub fn parse_exact_float(text: &[u8]) -> Option<f64> {
    let is_code = has_leading_zero(text) || text.len() > 18 && is_whole(text) && parse_int(text).is_none();
    if is_code { None } else { parse_float(text) }
}

#[cold]
fn parse_unusual_float(body: &[u8]) -> Option<f64> {
    match body {
        b"NaN" | b"nan" => Some(f64::NAN),
        b"inf" | b"Infinity" => Some(f64::INFINITY),
        [b'0'..=b'9' | b'.', ..] => {
            let has_digit = body.iter().any(u8::is_ascii_digit);
            // A number beyond the largest float does not fit; it is not infinite.
            let value = if has_digit { fast_float2::parse::<f64, _>(body).ok() } else { None };
            value.filter(|value| value.is_finite())
        }
        _ => None,
    }
}

/// Reads a decimal of `precision` digits with `scale` of them after the point, as a count of its last unit.
///
/// `None` if the text is not a plain decimal, or needs more digits than there are.
pub fn parse_decimal(text: &[u8], precision: u8, scale: i8) -> Option<i128> {
    let (negative, body) = match text {
        [b'-', rest @ ..] => (true, rest),
        [b'+', rest @ ..] => (false, rest),
        _ => (false, text),
    };
    let mut value = 0i128;
    let mut digits = 0u32;
    let mut decimals: Option<i32> = None;
    for byte in body {
        if *byte == b'.' && decimals.is_none() {
            decimals = Some(0);
            continue;
        }
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        digits += 1;
        if let Some(d) = decimals.as_mut() {
            if *d >= i32::from(scale) {
                if digit != 0 {
                    return None;
                }
                continue;
            }
            *d += 1;
        }
        value = value.checked_mul(10)?.checked_add(i128::from(digit))?;
    }
    if digits == 0 {
        return None;
    }
    let missing = i32::from(scale) - decimals.unwrap_or(0);
    let value = value.checked_mul(10i128.checked_pow(u32::try_from(missing).ok()?)?)?;
    let limit = 10i128.checked_pow(u32::from(precision))?;
    (value < limit).then_some(if negative { -value } else { value })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("12", Some(12.0))]
    #[case("-0.5", Some(-0.5))]
    #[case(".5", Some(0.5))]
    #[case("5.", Some(5.0))]
    #[case("1e-3", Some(0.001))]
    #[case("123456789012345678", Some(123_456_789_012_345_680.0))]
    #[case("0.1234567890123456789", Some(0.123_456_789_012_345_68))]
    #[case("", None)]
    #[case(".", None)]
    #[case("-", None)]
    #[case("1.2.3", None)]
    #[case("--1", None)]
    #[case("1,5", None)]
    #[case("nanny", None)]
    #[case("0x10", None)]
    fn floats(#[case] text: &str, #[case] expected: Option<f64>) {
        assert_eq!(parse_float(text.as_bytes()), expected);
    }

    #[rstest]
    #[case("9223372036854775807", Some(i64::MAX))]
    #[case("-9223372036854775808", Some(i64::MIN))]
    #[case("9223372036854775808", None)]
    #[case("1_000", None)]
    #[case("+7", Some(7))]
    #[case("", None)]
    #[case("1:", None)]
    fn ints(#[case] text: &str, #[case] expected: Option<i64>) {
        assert_eq!(parse_int(text.as_bytes()), expected);
    }

    #[rstest]
    #[case("12.5", Some(1250))]
    #[case("-0.01", Some(-1))]
    #[case("1.230", Some(123))]
    #[case("1.234", None)]
    #[case("1000", None)]
    #[case(".", None)]
    fn decimals(#[case] text: &str, #[case] expected: Option<i128>) {
        assert_eq!(parse_decimal(text.as_bytes(), 5, 2), expected);
    }

    proptest! {
        #[test]
        fn what_is_written_reads_back(x in any::<f64>().prop_filter("finite", |x| x.is_finite()), n: i64) {
            prop_assert_eq!(parse_float(format!("{x}").as_bytes()), Some(x));
            prop_assert_eq!(parse_float(format!("{x:e}").as_bytes()), Some(x));
            prop_assert_eq!(parse_int(n.to_string().as_bytes()), Some(n));
        }

        #[test]
        fn short_fractions_are_exact(whole in 0u32..1_000_000, part in 0u32..1000) {
            let text = format!("{whole}.{part:03}");
            prop_assert_eq!(parse_float(text.as_bytes()), text.parse().ok());
        }
    }
}
