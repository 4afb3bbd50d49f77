//! How files are written.

use std::fmt;

/// How a file is compressed within, or as a whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Codec {
    /// No compression.
    None,
    /// Gzip.
    Gzip,
    /// Deflate.
    Deflate,
    /// Zstandard.
    Zstd,
    /// Snappy.
    Snappy,
    /// LZ4.
    Lz4,
    /// Brotli.
    Brotli,
    /// Bzip2.
    Bzip2,
    /// Xz.
    Xz,
}

/// The names of compressions.
const CODECS: [(&str, Codec); 9] = [
    ("none", Codec::None),
    ("gzip", Codec::Gzip),
    ("deflate", Codec::Deflate),
    ("zstd", Codec::Zstd),
    ("snappy", Codec::Snappy),
    ("lz4", Codec::Lz4),
    ("brotli", Codec::Brotli),
    ("bzip2", Codec::Bzip2),
    ("xz", Codec::Xz),
];

impl Codec {
    /// By name.
    pub fn named(word: &str) -> Option<Codec> {
        CODECS.iter().find(|(name, _)| *name == word).map(|(_, codec)| *codec)
    }

    /// The lowest and the highest level, where there are levels.
    pub fn levels(self) -> Option<(i32, i32)> {
        match self {
            Codec::Gzip | Codec::Deflate | Codec::Xz => Some((0, 9)),
            Codec::Bzip2 => Some((1, 9)),
            Codec::Zstd => Some((1, 22)),
            Codec::Brotli => Some((0, 11)),
            _ => None,
        }
    }
}

impl fmt::Display for Codec {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = CODECS.iter().find(|(_, codec)| codec == self);
        f.write_str(name.map_or("none", |(name, _)| name))
    }
}

/// The encoding of text that is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum TextEncoding {
    /// UTF-8 without a mark of byte order.
    #[default]
    Utf8,
    /// UTF-8 with a mark, as some spreadsheets want it.
    Utf8Marked,
    /// UTF-16, the low byte first, with a mark.
    Utf16,
    /// Windows-1252, of which Latin-1 is most.
    Latin1,
}

/// The names of encodings.
const ENCODINGS: [(&str, TextEncoding); 4] = [
    ("utf-8", TextEncoding::Utf8),
    ("utf-8-bom", TextEncoding::Utf8Marked),
    ("utf-16", TextEncoding::Utf16),
    ("latin1", TextEncoding::Latin1),
];

impl TextEncoding {
    /// By name.
    pub fn named(word: &str) -> Option<TextEncoding> {
        ENCODINGS.iter().find(|(name, _)| name.eq_ignore_ascii_case(word)).map(|(_, encoding)| *encoding)
    }
}

/// How a file is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WriteOptions {
    /// The byte between cells.
    pub separator: u8,
    /// Whether names are written first.
    pub header: bool,
    /// What is written for null.
    pub missing: String,
    /// Whether every cell is quoted.
    pub quote_always: bool,
    /// The byte before the decimals of numbers.
    pub decimal: u8,
    /// Whether lines end with a carriage return and a line feed.
    pub crlf: bool,
    /// The encoding of text.
    pub encoding: TextEncoding,
    /// The name of the sheet of a workbook.
    pub sheet: Option<String>,
    /// The place of the table among those of its file.
    pub order: usize,
    /// How a workbook shows the numbers and dates of some columns.
    pub number_formats: Vec<(String, String)>,
    /// The compression, where the format's own is not wanted.
    pub codec: Option<Codec>,
    /// The level of compression.
    pub level: Option<i32>,
    /// Columns that the rows are sorted by: name, descending, nulls first.
    pub sorted_by: Vec<(String, bool, bool)>,
    /// Columns by whose values rows go to files of their own, in a folder.
    pub split_by: Vec<String>,
}

impl Default for WriteOptions {
    fn default() -> Self {
        WriteOptions {
            separator: b',',
            header: true,
            missing: String::new(),
            quote_always: false,
            decimal: b'.',
            crlf: false,
            encoding: TextEncoding::Utf8,
            sheet: None,
            order: 0,
            number_formats: Vec::new(),
            codec: None,
            level: None,
            sorted_by: Vec::new(),
            split_by: Vec::new(),
        }
    }
}
