//! Texts as two words that compare as they do, as far as their first bytes tell.
//!
//! The first word is the first eight bytes, the second the seven behind them and, lowest, how long the text is, at most
//! [`LONG`]; what is missing is zero. Texts whose words are equal are equal, unless both are as long as [`LONG`]. Columns whose
//! texts start alike, as numbers of customers do, take few bits of such a word, since a sort counts bits from the least word on.

use arrow_array::cast::AsArray;
use arrow_array::{Array, StringViewArray};
use churn_core::Result;

/// Bytes from which on the words do not hold all of a text.
const LONG: usize = 16;

/// Bytes of a text that its view holds.
const IN_VIEW: u32 = 12;

/// The bits of the second word that say how long a text is.
const LENGTH: u64 = 0xff;

/// The words of some columns of texts, one behind the other.
pub(super) fn of(columns: &[&StringViewArray], rows: usize) -> (Vec<u64>, Vec<u64>) {
    let (mut starts, mut rests) = (Vec::with_capacity(rows), Vec::with_capacity(rows));
    for texts in columns {
        for (row, view) in texts.views().iter().enumerate() {
            let length = *view as u32;
            let (start, rest) = if length <= IN_VIEW {
                // The bytes behind a short text are zero.
                let text = view >> u32::BITS;
                ((text as u64).swap_bytes(), ((text >> u64::BITS) as u64).swap_bytes() | u64::from(length))
            } else if texts.is_null(row) {
                (0, 0)
            } else {
                words(texts.value(row).as_bytes())
            };
            starts.push(start);
            rests.push(rest);
        }
    }
    (starts, rests)
}

/// The words of a text.
fn words(text: &[u8]) -> (u64, u64) {
    let mut bytes = [0; LONG];
    bytes.iter_mut().zip(text).for_each(|(to, from)| *to = *from);
    let all = u128::from_be_bytes(bytes);
    let length = text.len().min(LONG) as u64;
    ((all >> u64::BITS) as u64, (all as u64) & !LENGTH | length)
}

/// The texts of some columns in one, if some are longer than their words.
///
/// # Errors
/// None that a user can cause.
pub(super) fn long(columns: &[&StringViewArray]) -> Result<Option<StringViewArray>> {
    let is_long = |texts: &&StringViewArray| texts.views().iter().any(|view| *view as u32 >= LONG as u32);
    if !columns.iter().any(is_long) {
        return Ok(None);
    }
    let columns: Vec<&dyn Array> = columns.iter().map(|texts| *texts as &dyn Array).collect();
    let texts = arrow_select::concat::concat(&columns).map_err(churn_core::arrow_error)?;
    Ok(texts.as_string_view_opt().cloned())
}

/// Appends what words do not hold of a text, so that the bytes compare as the texts do and their end is known; nothing of a text
/// that they hold.
pub(super) fn append_rest(text: &[u8], descending: bool, to: &mut Vec<u8>) {
    if text.len() < LONG {
        return;
    }
    let start = to.len();
    for byte in text.iter().skip(LONG - 1) {
        to.push(*byte);
        if *byte == 0 {
            to.push(0xff);
        }
    }
    to.extend_from_slice(&[0, 0]);
    if descending {
        to.iter_mut().skip(start).for_each(|byte| *byte = !*byte);
    }
}

/// A number that is less only where a text is less, or the key behind it: whether it is null, the bytes of the text, a zero, and the
/// first bits of the next key's word. The words of a text that is wanted in falling order are turned over.
pub(super) fn code(text: Option<(u64, u64)>, next: u64, (descending, nulls_first): (bool, bool)) -> u128 {
    const HIGHEST: u128 = 1 << (u128::BITS - 1);
    let next = u128::from(next) << u64::BITS;
    let (null, valid) = if nulls_first { (0, HIGHEST) } else { (HIGHEST, 0) };
    let Some((start, rest)) = text else { return null | next >> 1 };
    let turn = if descending { u64::MAX } else { 0 };
    let (start, rest) = (start ^ turn, rest ^ turn);
    let length = (rest & LENGTH) as u32;
    let text = u128::from(start) << u64::BITS | u128::from(rest & !LENGTH);
    // Of a text with a zero among its bytes only those up to the first count: it is not less than one that ends there.
    let zero = first_zero(text);
    let (text, behind) = if zero < length {
        (text | u128::MAX.unbounded_shr(8 * (zero + 1)), 0)
    } else {
        (text, u128::MAX.unbounded_shr(8 * (length + 1)))
    };
    let text = if descending { !text } else { text };
    let code = text & !behind | next.unbounded_shr(8 * (length + 1)) & behind;
    valid | code >> 1
}

