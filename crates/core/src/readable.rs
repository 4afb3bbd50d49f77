//! Numbers as people read them.

/// A count with its digits in threes: `20 000 000`.
pub fn grouped(count: u64) -> String {
    let digits = count.to_string();
    let mut out = String::new();
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push('\u{a0}');
        }
        out.push(digit);
    }
    out
}

/// A count with its noun: `1 row`, `20 000 rows`.
pub fn plural(count: u64, noun: &str) -> String {
    format!("{} {noun}{}", grouped(count), if count == 1 { "" } else { "s" })
}

/// A size in decimal units: `1.3 GB`.
pub fn bytes(size: u64) -> String {
    let units = ["bytes", "kB", "MB", "GB", "TB"];
    let mut value = size as f64;
    let mut unit = 0;
    while value >= 999.5 && unit + 1 < units.len() {
        value /= 1000.0;
        unit += 1;
    }
    let unit_name = units.get(unit).copied().unwrap_or_default();
    if unit == 0 {
        format!("{size} {unit_name}")
    } else if value < 9.95 {
        format!("{value:.1} {unit_name}")
    } else {
        format!("{value:.0} {unit_name}")
    }
}

/// A float as a table shows it: at least six significant digits, no more decimals than it has.
pub fn shown(value: f64) -> String {
    if !value.is_finite() {
        let mut out = Vec::new();
        crate::scalar::write_float(value, &mut out);
        return String::from_utf8_lossy(&out).into_owned();
    }
    let magnitude = if value == 0.0 { 0 } else { value.abs().log10().floor() as i32 };
    if !(-5..15).contains(&magnitude) {
        return format!("{value:.5e}");
    }
    let decimals = (5 - magnitude).clamp(2, 10) as usize;
    let text = format!("{value:.decimals$}");
    let trimmed = text.trim_end_matches('0');
    let trimmed = if trimmed.ends_with('.') { format!("{trimmed}0") } else { trimmed.to_owned() };
    if trimmed == "-0.0" { "0.0".into() } else { trimmed }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, "0")]
    #[case(999, "999")]
    #[case(20_000_000, "20\u{a0}000\u{a0}000")]
    fn counts(#[case] count: u64, #[case] text: &str) {
        assert_eq!(grouped(count), text);
    }

    #[rstest]
    #[case(512, "512 bytes")]
    #[case(1_300_000_000, "1.3 GB")]
    #[case(999_600, "1.0 MB")]
    fn sizes(#[case] size: u64, #[case] text: &str) {
        assert_eq!(bytes(size), text);
    }

    #[rstest]
    #[case(0.1 + 0.2, "0.3")]
    #[case(4.182_736_451, "4.18274")]
    #[case(18_446_744.700_000_003, "18446744.7")]
    #[case(0.000_012_345_678, "0.0000123457")]
    #[case(5.0, "5.0")]
    #[case(1e300, "1.00000e300")]
    fn floats(#[case] value: f64, #[case] text: &str) {
        assert_eq!(shown(value), text);
    }
}
