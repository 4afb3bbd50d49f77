//! How delimited text is written, and what to do with what does not fit.

use crate::error::{Error, ErrorKind, Result};
use crate::expr::Type;
use crate::io::workbook::SheetPart;

/// What to do with a cell that is not of its column's type.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum BadCells {
    #[default]
    Stop,
    Null,
}

/// What to do with a row with the wrong number of cells.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) enum BadRows {
    #[default]
    Stop,
    Skip,
    /// Left out and written to this file.
    Rejects(String),
}

/// Where the names of the columns stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Header {
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
pub(crate) enum Encoding {
    #[default]
    Utf8,
    Utf16,
    Latin1,
}

/// All options of reading delimited text.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct CsvOptions {
    pub(crate) separator: u8,
    pub(crate) quote: Option<u8>,
    pub(crate) comment: Option<u8>,
    pub(crate) header: Header,
    pub(crate) header_join: String,
    pub(crate) skip: usize,
    pub(crate) names: Vec<String>,
    pub(crate) types: Vec<(String, Type)>,
    pub(crate) decimal: u8,
    pub(crate) thousands: Option<u8>,
    pub(crate) encoding: Encoding,
    /// Texts that mean null; without them the empty cell without quotes.
    pub(crate) missing: Option<Vec<String>>,
    pub(crate) dates: Option<String>,
    pub(crate) bad_cells: BadCells,
    pub(crate) bad_rows: BadRows,
    pub(crate) file_column: Option<String>,
    /// Which part of a workbook, if it is one.
    pub(crate) part: SheetPart,
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
            bad_cells: BadCells::Stop,
            bad_rows: BadRows::Stop,
            file_column: None,
            part: SheetPart::default(),
        }
    }
}

impl CsvOptions {
    /// Checks that the bytes that structure the text and its numbers are told from each other.
    ///
    /// # Errors
    /// Two of them are the same.
    pub(crate) fn apart(&self) -> Result<()> {
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
