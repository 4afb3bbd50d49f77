//! What options say of the sheets of workbooks.

/// Which part of a workbook is read.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SheetPart {
    /// A sheet's name, or its number from 1; else the first sheet that holds anything.
    pub sheet: Option<String>,
    /// `B2:F20`, or `B2` and all that is right of it and below.
    pub area: Option<String>,
}

/// Characters that the name of a sheet may not have, and the most that it may have.
const NOT_IN_NAMES: [char; 7] = ['[', ']', ':', '*', '?', '/', '\\'];
const LONGEST_NAME: usize = 31;

/// Why a sheet cannot have a name, if it cannot.
pub fn fault_of_name(name: &str) -> Option<String> {
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Some(format!("it has from 1 to {LONGEST_NAME} characters"));
    }
    if let Some(c) = name.chars().find(|c| NOT_IN_NAMES.contains(c)) {
        return Some(format!("it has no {c}"));
    }
    (name.starts_with('\'') || name.ends_with('\'')).then(|| "no apostrophe stands at its ends".to_owned())
}

/// Columns of a sheet at most.
pub(crate) const MOST_COLUMNS: u32 = 16_384;

/// Rows of a sheet at most.
pub(crate) const MOST_ROWS: u32 = 1 << 20;

/// A place in a sheet, from 0: row and column.
pub(crate) type Corner = (u32, u32);

/// A corner of an area; `None` if a sheet has no such place.
fn corner(text: &str) -> Option<Corner> {
    let letters = text.chars().take_while(char::is_ascii_alphabetic).count();
    let (column, row) = text.split_at_checked(letters)?;
    let digit = |c: char| u32::from(c.to_ascii_uppercase() as u8 - b'A') + 1;
    let column = column.chars().try_fold(0u32, |all, c| all.checked_mul(26)?.checked_add(digit(c)))?;
    let (row, column) = (row.parse::<u32>().ok()?.checked_sub(1)?, column.checked_sub(1)?);
    is_place((row, column)).then_some((row, column))
}

/// Whether a sheet has this place.
pub(crate) fn is_place((row, column): Corner) -> bool {
    row < MOST_ROWS && column < MOST_COLUMNS
}

/// The corners of an area: `B2:F20`, or `B2` and what follows; `None` if it is none.
pub(crate) fn corners(area: &str) -> Option<(Corner, Option<Corner>)> {
    match area.split_once(':') {
        Some((from, to)) => {
            let (from, to) = (corner(from)?, corner(to)?);
            (from.0 <= to.0 && from.1 <= to.1).then_some((from, Some(to)))
        }
        None => Some((corner(area)?, None)),
    }
}

impl SheetPart {
    /// Whether an area can be read.
    pub fn is_area(text: &str) -> bool {
        corners(text).is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn areas_are_read() {
        assert_eq!(corners("B2:F20"), Some(((1, 1), Some((19, 5)))));
        assert_eq!(corners("aa10"), Some(((9, 26), None)));
        for wrong in ["", "B", "7", "B0", "F20:B2", "B2:"] {
            assert_eq!(corners(wrong), None, "{wrong}");
        }
    }
}
