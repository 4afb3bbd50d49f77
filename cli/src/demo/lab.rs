//! `lab.ndjson`: nested laboratory results by farm and day, one record a line.

use std::fmt::Write;

use super::farms::FARMS;
use super::random::Random;

pub(super) fn results(seed: u64) -> String {
    let mut r = Random::new(seed, u64::from(u32::MAX) + 2);
    let mut out = String::new();
    for sample in 1..=4000u64 {
        let farm = 1 + r.below(FARMS);
        let (month, day) = (1 + sample / 401, 1 + r.below(28));
        let urea = 15 + r.below(25);
        let pathogens = match r.below(20) {
            0 => "[\"S. aureus\"]",
            1 => "[\"S. aureus\", \"E. coli\"]",
            _ => "[]",
        };
        let freezing =
            if r.once_in(6) { String::new() } else { format!(", \"freezing\": -0.5{}", 10 + r.below(20)) };
        let bottles: Vec<String> = (1..=1 + r.below(3))
            .map(|number| {
                let fat =
                    if r.once_in(9) { String::new() } else { format!(", \"fat\": 4.{:02}", r.below(60)) };
                format!("{{\"number\": {number}, \"cells\": {}{fat}}}", 80 + r.skewed(400))
            })
            .collect();
        let _ = writeln!(
            out,
            "{{\"sample\": \"L{sample:05}\", \"farm\": \"F{farm:04}\", \"day\": \"2026-{month:02}-{day:02}\", \
             \"bottles\": [{}], \
             \"results\": {{\"urea\": {urea}{freezing}, \"bacteria\": {{\"count\": {}, \"found\": {pathogens}}}}}}}",
            bottles.join(", "),
            1000 + r.skewed(200_000)
        );
    }
    out
}
