//! The options of reading, as data.

use churn_core::{Scalar, Type};
use churn_io::csv::{BadCells, BadRows, Encoding};

use crate::steps::options::{Element, Setting};

/// How files are read: all of `with (…)`. What is not said is inferred, or as it is usual.
///
/// ```
/// use churn::{BadCells, Flow, ReadOptions, Type};
/// let options = ReadOptions::new().type_of("collected_on", Type::Date).bad_cells(BadCells::Null).separator(';');
/// let flow = Flow::read_with("deliveries-*.csv", options);
/// assert_eq!(
///     flow.to_string(),
///     "read 'deliveries-*.csv' with (types = (collected_on date), bad_cells = null, separator = ';')\n"
/// );
/// ```
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
#[must_use]
pub struct ReadOptions(pub(super) Vec<Setting>);

impl ReadOptions {
    /// Nothing is said yet.
    pub fn new() -> ReadOptions {
        ReadOptions::default()
    }

    fn with(mut self, setting: Setting) -> ReadOptions {
        self.0.retain(|other| other.name != setting.name);
        self.0.push(setting);
        self
    }

    /// Adds to a list, at the place where it stands.
    fn with_element(mut self, name: &str, element: Element) -> ReadOptions {
        match self.0.iter_mut().find(|setting| setting.name == name) {
            Some(setting) => setting.push(element),
            None => self.0.push(Setting::list(name, [element])),
        }
        self
    }

    /// The type of a column; of those that are not named it is inferred.
    pub fn type_of(self, column: &str, kind: Type) -> ReadOptions {
        self.with_element("types", Element::Typed(column.to_owned(), kind, None))
    }

    /// The type of a column of dates or times, and the strftime pattern that they are written in.
    pub fn pattern_of(self, column: &str, kind: Type, pattern: &str) -> ReadOptions {
        self.with_element("types", Element::Typed(column.to_owned(), kind, Some(pattern.to_owned())))
    }

    /// Names for a file without a heading, or new names.
    pub fn columns<T: Into<String>>(self, names: impl IntoIterator<Item = T>) -> ReadOptions {
        self.with(Setting::list("columns", names.into_iter().map(|name| Element::Name(name.into()))))
    }

    /// How many rows the heading takes; none if the file has no heading.
    pub fn header_rows(self, rows: usize) -> ReadOptions {
        self.with(Setting::count("header", rows))
    }

    /// What stands between the parts of a heading of several rows.
    pub fn header_join(self, text: &str) -> ReadOptions {
        self.with(Setting::text("header_join", text))
    }

    /// Lines, or rows of a workbook, before the table.
    pub fn skip(self, lines: usize) -> ReadOptions {
        self.with(Setting::count("skip", lines))
    }

    /// Lines that begin with this character are no rows.
    pub fn comment(self, with: char) -> ReadOptions {
        self.with(Setting::text("comment", &with.to_string()))
    }

    /// What stands between the cells of a row.
    pub fn separator(self, separator: char) -> ReadOptions {
        self.with(Setting::text("separator", &separator.to_string()))
    }

    /// What stands around cells that hold a separator or a line end; `None` if nothing does.
    pub fn quote(self, quote: Option<char>) -> ReadOptions {
        self.with(match quote {
            Some(quote) => Setting::text("quote", &quote.to_string()),
            None => Setting::word("quote", "none"),
        })
    }

    /// What stands before the fraction of a number.
    pub fn decimal(self, mark: char) -> ReadOptions {
        self.with(Setting::text("decimal", &mark.to_string()))
    }

    /// What stands between the thousands of a number.
    pub fn thousands(self, mark: char) -> ReadOptions {
        self.with(Setting::text("thousands", &mark.to_string()))
    }

    /// How characters are written as bytes.
    pub fn encoding(self, encoding: Encoding) -> ReadOptions {
        self.with(Setting::text(
            "encoding",
            match encoding {
                Encoding::Utf8 => "utf-8",
                Encoding::Utf16 => "utf-16",
                Encoding::Latin1 => "latin1",
            },
        ))
    }

    /// Texts that mean null, in place of the empty cell.
    pub fn missing<T: Into<String>>(self, texts: impl IntoIterator<Item = T>) -> ReadOptions {
        self.with(Setting::list("missing", texts.into_iter().map(|text| Element::Text(text.into()))))
    }

    /// The strftime pattern of date columns that are not written 2026-01-31.
    pub fn dates(self, pattern: &str) -> ReadOptions {
        self.with(Setting::text("dates", pattern))
    }

    /// What becomes of a cell that is not of its column's type.
    pub fn bad_cells(self, what: BadCells) -> ReadOptions {
        self.with(Setting::word("bad_cells", if what == BadCells::Stop { "stop" } else { "null" }))
    }

    /// What becomes of a row with the wrong number of cells.
    pub fn bad_rows(self, what: BadRows) -> ReadOptions {
        self.with(match what {
            BadRows::Stop => Setting::word("bad_rows", "stop"),
            BadRows::Skip => Setting::word("bad_rows", "skip"),
            BadRows::Pad => Setting::word("bad_rows", "pad"),
            BadRows::Rejects(file) => Setting::text("bad_rows", &file),
        })
    }

    /// A column that holds each row's file.
    pub fn file_column(self, name: &str) -> ReadOptions {
        self.with(Setting::text("file_column", name))
    }

    /// The format by its name, in place of the file name's ending.
    pub fn format(self, format: &str) -> ReadOptions {
        self.with(Setting::text("format", format))
    }

    /// The sheet of a workbook by its name.
    pub fn sheet(self, name: &str) -> ReadOptions {
        self.with(Setting::text("sheet", name))
    }

    /// The part of a sheet: `B2:F20`, or `B2` for all from there on.
    pub fn area(self, area: &str) -> ReadOptions {
        self.with(Setting::text("area", area))
    }

    /// An option by its name, as the language writes it.
    pub fn option(self, name: &str, value: impl Into<Scalar>) -> ReadOptions {
        self.with(Setting::literal(name, value.into()))
    }
}
