//! The options of `write`.

use churn_core::names::comma;
use churn_core::{Error, ErrorKind, Result};
use churn_io::format::{Codec, Format, Formats, TextEncoding, WriteOptions};
use churn_io::sheet::fault_of_name;
use churn_io::target::Mode;

use crate::steps::options::{OptionKind, OptionValue, Setting};

/// What can be said of a file that is written.
pub(crate) const OPTIONS: &[OptionKind] = &[
    OptionKind {
        name: "format",
        usage: "format = csv | tsv | json | ndjson | parquet | arrow | avro | xlsx | markdown",
        summary: "The format, in place of the name's ending.",
        example: "write 'worth.txt' with (format = csv)",
    },
    OptionKind {
        name: "mode",
        usage: "mode = replace | new | append",
        summary: "What becomes of a file that is there: replaced, refused, or added to.",
        example: "write 'worth.csv' with (mode = new)",
    },
    OptionKind {
        name: "separator",
        usage: "separator = ';' | tab",
        summary: "What stands between the cells of a row of text.",
        example: "write 'worth.csv' with (separator = ';')",
    },
    OptionKind {
        name: "header",
        usage: "header = true | false",
        summary: "Whether text begins with the columns' names.",
        example: "write 'worth.csv' with (header = false)",
    },
    OptionKind {
        name: "missing",
        usage: "missing = 'NA'",
        summary: "The text that null is written as.",
        example: "write 'worth.csv' with (missing = 'NA')",
    },
    OptionKind {
        name: "quote",
        usage: "quote = needed | always",
        summary: "Whether all texts stand in quotes, or those that need them.",
        example: "write 'worth.csv' with (quote = always)",
    },
    OptionKind {
        name: "decimal",
        usage: "decimal = ','",
        summary: "What stands before the decimals of numbers in text.",
        example: "write 'worth.csv' with (separator = ';', decimal = ',')",
    },
    OptionKind {
        name: "encoding",
        usage: "encoding = 'utf-8' | 'utf-8-bom' | 'utf-16' | 'latin1'",
        summary: "The encoding of text; utf-8-bom has a mark of byte order, as some spreadsheets want it.",
        example: "write 'worth.csv' with (encoding = 'utf-8-bom')",
    },
    OptionKind {
        name: "line_end",
        usage: "line_end = lf | crlf",
        summary: "What stands behind each line of text.",
        example: "write 'worth.csv' with (line_end = crlf)",
    },
    OptionKind {
        name: "sheet",
        usage: "sheet = 'NAME'",
        summary: "The sheet of a workbook; several steps may write sheets of one workbook.",
        example: "write 'worth.xlsx' with (sheet = 'Deliveries')",
    },
    OptionKind {
        name: "number_formats",
        usage: "number_formats = (COLUMN 'FORMAT', …)",
        summary: "How a workbook shows the numbers and dates of some columns.",
        example: "write 'worth.xlsx' with (number_formats = (litres '#,##0.0'))",
    },
    OptionKind {
        name: "compression",
        usage: "compression = none | zstd | snappy | gzip | lz4 | brotli | deflate | bzip2 | xz",
        summary: "How a columnar file is compressed within.",
        example: "write 'worth.parquet' with (compression = zstd)",
    },
    OptionKind {
        name: "level",
        usage: "level = N",
        summary: "How hard a columnar file is compressed.",
        example: "write 'worth.parquet' with (compression = zstd, level = 9)",
    },
    OptionKind {
        name: "split_by",
        usage: "split_by = (a, b)",
        summary: "A folder of files, one for each value of these columns.",
        example: "write 'by_farm' with (split_by = (farm), format = parquet)",
    },
];

/// How a file is written, as the options of a step say it.
pub(super) struct Written {
    pub(super) options: WriteOptions,
    pub(super) mode: Mode,
    pub(super) format: Option<Format>,
}

