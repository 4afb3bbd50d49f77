//! `deliveries-2024.csv`, `-2025.csv`, `-2026.csv`: large, and as dirty as such files are.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::sync::mpsc::sync_channel;

use super::Scale;
use super::farms::{FARMS, UNLISTED};
use super::random::Random;

/// A year's file.
#[derive(Clone, Copy, Debug)]
pub(super) struct Year {
    pub(super) file: &'static str,
    pub(super) about: &'static str,
    year: i16,
    days: u64,
    /// Of a hundred deliveries, how many are this year's, and how many came before.
    share: u64,
    before: u64,
    protein: bool,
}

pub(super) const YEARS: [Year; 3] = [
    Year {
        file: "deliveries-2024.csv",
        about: "deliveries of 2024; without the column protein",
        year: 2024,
        days: 366,
        share: 30,
        before: 0,
        protein: false,
    },
    Year {
        file: "deliveries-2025.csv",
        about: "deliveries of 2025",
        year: 2025,
        days: 365,
        share: 35,
        before: 30,
        protein: true,
    },
    Year {
        file: "deliveries-2026.csv",
        about: "deliveries of 2026, to October",
        year: 2026,
        days: 304,
        share: 35,
        before: 65,
        protein: true,
    },
];

/// Rows that share a random number generator.
const BLOCK: u64 = 1 << 14;

const NOTES: [&str; 6] =
    ["late pickup", "foam seen in tank", "gate closed", "driver changed", "sample retaken", "second visit"];
const QUOTED: [&str; 4] = [
    "\"hose leak, cleaned\"",
    "\"warm tank, farmer called\"",
    "\"smell \"\"sour\"\", recheck\"",
    "\"two visits:\nmorning and evening\"",
];
const NO_DATES: [&str; 4] = ["2026-02-30", "31.12.2026", "n/a", "2025-13-01"];

/// Writes a year's file; gives its bytes.
pub(super) fn write(path: &Path, year: Year, scale: Scale) -> std::io::Result<u64> {
    let mut out = BufWriter::with_capacity(1 << 20, File::create(path)?);
    let protein = if year.protein { "protein," } else { "" };
    let heading =
        format!("delivery_id,farm,collected_on,tanker,litres,fat,{protein}temp_c,cells,grade,note\n");
    out.write_all(heading.as_bytes())?;
    let mut bytes = heading.len() as u64;
    let from = scale.rows * year.before / 100;
    let rows = scale.rows * (year.before + year.share) / 100 - from;
    let blocks = rows.div_ceil(BLOCK);
    let workers = std::thread::available_parallelism().map_or(2, |n| n.get() as u64);
    let dates = dates(year);
    std::thread::scope(|scope| {
        // Worker w makes blocks w, w + workers, …; taking one from each in turn gives them in order.
        let made: Vec<_> = (0..workers)
            .map(|worker| {
                let (to, made) = sync_channel(2);
                let dates = &dates;
                scope.spawn(move || {
                    for block in (worker..blocks).step_by(workers as usize) {
                        if to.send(text_of(block, rows, from, year, dates, scale.seed)).is_err() {
                            return;
                        }
                    }
                });
                made
            })
            .collect();
        for block in 0..blocks {
            let text = made.get((block % workers) as usize).and_then(|m| m.recv().ok()).unwrap_or_default();
            out.write_all(&text)?;
            bytes += text.len() as u64;
        }
        out.flush()
    })?;
    Ok(bytes)
}

fn dates(year: Year) -> Vec<String> {
    let first = jiff::civil::Date::constant(year.year, 1, 1);
    first.series(jiff::Span::new().days(1)).take(year.days as usize).map(|day| day.to_string()).collect()
}

/// One block of rows.
fn text_of(block: u64, rows: u64, from: u64, year: Year, dates: &[String], seed: u64) -> Vec<u8> {
    let mut r = Random::new(seed ^ (year.year as u64) << 32, block);
    let mut out = Vec::with_capacity(BLOCK as usize * 72);
    for row in block * BLOCK..((block + 1) * BLOCK).min(rows) {
        // A vector takes whatever is written to it.
        let _ = write_row(&mut out, &mut r, row, rows, from, year, dates);
    }
    out
}

fn write_row(
    out: &mut Vec<u8>,
    r: &mut Random,
    row: u64,
    rows: u64,
    from: u64,
    year: Year,
    dates: &[String],
) -> std::io::Result<()> {
    let day = (row * year.days / rows.max(1)).saturating_sub(if r.once_in(10) { r.below(4) } else { 0 });
    let farm = if r.once_in(100) { FARMS + 1 + r.below(UNLISTED) } else { r.skewed(FARMS) * 379 % FARMS + 1 };
    write!(out, "{:010},F{farm:04},", from + row + 1)?;
    if r.once_in(20_000) {
        out.extend_from_slice(r.pick(&NO_DATES).as_bytes());
    } else {
        out.extend_from_slice(dates.get(day as usize).map_or(b"".as_slice(), |d| d.as_bytes()));
    }
    write!(out, ",T{:02},", 1 + r.below(48))?;
    match r.below(10_000) {
        0 => {}
        1..=9 => out.extend_from_slice(b"0.0"),
        _ => {
            let litres = 800 + r.skewed(60_000).max(r.below(24_000));
            write!(out, "{}.{}", litres / 10, litres % 10)?;
        }
    }
    let fat = 310 + r.below(140) + r.below(140);
    write!(out, ",{}.{:02},", fat / 100, fat % 100)?;
    if year.protein {
        if !r.once_in(30) {
            let protein = 260 + r.below(90) + r.below(90);
            write!(out, "{}.{:02}", protein / 100, protein % 100)?;
        }
        out.push(b',');
    }
    if !r.once_in(50) {
        let temperature = 12 + r.below(40) + r.below(40);
        write!(out, "{}.{}", temperature / 10, temperature % 10)?;
    }
    let grade = match r.below(100) {
        0..=69 => "A",
        70..=89 => "B",
        90..=97 => "C",
        _ => "reject",
    };
    write!(out, ",{},{grade},", 20 + r.skewed(880))?;
    if r.once_in(50) {
        out.extend_from_slice(if r.once_in(8) { r.pick(&QUOTED) } else { r.pick(&NOTES) }.as_bytes());
    }
    out.push(b'\n');
    Ok(())
}
