//! The options of `read`: what they are called, and what they say of the files.

use churn_core::Result;
use churn_expr::pattern;
use churn_io::csv::{BadCells, BadRows, CsvOptions, Encoding, Header};
use churn_io::sheet::SheetPart;

use crate::steps::options::{OptionKind, OptionValue, Setting};

/// What can be said of files that are read.
pub(crate) const OPTIONS: &[OptionKind] = &[
    OptionKind {
        name: "columns",
        usage: "columns = (a, b, …)",
        summary: "Names for a file without a heading, or new names.",
        example: "read 'quota.csv' with (columns = (farm, a, b, c, d, e, f))",
    },
    OptionKind {
        name: "types",
        usage: "types = (farm text, day date '%d/%m/%Y', …)",
        summary: "The types of these columns, dates with their pattern if they are not written 2026-01-31; the rest are inferred.",
        example: "read 'deliveries-2026.csv' with (types = (grade text))",
    },
    OptionKind {
        name: "header",
        usage: "header = true | false | N",
        summary: "Whether the table has a heading, or how many rows it takes.",
        example: "read 'prices.xlsx' with (header = 2)",
    },
    OptionKind {
        name: "header_join",
        usage: "header_join = ' | '",
        summary: "What stands between the parts of a heading of several rows.",
        example: "read 'prices.xlsx' with (header = 2, header_join = '/')",
    },
    OptionKind {
        name: "skip",
        usage: "skip = N",
        summary: "Lines, or rows of a workbook, before the table.",
        example: "read 'quota.csv' with (skip = 1)",
    },
    OptionKind {
        name: "comment",
        usage: "comment = '#'",
        summary: "Lines that begin so are no rows.",
        example: "read 'quota.csv' with (comment = '#')",
    },
    OptionKind {
        name: "separator",
        usage: "separator = ';' | tab",
        summary: "What stands between the cells of a row.",
        example: "read 'quota.csv' with (separator = ',')",
    },
    OptionKind {
        name: "quote",
        usage: "quote = '\"' | none",
        summary: "What stands around cells that hold a separator or a line end.",
        example: "read 'quota.csv' with (quote = none)",
    },
    OptionKind {
        name: "decimal",
        usage: "decimal = ','",
        summary: "What stands before the fraction of a number.",
        example: "read 'quota.csv' with (decimal = '.')",
    },
    OptionKind {
        name: "thousands",
        usage: "thousands = '.'",
        summary: "What stands between the thousands of a number.",
        example: "read 'quota.csv' with (thousands = ',')",
    },
    OptionKind {
        name: "encoding",
        usage: "encoding = 'utf-8' | 'utf-16' | 'latin1'",
        summary: "How characters are written as bytes.",
        example: "read 'quota.csv' with (encoding = 'utf-8')",
    },
    OptionKind {
        name: "missing",
        usage: "missing = ('', 'NA', '-')",
        summary: "Texts that mean null, in place of the empty cell.",
        example: "read 'deliveries-2026.csv' with (missing = ('', 'NA'))",
    },
    OptionKind {
        name: "dates",
        usage: "dates = '%d/%m/%Y'",
        summary: "The pattern of date columns that are not written 2026-01-31.",
        example: "read 'deliveries-2026.csv' with (dates = '%Y-%m-%d')",
    },
    OptionKind {
        name: "bad_cells",
        usage: "bad_cells = stop | null",
        summary: "What becomes of a cell that is not of its column's type.",
        example: "read 'deliveries-2026.csv' with (bad_cells = null)",
    },
    OptionKind {
        name: "bad_rows",
        usage: "bad_rows = stop | skip | pad | 'FILE'",
        summary: "What becomes of a row with the wrong number of cells: it stops the run, is left out, has nulls for those missing, or goes to a file.",
        example: "read 'deliveries-2026.csv' with (bad_rows = pad)",
    },
    OptionKind {
        name: "file_column",
        usage: "file_column = 'name'",
        summary: "A column that holds each row's file.",
        example: "read 'deliveries-*.csv' with (file_column = 'file')",
    },
    OptionKind {
        name: "format",
        usage: "format = csv | tsv | json | ndjson | parquet | arrow | avro | orc",
        summary: "The format, in place of the name's ending.",
        example: "read 'quota.csv' with (format = csv)",
    },
    OptionKind {
        name: "sheet",
        usage: "sheet = 'Prices' | N",
        summary: "The sheet of a workbook, by its name or number.",
        example: "read 'prices.xlsx' with (sheet = 1, header = 2)",
    },
    OptionKind {
        name: "area",
        usage: "area = 'B2:F20' | 'B2'",
        summary: "The part of a sheet, or all from a cell on.",
        example: "read 'prices.xlsx' with (area = 'A1', header = 2)",
    },
];

