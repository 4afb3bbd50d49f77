//! Rows that are too short, filled up with cells that mean null.

use churn_kernels::grid::Ragged;

use super::options::CsvOptions;

/// The text with cells added to the rows that have too few, so that each has `width`; their lines stay where they were. Cells
/// that are added stand for null: they are empty, or the first text that does so.
///
/// Gives the first row that has too many instead, if there is one.
pub(super) fn padded<'r>(
    text: &[u8],
    ragged: &'r [Ragged],
    width: usize,
    options: &CsvOptions,
) -> Result<Vec<u8>, &'r Ragged> {
    if let Some(long) = ragged.iter().find(|row| row.cells > width) {
        return Err(long);
    }
    let missing = match &options.missing {
        Some(texts) if !texts.iter().any(String::is_empty) => texts.first().map_or("", String::as_str),
        _ => "",
    };
    let mut out = Vec::with_capacity(text.len() + ragged.len() * width);
    let mut copied = 0;
    for row in ragged {
        let line = text.get(row.start..row.end).unwrap_or_default();
        let content = row.start + content_of(line).len();
        out.extend_from_slice(text.get(copied..content).unwrap_or_default());
        for _ in row.cells..width {
            out.push(options.separator);
            out.extend_from_slice(missing.as_bytes());
        }
        copied = content;
    }
    out.extend_from_slice(text.get(copied..).unwrap_or_default());
    Ok(out)
}

/// A line without what ends it.
fn content_of(line: &[u8]) -> &[u8] {
    let line = line.strip_suffix(b"\n").unwrap_or(line);
    line.strip_suffix(b"\r").unwrap_or(line)
}

#[cfg(test)]
mod tests {
    use super::super::cells::{BlockCells, Borders, Needed};
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::short("a,b,c\nd\ne,f\ng,h,i\n", None, Ok("a,b,c\nd,,\ne,f,\ng,h,i\n"))]
    #[case::carriage_returns("a\r\nb,c\r\n", None, Ok("a,,\r\nb,c,\r\n"))]
    #[case::in_quotes("\"a\nb\",c\n", None, Ok("\"a\nb\",c,\n"))]
    #[case::another_text_for_null("a\n", Some(&["NA", "-"][..]), Ok("a,NA,NA\n"))]
    #[case::the_empty_text_too("a\n", Some(&["NA", ""][..]), Ok("a,,\n"))]
    #[case::long("a\nb,c,d,e\n", None, Err(4))]
    fn short_rows(
        #[case] text: &str,
        #[case] missing: Option<&[&str]>,
        #[case] expected: Result<&str, usize>,
    ) {
        let missing = missing.map(|texts| texts.iter().map(|text| (*text).to_owned()).collect());
        let options = CsvOptions { missing, ..CsvOptions::default() };
        let (needed, mut borders) = (Needed::new(3, 0..3), Borders::default());
        borders.structure.find(text.as_bytes(), options.dialect());
        let cells = BlockCells::find(text.as_bytes(), &mut borders, &needed, &options);
        let made = padded(text.as_bytes(), cells.ragged(), 3, &options);
        let made = made.map(|text| String::from_utf8(text).unwrap()).map_err(|row| row.cells);
        assert_eq!(made, expected.map(str::to_owned));
    }
}
