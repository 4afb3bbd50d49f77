//! How delimited text is written, and what to do with what does not fit.

use churn_core::{Error, ErrorKind, Result, Type};

use crate::sheet::SheetPart;

/// What to do with a cell that is not of its column's type.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum BadCells {
    #[default]
    /// The run stops.
    Stop,
    /// The cell becomes null.
    Null,
}

/// What to do with a row with the wrong number of cells.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum BadRows {
    #[default]
    /// The run stops.
    Stop,
    /// The row is left out.
    Skip,
    /// Left out and written to this file.
    Rejects(String),
    /// One with too few cells has nulls in their place; one with too many stops the run.
    Pad,
}

/// Where the names of the columns stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Header {
    /// In the first so many rows.
    Rows(usize),
    /// Nowhere.
    None,
    /// Nothing was said: in the first row, unless names are given and that row fits the types of those below it.
    Unsaid,
}

impl Header {
    /// The rows that are read as the heading first.
    pub(super) fn rows(self) -> usize {
        match self {
            Header::Rows(rows) => rows,
            Header::None => 0,
            Header::Unsaid => 1,
        }
    }
}

/// The encoding of the bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Encoding {
    #[default]
    /// UTF-8, with or without a mark.
    Utf8,
    /// UTF-16; its mark tells the order of bytes.
    Utf16,
    /// Windows-1252, which holds Latin-1.
    Latin1,
}

/// All options of reading delimited text.
#[derive(Clone, Debug, PartialEq)]
pub struct CsvOptions {
    /// The byte between cells.
    pub separator: u8,
    /// The byte around cells that hold separators, if any.
    pub quote: Option<u8>,
    /// The byte that starts a line that is no row, if any.
    pub comment: Option<u8>,
    /// Which rows hold the names.
    pub header: Header,
    /// What stands between the parts of a name that comes from several rows.
    pub header_join: String,
    /// Lines before the heading that are left out.
    pub skip: usize,
    /// Names in place of the file's.
    pub names: Vec<String>,
    /// Types that are declared, by name.
    pub types: Vec<(String, Type)>,
    /// The decimal point.
    pub decimal: u8,
    /// The byte between groups of digits, if any.
    pub thousands: Option<u8>,
    /// How bytes are characters.
    pub encoding: Encoding,
    /// Texts that mean null; without them the empty cell without quotes.
    pub missing: Option<Vec<String>>,
    /// The pattern of dates.
    pub dates: Option<String>,
    /// The patterns of single columns, whose types are told.
    pub patterns: Vec<(String, String)>,
    /// What becomes of a cell that is not of its column's type.
    pub bad_cells: BadCells,
    /// What becomes of a row with the wrong number of cells.
    pub bad_rows: BadRows,
    /// The name of a further column with the file's path.
    pub file_column: Option<String>,
    /// Which part of a workbook, if it is one.
    pub part: SheetPart,
}

impl Default for CsvOptions {
    fn default() -> Self {
        CsvOptions {
            separator: b',',
            quote: Some(b'"'),
            comment: None,
            header: Header::Unsaid,
            header_join: " | ".into(),
            skip: 0,
            names: Vec::new(),
            types: Vec::new(),
            decimal: b'.',
            thousands: None,
            encoding: Encoding::Utf8,
            missing: None,
            dates: None,
            patterns: Vec::new(),
            bad_cells: BadCells::Stop,
            bad_rows: BadRows::Stop,
            file_column: None,
            part: SheetPart::default(),
        }
    }
}

impl CsvOptions {
    /// The pattern that a column's dates are written by, if one is told.
    pub(super) fn pattern_of(&self, column: &str) -> Option<&str> {
        let own = self.patterns.iter().find(|(name, _)| name == column).map(|(_, pattern)| pattern);
        own.or(self.dates.as_ref()).map(String::as_str)
    }

    /// Checks that the bytes that structure the text and its numbers are told from each other.
    ///
    /// # Errors
    /// Two of them are the same.
    pub fn apart(&self) -> Result<()> {
        let same = [
            ("separator", "quote", Some(self.separator) == self.quote),
            ("separator", "comment", Some(self.separator) == self.comment),
            ("quote", "comment", self.quote.is_some() && self.quote == self.comment),
            ("decimal", "thousands", Some(self.decimal) == self.thousands),
        ];
        match same.iter().find(|(.., is_same)| *is_same) {
            None => Ok(()),
            Some((one, other, _)) => {
                Err(Error::new(ErrorKind::Check, format!("{one} and {other} are the same character."))
                    .why("They could not be told from each other in the file.")
                    .next("Look at the file, and name a character of its own for each."))
            }
        }
    }

    /// The bytes that structure the text.
    pub(crate) fn dialect(&self) -> churn_kernels::structure::Dialect {
        churn_kernels::structure::Dialect {
            separator: self.separator,
            quote: self.quote,
            comment: self.comment,
        }
    }
}
