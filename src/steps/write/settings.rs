//! The options of writing, as data.

use churn_core::Scalar;
use churn_io::format::TextEncoding;
use churn_io::target::Mode;

use crate::steps::options::{Element, Setting};

/// How a file is written: all of `with (…)`. What is not said is as it is usual in the format.
///
/// ```
/// use churn::{WriteMode, WriteOptions, steps};
/// let write = steps::Write::new("by-farm.csv").with(WriteOptions::new().separator(';').mode(WriteMode::New));
/// assert_eq!(write.to_string(), "write 'by-farm.csv' with (separator = ';', mode = new)");
/// ```
#[derive(Clone, Debug, Default, PartialEq)]
#[non_exhaustive]
#[must_use]
pub struct WriteOptions(pub(super) Vec<Setting>);

impl WriteOptions {
    /// Nothing is said yet.
    pub fn new() -> WriteOptions {
        WriteOptions::default()
    }

    fn with(mut self, setting: Setting) -> WriteOptions {
        self.0.retain(|other| other.name != setting.name);
        self.0.push(setting);
        self
    }

    /// The format by its name, in place of the file name's ending.
    pub fn format(self, format: &str) -> WriteOptions {
        self.with(Setting::text("format", format))
    }

    /// What becomes of a file that is there.
    pub fn mode(self, mode: Mode) -> WriteOptions {
        self.with(Setting::word(
            "mode",
            match mode {
                Mode::Replace => "replace",
                Mode::New => "new",
                Mode::Append => "append",
            },
        ))
    }

    /// What stands between the cells of a row of text.
    pub fn separator(self, separator: char) -> WriteOptions {
        self.with(Setting::text("separator", &separator.to_string()))
    }

    /// Whether text begins with the columns' names.
    pub fn header(self, has_header: bool) -> WriteOptions {
        self.with(Setting::literal("header", Scalar::Bool(has_header)))
    }

    /// The text that null is written as.
    pub fn missing(self, text: &str) -> WriteOptions {
        self.with(Setting::text("missing", text))
    }

    /// Whether all texts stand in quotes, or those that need them.
    pub fn quote_always(self, always: bool) -> WriteOptions {
        self.with(Setting::word("quote", if always { "always" } else { "needed" }))
    }

    /// What stands before the decimals of numbers in text.
    pub fn decimal(self, mark: char) -> WriteOptions {
        self.with(Setting::text("decimal", &mark.to_string()))
    }

    /// The encoding of text.
    pub fn encoding(self, encoding: TextEncoding) -> WriteOptions {
        self.with(Setting::text(
            "encoding",
            match encoding {
                TextEncoding::Utf8 => "utf-8",
                TextEncoding::Utf8Marked => "utf-8-bom",
                TextEncoding::Utf16 => "utf-16",
                TextEncoding::Latin1 => "latin1",
            },
        ))
    }

    /// Whether lines of text end with a return and a line feed.
    pub fn crlf(self, crlf: bool) -> WriteOptions {
        self.with(Setting::word("line_end", if crlf { "crlf" } else { "lf" }))
    }

    /// The name of a workbook's sheet.
    pub fn sheet(self, name: &str) -> WriteOptions {
        self.with(Setting::text("sheet", name))
    }

    /// How a column of a workbook is shown.
    pub fn number_format(mut self, column: &str, format: &str) -> WriteOptions {
        let element = Element::Shown(column.to_owned(), format.to_owned());
        match self.0.iter_mut().find(|setting| setting.name == "number_formats") {
            Some(setting) => setting.push(element),
            None => self.0.push(Setting::list("number_formats", [element])),
        }
        self
    }

    /// The compression by its name: `none`, `zstd`, `snappy`, `gzip`, `lz4`, `brotli`, `deflate`, `bzip2`, `xz`.
    pub fn compression(self, codec: &str) -> WriteOptions {
        self.with(Setting::text("compression", codec))
    }

    /// How hard is compressed.
    pub fn level(self, level: usize) -> WriteOptions {
        self.with(Setting::count("level", level))
    }

    /// A folder of files, one for the rows of each value of these columns.
    pub fn split_by<T: Into<String>>(self, columns: impl IntoIterator<Item = T>) -> WriteOptions {
        self.with(Setting::list("split_by", columns.into_iter().map(|name| Element::Name(name.into()))))
    }

    /// An option by its name, as the language writes it.
    pub fn option(self, name: &str, value: impl Into<Scalar>) -> WriteOptions {
        self.with(Setting::literal(name, value.into()))
    }
}