/// How many bytes stand before the first that is zero.
fn first_zero(text: u128) -> u32 {
    const LOW: u128 = u128::from_ne_bytes([1; 16]);
    // The lowest mark is right, so the bytes are turned around.
    let bytes = text.swap_bytes();
    let zeros = bytes.wrapping_sub(LOW) & !bytes & (LOW << 7);
    zeros.trailing_zeros() / 8
}

#[cfg(test)]
mod tests {
    use std::cmp::Ordering;
    use std::sync::Arc;

    use arrow_array::ArrayRef;
    use churn_core::Type;
    use proptest::prelude::*;

    use super::super::order::OrderKey;
    use super::super::words::Words;
    use super::*;

    /// Texts that start alike, with zeros, of any length.
    fn texts() -> impl Strategy<Value = Vec<Option<String>>> {
        let text = ("(|aaaaaaaa|aaaaaaab)", "[a\\x00-\\x01]{0,9}", "(|z{8})");
        let text = text.prop_map(|(a, b, c)| Some(a + &b + &c));
        prop::collection::vec(prop_oneof![9 => text, 1 => Just(None)], 2..30)
    }

    fn order(a: Option<&String>, b: Option<&String>, (descending, nulls_first): (bool, bool)) -> Ordering {
        match (a, b) {
            (Some(a), Some(b)) if descending => b.cmp(a),
            (Some(a), Some(b)) => a.cmp(b),
            (a, b) if nulls_first => a.is_some().cmp(&b.is_some()),
            (a, b) => b.is_some().cmp(&a.is_some()),
        }
    }

    proptest! {
        #[test]
        fn words_codes_and_bytes_compare_as_texts_do(
            values in texts(), descending in any::<bool>(), nulls_first in any::<bool>(), next in any::<[u64; 2]>(),
        ) {
            let column: ArrayRef = Arc::new(values.iter().map(Option::as_ref).collect::<StringViewArray>());
            let key = OrderKey::column(0, Type::Text, descending, nulls_first);
            let words = Words::of_key(std::iter::once(&column), &key, values.len())?;
            let all: Vec<u32> = (0..values.len() as u32).collect();
            let words = words.iter().map(|words| words.taken(&all)).collect::<Result<Vec<_>>>()?;
            let bytes = |row: usize| {
                let mut bytes = Vec::new();
                words.iter().for_each(|words| words.append_bytes(row, &mut bytes));
                bytes
            };
            for (a, first) in values.iter().enumerate() {
                for (b, second) in values.iter().enumerate() {
                    let expected = order(first.as_ref(), second.as_ref(), (descending, nulls_first));
                    let mut pairs = words.iter().map(|words| words.compare(a, words, b));
                    prop_assert_eq!(pairs.find(|order| order.is_ne()).unwrap_or(Ordering::Equal), expected);
                    prop_assert_eq!(bytes(a).cmp(&bytes(b)), expected);
                    let of = |row: usize, next| {
                        let text = values[row].is_some().then(|| (words[0].values[row], words[1].values[row]));
                        code(text, next, (descending, nulls_first))
                    };
                    let order = of(a, next[0]).cmp(&of(b, next[1]));
                    let expected = expected.then(next[0].cmp(&next[1]));
                    prop_assert!(order == expected || order == Ordering::Equal, "{first:?} {second:?}");
                }
            }
        }
    }

    #[test]
    fn a_code_has_the_next_key_behind_a_short_text() {
        let (start, rest) = words(b"F0017");
        for (text, descending) in [(Some((start, rest)), false), (Some((!start, !rest)), true), (None, false)]
        {
            assert!(code(text, 3 << 32, (descending, true)) < code(text, 4 << 32, (descending, true)));
        }
    }
}
