//! `write 'PATH' [with (…)]`: writes what flows here.

mod options;
mod settings;

use std::fmt;
use std::path::Path as FilePath;

use churn_core::error::nearest;
use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Field, Position, Result};
use churn_expr::text::Cursor;
use churn_io::csv::encoded;
use churn_io::files::WrittenPart;
use churn_io::format::{Format, TextEncoding, WriteOptions};
use churn_io::split::may_stand_at;
use churn_io::target::{self, Mode, starts_with};
use churn_io::{part, store, zip};
use churn_plan::{Relation, operators};

use super::checker::Path;
use super::options::{self as with, Setting};
use super::{Check, Checker, Step, StepKind};

pub(crate) use options::OPTIONS;
use options::{Written, fits_format, set};
pub use settings::WriteOptions as Settings;

pub(super) const KIND: StepKind = StepKind {
    keyword: "write",
    usage: "write 'PATH' [with (option = value, …)]",
    summary: "Writes what flows here, at the end of a chain or in its middle; complete or not at all.",
    example: "write 'by-farm.csv' with (mode = new)",
    parse: |text| Ok(Step::from(text.one(read)?)),
};

/// `write`: what flows here to a file, at the end of a chain or in its middle.
#[derive(Clone, Debug, PartialEq)]
pub struct Write {
    path: Path,
    options: Vec<Setting>,
    span: Position,
}

fn read(c: &mut Cursor<'_>) -> Result<Write> {
    let start = c.span();
    let path = Path::read(c)?;
    let options = with::read(c)?;
    Ok(Write { path, options, span: c.since(start) })
}

/// Where a step writes, as it is written and as a path, and in what format.
struct Place<'a> {
    text: &'a str,
    path: &'a FilePath,
    format: &'a Format,
}

impl Write {
    /// Writes to a file, in the format of its name.
    pub fn new(path: impl AsRef<FilePath>) -> Write {
        Write { path: Path::of(path.as_ref()), options: Vec::new(), span: Position::default() }
    }

    /// How it is written.
    #[must_use]
    pub fn with(self, options: settings::WriteOptions) -> Write {
        Write { options: options.0, ..self }
    }

    /// How the file is written; options that cannot be are noted.
    fn written(&self, path: &FilePath, checker: &mut Checker<'_>) -> Written {
        let catalogue = checker.catalogue.clone();
        let formats = catalogue.formats();
        let mut written =
            Written { options: WriteOptions::default(), mode: Mode::Replace, format: formats.of(path) };
        written.options.order = checker.step();
        for setting in &self.options {
            let Some(value) = setting.resolved(checker) else { continue };
            if let Err(error) = set(&mut written, setting, &value, formats) {
                checker.wrong(setting.span, error);
            }
        }
        written
    }

    /// Checks that a file of the format may have such a name.
    fn check_name(&self, place: &Place<'_>, checker: &mut Checker<'_>) {
        if let Err(error) = place.format.may_be_written(place.path) {
            checker.wrong(self.span, error);
        }
        if zip::is_named_so(place.path) {
            let error = Error::new(ErrorKind::Check, "Zip archives are read, not written.");
            checker.wrong(self.span, error.next("Text is compressed by its name: out.csv.gz, out.csv.zst."));
        }
    }

    /// Checks the columns that options name, and names that an encoding must have room for.
    fn check_columns(&self, fields: &[Field], options: &WriteOptions, checker: &mut Checker<'_>) {
        let split = options.split_by.iter().map(|column| (column, "to split by"));
        let shown = options.number_formats.iter().map(|(column, _)| (column, "to format"));
        for (column, what) in split.chain(shown) {
            if !fields.iter().any(|f| f.name == *column) {
                let error =
                    Error::new(ErrorKind::Name, format!("There is no column {} {what}.", name(column)));
                let error = match nearest(column, fields.iter().map(|f| f.name.as_str())) {
                    Some(near) => error.next(format!("Did you mean {}?", name(near))),
                    None => error,
                };
                checker.wrong(self.span, error);
            }
        }
        if !options.split_by.is_empty() && options.split_by.len() >= fields.len() {
            let error =
                Error::new(ErrorKind::Check, "split_by names all columns: nothing is left for the files.");
            checker.wrong(self.span, error);
        }
        for field in fields {
            if let Err(c) = encoded::fits(&field.name, options.encoding) {
                let what = format!("'{c}' of the column {} cannot be written as latin1.", name(&field.name));
                let next = "Rename the column, or write UTF-8 or UTF-16: with (encoding = 'utf-16').";
                checker.wrong(self.span, Error::new(ErrorKind::Check, what).next(next));
            }
        }
    }

