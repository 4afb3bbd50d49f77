//! The cells that are held of an `.xls` file: all of the area that the corners of a sheet span.
//!
//! The file is a compound file whose stream `Workbook` or `Book` is a list of records, each with its type and its length
//! in front. A record of a cell begins with the cell's row and column.

use std::io::{BufReader, Read};
use std::path::Path;

/// Types of records: the start of a sheet, and of cells with a value: number, text, truth, formula, and several numbers
/// in a row, whose last column stands at the end.
const SHEET: u16 = 0x0809;
const CELLS: [u16; 8] = [0x0203, 0x027e, 0x00fd, 0x0204, 0x00d6, 0x0205, 0x0006, NUMBERS];
const NUMBERS: u16 = 0x00bd;

/// How many cells are held of all sheets; `None` if the file is no such workbook.
pub(super) fn cells(file: &Path) -> Option<u64> {
    let mut compound = cfb::open(file).ok()?;
    let name = ["Workbook", "Book"].into_iter().find(|name| compound.is_stream(name))?;
    let mut records = BufReader::new(compound.open_stream(name).ok()?);
    let (mut all, mut area) = (0, Area::default());
    let mut head = [0; 4];
    while records.read_exact(&mut head).is_ok() {
        let [a, b, c, d] = head;
        let (kind, length) = (u16::from_le_bytes([a, b]), u16::from_le_bytes([c, d]));
        let mut data = vec![0; usize::from(length)];
        if records.read_exact(&mut data).is_err() {
            break;
        }
        if kind == SHEET {
            all += std::mem::take(&mut area).cells();
        } else if CELLS.contains(&kind) {
            area.see(kind, &data);
        }
    }
    Some(all + area.cells())
}

/// The first and the last row and column of the cells of a sheet.
#[derive(Default)]
struct Area(Option<[u16; 4]>);

impl Area {
    fn see(&mut self, kind: u16, data: &[u8]) {
        let Some(&[a, b, c, d]) = data.first_chunk() else { return };
        let (row, column) = (u16::from_le_bytes([a, b]), u16::from_le_bytes([c, d]));
        let last = match data.last_chunk() {
            Some(last) if kind == NUMBERS => u16::from_le_bytes(*last).max(column),
            _ => column,
        };
        let [top, left, bottom, right] = self.0.get_or_insert([row, column, row, last]);
        (*top, *left) = (row.min(*top), column.min(*left));
        (*bottom, *right) = (row.max(*bottom), last.max(*right));
    }

    fn cells(self) -> u64 {
        let [top, left, bottom, right] = self.0.map(|area| area.map(u64::from)).unwrap_or([1, 0, 0, 0]);
        (bottom + 1 - top) * (right + 1 - left)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Write;

    /// A file of sheets, each of cells by row and column.
    fn file(sheets: &[Vec<(u16, u16)>]) -> tempfile::NamedTempFile {
        let mut stream = Vec::new();
        let mut record = |kind: u16, data: &[u8]| {
            stream.extend_from_slice(&kind.to_le_bytes());
            stream.extend_from_slice(&(data.len() as u16).to_le_bytes());
            stream.extend_from_slice(data);
        };
        for sheet in sheets {
            record(SHEET, &[0, 6, 0x10, 0]);
            for (row, column) in sheet {
                let place = [row.to_le_bytes(), column.to_le_bytes(), [0, 0]].concat();
                record(0x0203, &[place, 1f64.to_le_bytes().to_vec()].concat());
            }
            record(0x000a, &[]);
        }
        let file = tempfile::NamedTempFile::new().unwrap();
        let mut compound = cfb::CompoundFile::create(file.reopen().unwrap()).unwrap();
        compound.create_stream("Workbook").unwrap().write_all(&stream).unwrap();
        compound.flush().unwrap();
        file
    }

    #[rstest]
    #[case(vec![], 0)]
    #[case(vec![vec![]], 0)]
    #[case(vec![vec![(3, 3)]], 1)]
    #[case(vec![vec![(0, 0), (9, 4)], vec![(2, 2), (1, 3)]], 54)]
    #[case(vec![vec![(0, 0), (65_535, 65_535)]], 1 << 32)]
    fn areas_are_counted(#[case] sheets: Vec<Vec<(u16, u16)>>, #[case] expected: u64) {
        assert_eq!(cells(file(&sheets).path()), Some(expected));
    }

    #[test]
    fn several_numbers_end_at_their_last_column() {
        let mut area = Area::default();
        area.see(NUMBERS, &[1, 0, 2, 0, 0, 0, 0, 0, 9, 0]);
        assert_eq!(area.cells(), 8);
    }

    #[test]
    fn other_files_are_no_workbook() {
        assert_eq!(cells(Path::new("Cargo.toml")), None);
    }
}
