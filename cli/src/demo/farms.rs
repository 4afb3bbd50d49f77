//! `farms.csv` and `tankers.json`.

use std::fmt::Write;

use super::random::Random;

/// Farms that deliver and are listed, but for a few; 379 is coprime to their number.
pub(super) const FARMS: u64 = 800;
/// Farms that deliver and are not listed.
pub(super) const UNLISTED: u64 = 12;
/// Farms that are listed and never deliver.
const SILENT: u64 = 20;

const FIRST: [&str; 8] = ["Oak", "Brook", "Hill", "Meadow", "Stone", "Elder", "Heron", "Mill"];
pub(super) const DISTRICTS: [&str; 8] =
    ["North Vale", "South Vale", "East Moor", "West Moor", "Upper Fen", "Lower Fen", "Long Ridge", "Lakes"];

pub(super) fn farms(seed: u64) -> String {
    let mut r = Random::new(seed, u64::from(u32::MAX));
    let mut out = String::from("farm,name,district,herd,joined_on\n");
    let silent = FARMS + UNLISTED + 1..=FARMS + UNLISTED + SILENT;
    for farm in (1..=FARMS).chain(silent) {
        let (a, b) = (r.pick(&FIRST), r.pick(&FIRST));
        let name = if r.once_in(20) { format!("\"{a} {b}, Lower\"") } else { format!("{a} {b} Farm") };
        let district = r.pick(&DISTRICTS);
        let herd = if r.once_in(40) { String::new() } else { (15 + r.skewed(400)).to_string() };
        let (year, month, day) = (1998 + r.below(26), 1 + r.below(12), 1 + r.below(28));
        let _ = writeln!(out, "F{farm:04},{name},{district},{herd},{year}-{month:02}-{day:02}");
    }
    out
}

pub(super) fn tankers(seed: u64) -> String {
    let mut r = Random::new(seed, u64::from(u32::MAX) + 1);
    let mut tankers = Vec::new();
    for tanker in 1..=48 {
        let capacity = 8000 + 2000 * r.below(8);
        let cooled = r.below(10) < 9;
        let depot = r.pick(&DISTRICTS);
        tankers.push(format!(
            "  {{\"tanker\": \"T{tanker:02}\", \"capacity\": {capacity}, \"cooled\": {cooled}, \"depot\": \"{depot}\"}}"
        ));
    }
    format!("[\n{}\n]\n", tankers.join(",\n"))
}
