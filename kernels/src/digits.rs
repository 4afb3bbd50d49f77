//! Numbers as text, two digits at a time.

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

/// The two digits of a number below 100.
#[inline]
pub(crate) fn pair(value: u32) -> [u8; 2] {
    PAIRS[(value % 100) as usize]
}

/// Appends a whole number.
#[inline]
pub fn push_int(value: i64, out: &mut Vec<u8>) {
    if value < 0 {
        out.push(b'-');
    }
    push_whole(value.unsigned_abs(), out);
}

#[inline]
fn push_whole(mut value: u64, out: &mut Vec<u8>) {
    let mut text = [0; 20];
    let mut at = text.len();
    while value >= 100 {
        at -= 2;
        text[at..at + 2].copy_from_slice(&PAIRS[(value % 100) as usize]);
        value /= 100;
    }
    if value >= 10 {
        at -= 2;
        text[at..at + 2].copy_from_slice(&PAIRS[value as usize]);
    } else {
        at -= 1;
        text[at] = b'0' + value as u8;
    }
    out.extend_from_slice(&text[at..]);
}

/// Appends a float that has at most four decimals, as most in tables have; gives false for any other, and then
/// appends nothing.
///
/// A whole number divided by a power of ten, both of which a float holds exactly, is rounded once. So if the
/// quotient is the value, the quotient's digits read back as it; and with the fewest decimals for which that is
/// so they are the shortest that do.
#[inline]
pub fn push_short_decimal(value: f64, out: &mut Vec<u8>) -> bool {
    let size = value.abs();
    if !(1e-3..1e11).contains(&size) {
        return false;
    }
    let hundredths = (size * 100.0).round();
    let (digits, decimals) = if hundredths / 100.0 == size {
        let digits = hundredths as u64;
        if digits % 10 == 0 { (digits / 10, 1) } else { (digits, 2) }
    } else {
        let fine = (size * 10_000.0).round();
        if fine / 10_000.0 != size {
            return false;
        }
        let digits = fine as u64;
        if digits % 10 == 0 { (digits / 10, 3) } else { (digits, 4) }
    };
    if value < 0.0 {
        out.push(b'-');
    }
    let (whole, part) = match decimals {
        1 => (digits / 10, digits % 10),
        2 => (digits / 100, digits % 100),
        3 => (digits / 1000, digits % 1000),
        _ => (digits / 10_000, digits % 10_000),
    };
    push_whole(whole, out);
    let part = part as u32;
    match decimals {
        1 => out.extend_from_slice(&[b'.', b'0' + part as u8]),
        2 => {
            let [a, b] = pair(part);
            out.extend_from_slice(&[b'.', a, b]);
        }
        3 => {
            let [a, b] = pair(part / 10);
            out.extend_from_slice(&[b'.', a, b, b'0' + (part % 10) as u8]);
        }
        _ => {
            let ([a, b], [c, d]) = (pair(part / 100), pair(part));
            out.extend_from_slice(&[b'.', a, b, c, d]);
        }
    }
    true
}

/// Whether a text holds one of four bytes.
#[inline]
pub fn holds_any(text: &[u8], of: [u8; 4]) -> bool {
    const LOW: u64 = 0x0101_0101_0101_0101;
    let has = |word: u64| {
        let zero = |byte: u8| {
            let differs = word ^ (LOW * u64::from(byte));
            differs.wrapping_sub(LOW) & !differs & (LOW << 7)
        };
        zero(of[0]) | zero(of[1]) | zero(of[2]) | zero(of[3]) != 0
    };
    let (words, rest) = text.as_chunks::<8>();
    words.iter().any(|word| has(u64::from_le_bytes(*word))) || rest.iter().any(|byte| of.contains(byte))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

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
        fn whole_numbers(value: i64) {
            let mut out = Vec::new();
            push_int(value, &mut out);
            prop_assert_eq!(String::from_utf8_lossy(&out), value.to_string());
        }

        #[test]
        fn bytes_are_found(text in "[a,\"\\n\\r;é]{0,30}") {
            let of = [b',', b'"', b'\n', b'\r'];
            prop_assert_eq!(holds_any(text.as_bytes(), of), text.bytes().any(|b| of.contains(&b)));
        }
    }
}
