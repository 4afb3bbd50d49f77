//! `prices.xlsx`, a sheet with two heading rows, and `quota.csv`, a column a month.

use std::fmt::Write;

use rust_xlsxwriter::{DocProperties, ExcelDateTime, Format, FormatAlign, Workbook, XlsxError};

use super::farms::{DISTRICTS, FARMS};
use super::random::Random;

const MONTHS: [&str; 6] = ["2026-01", "2026-02", "2026-03", "2026-04", "2026-05", "2026-06"];
const GRADES: [&str; 3] = ["A", "B", "C"];

/// What a litre is worth by district: months in merged cells over grades. Some cells are blank, and some numbers are
/// stored as text, as happens in sheets.
pub(super) fn prices(seed: u64) -> Result<Vec<u8>, XlsxError> {
    let mut r = Random::new(seed, u64::from(u32::MAX) + 3);
    let mut workbook = Workbook::new();
    let made = ExcelDateTime::from_ymd(2026, 1, 2)?;
    workbook.set_properties(&DocProperties::new().set_creation_datetime(&made));
    let sheet = workbook.add_worksheet();
    sheet.set_name("Prices")?;
    let bold = Format::new().set_bold();
    let over = Format::new().set_bold().set_align(FormatAlign::Center);
    sheet.write_string_with_format(1, 0, "district", &bold)?;
    for (month, name) in (0u16..).zip(MONTHS) {
        let first = 1 + month * 3;
        sheet.merge_range(0, first, 0, first + 2, name, &over)?;
        for (grade, name) in (0u16..).zip(GRADES) {
            sheet.write_string_with_format(1, first + grade, name, &bold)?;
        }
    }
    for (row, district) in (2u32..).zip(DISTRICTS) {
        sheet.write_string(row, 0, district)?;
        for month in 0..MONTHS.len() as u16 {
            for grade in 0..GRADES.len() as u16 {
                let cents = 4100 - 350 * u64::from(grade) + 20 * u64::from(month) + r.below(150);
                let price = cents as f64 / 10_000.0;
                let column = 1 + month * 3 + grade;
                match r.below(24) {
                    0 => continue,
                    1 => sheet.write_string(row, column, price.to_string())?,
                    _ => sheet.write_number(row, column, price)?,
                };
            }
        }
    }
    workbook.save_to_buffer()
}

/// How many litres each farm may deliver, a month a column: a blank is not agreed yet, a zero is a pause.
pub(super) fn quota(seed: u64) -> String {
    let mut r = Random::new(seed, u64::from(u32::MAX) + 4);
    let mut out = format!("farm,{}\n", MONTHS.join(","));
    for farm in 1..=FARMS {
        let usual = 20 + r.skewed(900);
        let _ = write!(out, "F{farm:04}");
        for _ in MONTHS {
            let _ = match r.below(20) {
                0 => write!(out, ","),
                1 => write!(out, ",0"),
                _ => write!(out, ",{}", (usual + r.below(10)) * 100),
            };
        }
        out.push('\n');
    }
    out
}
