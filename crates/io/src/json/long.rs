//! Whole numbers that are too long for an int, kept as they are written.
//!
//! The parser reads a number beyond 64 bits as a float, and its digits are gone. So in a record that holds such a
//! number, which the visitor notices by its size, these numbers are put into quotes behind a mark that no file has, and
//! the record is read again.

use std::borrow::Cow;

/// Stands before the digits of a number that was put into quotes.
const MARK: char = '\u{1}';

/// Digits that an int has room for, whatever they are.
const SURE: usize = 18;

/// The record with numbers of more than 18 digits as marked texts.
pub(super) fn quoted(record: &[u8]) -> Cow<'_, [u8]> {
    let mut out: Vec<u8> = Vec::new();
    let (mut copied, mut at) = (0, 0);
    let (mut in_text, mut escaped) = (false, false);
    while let Some(byte) = record.get(at).copied() {
        if in_text {
            (in_text, escaped) = (escaped || byte != b'"', !escaped && byte == b'\\');
        } else if byte == b'"' {
            in_text = true;
        } else if byte == b'-' || byte.is_ascii_digit() {
            let is_of_number = |b: &u8| matches!(b, b'0'..=b'9' | b'.' | b'e' | b'E' | b'+' | b'-');
            let rest = record.get(at..).unwrap_or_default();
            let length = rest.iter().position(|b| !is_of_number(b)).unwrap_or(rest.len());
            let number = rest.get(..length).unwrap_or_default();
            if length > SURE
                && churn_kernels::number::is_whole(number)
                && churn_kernels::number::parse_int(number).is_none()
            {
                out.extend_from_slice(record.get(copied..at).unwrap_or_default());
                out.extend_from_slice(b"\"\\u0001");
                out.extend_from_slice(number);
                out.push(b'"');
                copied = at + length;
            }
            at += length;
            continue;
        }
        at += 1;
    }
    if copied == 0 {
        return Cow::Borrowed(record);
    }
    out.extend_from_slice(record.get(copied..).unwrap_or_default());
    Cow::Owned(out)
}

/// The digits of a text that is a marked number.
pub(super) fn digits(text: &str) -> Option<&str> {
    text.strip_prefix(MARK).filter(|digits| churn_kernels::number::is_whole(digits.as_bytes()))
}

/// Whether a number that was read as a float may have been a whole one that is too long for an int.
pub(super) fn may_be_long(value: f64) -> bool {
    value.abs() >= 9.2e18
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(r#"{"a":1,"b":"12345678901234567890"}"#, None)]
    #[case(r#"{"a":9223372036854775807}"#, None)]
    #[case(r#"{"a":1e30,"b":1.5}"#, None)]
    #[case(r#"{"a":9223372036854775808}"#, Some(r#"{"a":"\u00019223372036854775808"}"#))]
    #[case(r#"{"\"":[-12345678901234567890]}"#, Some(r#"{"\"":["\u0001-12345678901234567890"]}"#))]
    fn long_numbers_are_quoted(#[case] record: &str, #[case] expected: Option<&str>) {
        assert_eq!(quoted(record.as_bytes()), expected.unwrap_or(record).as_bytes());
    }
}
