//! `write 'PATH' [with (…)]`: writes what flows here.

use std::fmt;

use churn_core::error::nearest;
use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Result, Span};
use churn_io::format::{Codec, Format, WriteOptions};
use churn_io::part;
use churn_io::split::may_stand_at;
use churn_io::target::{self, Mode, starts_with};
use churn_plan::{Relation, operators};

use super::checker::Path;
use super::options::{self, OptionKind, Setting};
use super::{Checker, Step, StepKind};
use crate::lang::text::Cursor;

pub(super) const KIND: StepKind = StepKind {
    keyword: "write",
    usage: "write 'PATH' [with (option = value, …)]",
    summary: "Writes what flows here, at the end of a chain or in its middle; complete or not at all.",
    example: "write 'by-farm.csv' with (mode = new)",
    parse: |text| Ok(Box::new(text.one(read)?)),
};

#[derive(Debug)]
struct Write {
    path: Path,
    options: Vec<Setting>,
    span: Span,
}

fn read(c: &mut Cursor<'_>) -> Result<Write> {
    let start = c.span();
    let path = Path::read(c)?;
    let options = options::read(c)?;
    Ok(Write { path, options, span: c.since(start) })
}

/// What can be said of a file that is written.
pub(crate) const OPTIONS: &[OptionKind] = &[
    OptionKind {
        name: "format",
        usage: "format = csv | tsv | json | ndjson | parquet | arrow | xlsx | markdown",
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
        name: "compression",
        usage: "compression = none | zstd | snappy | gzip | lz4 | brotli",
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

impl Write {
    fn set(
        setting: &Setting,
        checker: &mut Checker<'_>,
        write: &mut WriteOptions,
        mode: &mut Mode,
        format: &mut Option<Format>,
    ) -> Result<()> {
        let Some(value) = setting.resolved(checker) else { return Ok(()) };
        match setting.name.as_str() {
            "format" => *format = Some(Format::named(value.word().or(value.text()).unwrap_or_default())?),
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
            "compression" => {
                let codec = value.word().or(value.text()).and_then(Codec::named);
                let wanted = "none, gzip, zstd, snappy, lz4 or brotli";
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
}

/// Checks that an option means something to files of a format.
fn fits_format(setting: &Setting, format: Format, options: &WriteOptions) -> Result<()> {
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
            let levels = options.codec.filter(|_| format == Format::Parquet).and_then(Codec::levels);
            let Some((low, high)) = levels else {
                let next =
                    "Say with (compression = zstd, level = 9) of a Parquet file, or leave the option out.";
                return wrong("level is for the compressions gzip, zstd and brotli of Parquet files.", next);
            };
            if options.level.is_some_and(|level| (low..=high).contains(&level)) {
                return Ok(());
            }
            Err(setting.unfit(&format!("a whole number from {low} to {high} with this compression")))
        }
        "separator" if options.separator == b'"' => {
            wrong("A quote cannot separate cells.", "Texts that hold the separator stand in quotes.")
        }
        "separator" | "header" | "missing" | "quote" if !matches!(format, Format::Csv | Format::Tsv) => {
            wrong(&format!("{} is for delimited text.", setting.name), "Leave the option out.")
        }
        _ => Ok(()),
    }
}

impl Step for Write {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let text = checker.path(&self.path)?;
        let path = if text == "-" { text.clone().into() } else { checker.base.join(&text) };
        let mut options = WriteOptions::default();
        let mut mode = Mode::Replace;
        let mut format = Format::of(&path);
        for setting in &self.options {
            if let Err(error) = Write::set(setting, checker, &mut options, &mut mode, &mut format) {
                checker.wrong(setting.span, error);
            }
        }
        let Some(format) = format.or((text == "-").then_some(Format::Csv)) else {
            let error = Error::new(ErrorKind::Check, format!("The name {text} does not tell a format."));
            checker
                .wrong(self.span, error.next("Give it an ending such as .csv, or say with (format = csv)."));
            return Some(input);
        };
        if let Some(ending) = Format::only_read(&path).filter(|_| format == Format::Workbook) {
            let what = format!("Workbooks of the kind .{ending} are read, not written.");
            checker.wrong(self.span, Error::new(ErrorKind::Check, what).next("Write a workbook as .xlsx."));
        }
        for column in &options.split_by {
            if !input.fields.iter().any(|f| f.name == *column) {
                let error =
                    Error::new(ErrorKind::Name, format!("There is no column {} to split by.", name(column)));
                let near = nearest(column, input.fields.iter().map(|f| f.name.as_str()));
                let error = match near {
                    Some(near) => error.next(format!("Did you mean {}?", name(near))),
                    None => error,
                };
                checker.wrong(self.span, error);
            }
        }
        if !options.split_by.is_empty() && options.split_by.len() >= input.fields.len() {
            let error =
                Error::new(ErrorKind::Check, "split_by names all columns: nothing is left for the files.");
            checker.wrong(self.span, error);
        }
        let is_split = !options.split_by.is_empty();
        if mode == Mode::New && path.exists() && !target::is_stream(&path) && !is_split {
            let error = Error::new(ErrorKind::Check, format!("{text} is there already."));
            checker.wrong(self.path.span(), error.next("Choose another name, or say mode = replace."));
        }
        if mode == Mode::Append && !is_split && (format == Format::Json || !format.is_text()) {
            let error = match format {
                Format::Json => Error::new(ErrorKind::Check, "Rows cannot be appended to a JSON array.")
                    .next("Write NDJSON: a record a line."),
                _ => Error::new(ErrorKind::Check, "Rows cannot be appended to a columnar file.")
                    .next("Write a file of its own beside it: read takes both as one table."),
            };
            checker.wrong(self.span, error);
        }
        let placed = if is_split {
            let result = may_stand_at(&path, &options.split_by, mode);
            let folder = part::folder_of(&path);
            let is_there =
                || Error::new(ErrorKind::Check, format!("There is no folder {}.", folder.display()));
            result.and_then(|()| if folder.is_dir() { Ok(()) } else { Err(is_there()) })
        } else {
            target::may_be_written(&path)
        };
        for result in [placed, checker.files.writes(&path, &text, is_split)] {
            if let Err(error) = result {
                checker.wrong(self.path.span(), error);
            }
        }
        for setting in &self.options {
            if let Err(error) = fits_format(setting, format, &options) {
                checker.wrong(setting.span, error);
            }
        }
        if mode == Mode::Append && !is_split {
            let start = format.encoder(&input.fields, &options).map(|e| e.start()).unwrap_or_default();
            if checker.kept(starts_with(&path, &start)) == Some(false) {
                let error = Error::new(
                    ErrorKind::Check,
                    format!("{text} has another heading than these rows."),
                )
                .why(format!("They have the columns {}.", comma(input.fields.iter().map(|f| name(&f.name)))));
                checker.wrong(
                    self.path.span(),
                    error.next("Select the columns that are there, in their order."),
                );
            }
        }
        let fields = input.fields.clone();
        let step = checker.step();
        Some(input.then(operators::Write { path, format, options, mode, fields }, step))
    }

    fn keeps_rows(&self) -> bool {
        true
    }

    fn acts(&self) -> bool {
        true
    }

    fn writes(&self) -> bool {
        true
    }
}

impl fmt::Display for Write {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "write {}", self.path)?;
        options::write(f, &self.options)
    }
}