/// Sets one option.
pub(super) fn set(csv: &mut CsvOptions, setting: &Setting, value: &OptionValue) -> Result<()> {
    let one_byte = "one ASCII character in single quotes";
    match setting.name.as_str() {
        "columns" => csv.names = value.names().ok_or_else(|| setting.unfit("names: (farm, litres)"))?,
        "types" => {
            csv.types =
                value.typed().ok_or_else(|| setting.unfit("names with types: (farm text, day date)"))?;
            csv.patterns = value.patterns();
        }
        "header" => {
            csv.header = match (value.truth(), value.count()) {
                (Some(true), _) => Header::Rows(1),
                (Some(false), _) | (_, Some(0)) => Header::None,
                (_, Some(n @ 1..=20)) => Header::Rows(n),
                _ => return Err(setting.unfit("true, false, or the number of heading rows")),
            }
        }
        "header_join" => csv.header_join = value.text().ok_or_else(|| setting.unfit("a text"))?.to_owned(),
        "skip" => csv.skip = value.count().ok_or_else(|| setting.unfit("a number of lines"))?,
        "comment" => csv.comment = Some(value.byte().ok_or_else(|| setting.unfit(one_byte))?),
        "separator" => {
            csv.separator = value.byte().ok_or_else(|| setting.unfit("one ASCII character, or tab"))?
        }
        "quote" => {
            csv.quote = match value.word() {
                Some("none") => None,
                _ => Some(value.byte().ok_or_else(|| setting.unfit("one ASCII character, or none"))?),
            }
        }
        "decimal" => csv.decimal = value.byte().ok_or_else(|| setting.unfit(one_byte))?,
        "thousands" => csv.thousands = Some(value.byte().ok_or_else(|| setting.unfit(one_byte))?),
        "encoding" => {
            csv.encoding = match value.text().or(value.word()).map(str::to_ascii_lowercase).as_deref() {
                Some("utf-8" | "utf8") => Encoding::Utf8,
                Some("utf-16" | "utf16") => Encoding::Utf16,
                Some("latin1" | "latin-1" | "iso-8859-1" | "windows-1252") => Encoding::Latin1,
                _ => return Err(setting.unfit("'utf-8', 'utf-16' or 'latin1'")),
            }
        }
        "missing" => csv.missing = Some(value.texts().ok_or_else(|| setting.unfit("texts: ('', 'NA')"))?),
        "dates" => {
            let wanted = value.text().ok_or_else(|| setting.unfit("a pattern: '%d/%m/%Y'"))?;
            if let Some(fault) = pattern::fault(wanted) {
                return Err(setting
                    .unfit("a strftime pattern: '%d/%m/%Y'")
                    .why(format!("It cannot be used: {fault}.")));
            }
            csv.dates = Some(wanted.to_owned());
        }
        "bad_cells" => {
            csv.bad_cells = match value.word() {
                Some("stop") => BadCells::Stop,
                Some("null") => BadCells::Null,
                _ => return Err(setting.unfit("stop or null")),
            }
        }
        "bad_rows" => {
            csv.bad_rows = match (value.word(), value.text()) {
                (Some("stop"), _) => BadRows::Stop,
                (Some("skip"), _) => BadRows::Skip,
                (Some("pad"), _) => BadRows::Pad,
                (_, Some(path)) => BadRows::Rejects(path.to_owned()),
                _ => return Err(setting.unfit("stop, skip, pad, or a path in single quotes")),
            }
        }
        "file_column" => {
            let wanted =
                value.text().or(value.word()).ok_or_else(|| setting.unfit("a name in single quotes"))?;
            csv.file_column = Some(wanted.to_owned());
        }
        "format" => {}
        "sheet" => {
            let number = value.count().map(|n| n.to_string());
            let name = value.text().or(value.word()).map(str::to_owned);
            csv.part.sheet = Some(
                name.or(number)
                    .ok_or_else(|| setting.unfit("a sheet's name in single quotes, or its number"))?,
            );
        }
        "area" => {
            let area = value.text().filter(|text| SheetPart::is_area(text));
            csv.part.area = Some(
                area.ok_or_else(|| setting.unfit("an area: 'B2:F20', or 'B2' for all from there on"))?
                    .to_owned(),
            );
        }
        _ => return Err(setting.unknown(OPTIONS)),
    }
    Ok(())
}