    /// Checks that the target may be there, or that rows may be added to it.
    fn check_mode(&self, place: &Place<'_>, mode: Mode, options: &WriteOptions, checker: &mut Checker<'_>) {
        let Place { text, path, format } = *place;
        if store::is_address(path) && mode != Mode::Replace {
            let error = Error::new(ErrorKind::Check, "What stands at an address is replaced as a whole.");
            checker.wrong(self.span, error.next("Write a file of its own beside it, without mode."));
            return;
        }
        if mode == Mode::New && path.exists() && !target::is_stream(path) {
            let error = Error::new(ErrorKind::Check, format!("{text} is there already."));
            checker.wrong(self.path.span(), error.next("Choose another name, or say mode = replace."));
        }
        if mode != Mode::Append {
            return;
        }
        let error = match format.may_be_extended() {
            Err(error) => error,
            Ok(()) if options.encoding == TextEncoding::Utf16 => {
                Error::new(ErrorKind::Check, "Rows cannot be appended to UTF-16.")
                    .next("Write a file of its own beside it: read takes both as one table.")
            }
            Ok(()) => return,
        };
        checker.wrong(self.span, error);
    }

    /// Checks that the target can be written, and that no other step reads or writes it.
    fn check_place(&self, place: &Place<'_>, mode: Mode, options: &WriteOptions, checker: &mut Checker<'_>) {
        let Place { text, path, format } = *place;
        let (placed, part) = match (&options.sheet, options.split_by.is_empty()) {
            (_, false) => (folder_may_stand_at(path, options, mode, format), WrittenPart::Folder),
            (Some(sheet), true) => (target::may_be_written(path), WrittenPart::Sheet(sheet.clone())),
            (None, true) => (target::may_be_written(path), WrittenPart::File),
        };
        for result in [placed, checker.files.writes(path, text, part)] {
            if let Err(error) = result {
                checker.wrong(self.path.span(), error);
            }
        }
    }

    /// Checks that rows that are appended have the columns of those that are there.
    fn check_heading(
        &self,
        place: &Place<'_>,
        fields: &[Field],
        options: &WriteOptions,
        checker: &mut Checker<'_>,
    ) {
        let start = place.format.encoder(fields, options).map(|e| e.start()).unwrap_or_default();
        if checker.kept(starts_with(place.path, &start)) == Some(false) {
            let what = format!("{} has another heading than these rows.", place.text);
            let error = Error::new(ErrorKind::Check, what)
                .why(format!("They have the columns {}.", comma(fields.iter().map(|f| name(&f.name)))))
                .next("Select the columns that are there, in their order.");
            checker.wrong(self.path.span(), error);
        }
    }
}

/// Checks that a folder of files can be written.
fn folder_may_stand_at(path: &FilePath, options: &WriteOptions, mode: Mode, format: &Format) -> Result<()> {
    may_stand_at(path, &options.split_by, mode, format)?;
    let folder = part::folder_of(path);
    if folder.is_dir() {
        return Ok(());
    }
    Err(Error::new(ErrorKind::Check, format!("There is no folder {}.", folder.display())))
}

impl Check for Write {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let Some((text, path)) = checker.target(&self.path, self.span) else { return Some(input) };
        let Written { options, mode, format } = self.written(&path, checker);
        let Some(format) = format.or((text == "-").then(|| checker.catalogue.formats().csv())) else {
            if self.options.iter().any(|setting| setting.name == "format") {
                // There is no such format, which was told.
                return Some(input);
            }
            let error = Error::new(ErrorKind::Check, format!("The name {text} does not tell a format."));
            let next = "Give it an ending such as .csv, or say with (format = csv).";
            checker.wrong(self.span, error.next(next));
            return Some(input);
        };
        let fields = input.fields.clone();
        let place = Place { text: &text, path: &path, format: &format };
        self.check_name(&place, checker);
        self.check_columns(&fields, &options, checker);
        let is_split = !options.split_by.is_empty();
        if is_split && store::is_address(&path) {
            let error = Error::new(ErrorKind::Check, "split_by writes a folder, and this is an address.");
            checker
                .wrong(self.span, error.next("Write the folder beside you, and send its files from there."));
            return Some(input);
        }
        if !is_split {
            self.check_mode(&place, mode, &options, checker);
        }
        self.check_place(&place, mode, &options, checker);
        if let Err(error) = format.holds(&fields) {
            checker.wrong(self.span, error);
        }
        for setting in &self.options {
            if let Err(error) = fits_format(setting, &format, &options) {
                checker.wrong(setting.span, error);
            }
        }
        if mode == Mode::Append && !is_split && !store::is_address(&path) {
            self.check_heading(&place, &fields, &options, checker);
        }
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
        with::write(f, &self.options)
    }
}