/// Sets an option.
///
/// # Errors
/// There is no such option, or it does not take such a value.
pub(super) fn set(
    written: &mut Written,
    setting: &Setting,
    value: &OptionValue,
    formats: &Formats,
) -> Result<()> {
    let Written { options: write, mode, format } = written;
    match setting.name.as_str() {
        "format" => *format = Some(formats.named(value.word().or(value.text()).unwrap_or_default())?),
        "mode" => {
            *mode = match value.word().or(value.text()) {
                Some("replace") => Mode::Replace,
                Some("new") => Mode::New,
                Some("append") => Mode::Append,
                _ => return Err(setting.unfit("replace, new or append")),
            }
        }
        "separator" => {
            write.separator = value.byte().ok_or_else(|| setting.unfit("one ASCII character, or tab"))?
        }
        "header" => write.header = value.truth().ok_or_else(|| setting.unfit("true or false"))?,
        "missing" => write.missing = value.text().ok_or_else(|| setting.unfit("a text"))?.to_owned(),
        "quote" => {
            write.quote_always = match value.word() {
                Some("needed") => false,
                Some("always") => true,
                _ => return Err(setting.unfit("needed or always")),
            }
        }
        "decimal" => {
            let byte = value.byte().filter(|byte| byte.is_ascii_punctuation() && *byte != b'-');
            write.decimal = byte.ok_or_else(|| setting.unfit("one ASCII character, such as ','"))?;
        }
        "encoding" => {
            let encoding = value.text().or(value.word()).and_then(TextEncoding::named);
            write.encoding =
                encoding.ok_or_else(|| setting.unfit("'utf-8', 'utf-8-bom', 'utf-16' or 'latin1'"))?;
        }
        "line_end" => {
            write.crlf = match value.word() {
                Some("lf") => false,
                Some("crlf") => true,
                _ => return Err(setting.unfit("lf or crlf")),
            }
        }
        "sheet" => {
            let name = value.text().ok_or_else(|| setting.unfit("a text: sheet = 'Farms'"))?;
            if let Some(fault) = fault_of_name(name) {
                let error = Error::new(ErrorKind::Check, format!("A sheet cannot be called '{name}'."));
                return Err(error.why(format!("Of the name of a sheet, {fault}.")));
            }
            write.sheet = Some(name.to_owned());
        }
        "number_formats" => {
            let formats =
                value.shown().ok_or_else(|| setting.unfit("columns with formats: (litres '#,##0.0')"))?;
            write.number_formats = formats;
        }
        "compression" => {
            let codec = value.word().or(value.text()).and_then(Codec::named);
            let wanted = "none, gzip, zstd, snappy, lz4, brotli, deflate, bzip2 or xz";
            write.codec = Some(codec.ok_or_else(|| setting.unfit(wanted))?);
        }
        "split_by" => {
            let one = || value.word().map(|name| vec![name.to_owned()]);
            let names = value.names().or_else(one);
            write.split_by = names.ok_or_else(|| setting.unfit("names: (year, month)"))?;
        }
        "level" => {
            let level = value.count().and_then(|n| i32::try_from(n).ok());
            write.level = Some(level.ok_or_else(|| setting.unfit("a whole number"))?);
        }
        _ => return Err(setting.unknown(OPTIONS)),
    }
    Ok(())
}

/// Checks that an option means something to files of a format.
///
/// # Errors
/// It does not.
pub(super) fn fits_format(setting: &Setting, format: &Format, options: &WriteOptions) -> Result<()> {
    let wrong = |what: &str, next: &str| Err(Error::new(ErrorKind::Check, what).next(next));
    match setting.name.as_str() {
        "compression" if format.is_text() && options.codec.is_some_and(|c| c != Codec::None) => wrong(
            "compression is for columnar files.",
            "Text is compressed by its name: out.csv.gz, out.csv.zst.",
        ),
        "compression" => match options.codec {
            Some(codec) if !format.codecs().contains(&codec) => {
                let what = format!("{format} files are not compressed with {codec}.");
                let next = format!("They can be compressed with {}.", comma(format.codecs()));
                Err(Error::new(ErrorKind::Check, what).next(next))
            }
            _ => Ok(()),
        },
        "level" => {
            let levels = options.codec.filter(|_| format.has_levels()).and_then(Codec::levels);
            let Some((low, high)) = levels else {
                let next = "Say with (compression = zstd, level = 9) of a Parquet or Avro file, or leave the option out.";
                return wrong(
                    "level is for the compressions gzip, deflate, zstd, brotli, bzip2 and xz of Parquet and Avro files.",
                    next,
                );
            };
            if options.level.is_some_and(|level| (low..=high).contains(&level)) {
                return Ok(());
            }
            Err(setting.unfit(&format!("a whole number from {low} to {high} with this compression")))
        }
        "separator" if options.separator == b'"' => {
            wrong("A quote cannot separate cells.", "Texts that hold the separator stand in quotes.")
        }
        "separator" | "header" | "missing" | "quote" | "decimal" | "encoding" | "line_end"
            if format.separator(options).is_none() =>
        {
            wrong(&format!("{} is for delimited text.", setting.name), "Leave the option out.")
        }
        "decimal" if format.separator(options) == Some(options.decimal) => wrong(
            "decimal and separator are the same character.",
            "Say with (separator = ';', decimal = ','), so that they can be told from each other.",
        ),
        "sheet" | "number_formats" if !format.has_sheets() => {
            wrong(&format!("{} is for workbooks.", setting.name), "Leave the option out.")
        }
        _ => Ok(()),
    }
}
