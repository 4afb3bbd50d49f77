//! `read 'PATH', … [with (…)]`: where a chain starts.

mod options;
mod settings;

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::fmt;
use std::path::{Path as FilePath, PathBuf};
use std::sync::Arc;

use churn_core::names::{comma, name};
use churn_core::{Error, ErrorKind, Field, Position, Result, Type};
use churn_expr::text::{Cursor, TokenKind};
use churn_io::csv::{BadRows, CsvOptions};
use churn_io::files::WrittenPart;
use churn_io::format::{Format, Opening, WriteOptions};
use churn_io::source::{Lacking, Source};
use churn_io::{folders, place, store, streams, target, zip};
use churn_plan::operators::Scan;
use churn_plan::{Node, Relation};

use super::checker::{Located, Path};
use super::options::{self as with, Setting};
use super::read_recipe::ReadRecipe;
use super::read_table::ReadTable;
use super::{Check, Checker, Step, StepKind};

pub(crate) use options::OPTIONS;
use options::set;
pub use settings::ReadOptions;

pub(super) const KIND: StepKind = StepKind {
    keyword: "read",
    usage: "read 'PATH', … [strict] [with (option = value, …)] | read NAME",
    summary: "Starts a chain: a file, a glob, a folder, an address (https, s3, gs, az), '-' for standard input, another recipe, an earlier table.",
    example: "read 'deliveries-*.csv' with (types = (collected_on date), bad_cells = null)",
    parse: |text| text.one(read),
};

/// `read`: files, globs, folders, web addresses or standard input as one table.
#[derive(Clone, Debug, PartialEq)]
pub struct Read {
    paths: Vec<Path>,
    /// Whether all files must have the same columns.
    strict: bool,
    options: Vec<Setting>,
    span: Position,
}

fn read(c: &mut Cursor<'_>) -> Result<Step> {
    let start = c.span();
    if let Some(TokenKind::Word(_) | TokenKind::Quoted(_)) = c.peek() {
        let (table, span) = c.name("a table's name or a path in single quotes")?;
        return Ok(Step::from(ReadTable(table, span)));
    }
    let paths = c.list(Path::read)?;
    if let [path] = paths.as_slice()
        && let Some(recipe) = ReadRecipe::of(path)
    {
        return Ok(Step::from(recipe.with_given(c)?));
    }
    let strict = c.take_word("strict");
    let options = with::read(c)?;
    Ok(Step::from(Read { paths, strict, options, span: c.since(start) }))
}

/// Files that were opened, and where rows go that are no rows of theirs.
#[derive(Clone)]
pub(crate) struct Opened {
    source: Arc<dyn Source>,
    rejects: Option<PathBuf>,
}

/// Bytes of a stream that are looked at to tell its format.
const PEEKED: usize = 4096;

impl Read {
    /// Reads a file, a glob, a folder, an address on the web, or `-` for standard input.
    pub fn new(path: impl AsRef<FilePath>) -> Read {
        Read::of(Path::of(path.as_ref()))
    }

    /// Reads one more into the same table.
    #[must_use]
    pub fn and(mut self, path: impl AsRef<FilePath>) -> Read {
        self.paths.push(Path::of(path.as_ref()));
        self
    }

    /// All files must have the same columns; else one that a file lacks is null in its rows.
    #[must_use]
    pub fn strict(self) -> Read {
        Read { strict: true, ..self }
    }

    /// How they are read.
    #[must_use]
    pub fn with(self, options: ReadOptions) -> Read {
        Read { options: options.0, ..self }
    }

    /// Reads one path, with no options.
    pub(super) fn of(path: Path) -> Read {
        Read { span: path.span(), paths: vec![path], strict: false, options: Vec::new() }
    }

    /// The files that the paths mean, in order of name.
    fn files(&self, checker: &mut Checker<'_>) -> Option<Vec<PathBuf>> {
        let mut files = Vec::new();
        for path in &self.paths {
            let Located { text, raw } = checker.path(path)?;
            let addresses = match raw {
                Some(raw) => place::files_at(&raw, &text, &checker.base).map(Some),
                None => checker.catalogue.stores().addresses(&text),
            };
            let found = addresses.and_then(|found| match found {
                Some(found) => Ok(found),
                None => place::files(&text, &checker.base),
            });
            match found {
                Ok(found) => files.extend(found.into_iter().map(|f| (f, path.span()))),
                Err(error) => {
                    checker.wrong(path.span(), error);
                    return None;
                }
            }
        }
        files.sort_by(|a, b| a.0.cmp(&b.0));
        files.dedup_by(|a, b| a.0 == b.0);
        Some(files.into_iter().map(|(f, _)| f).collect())
    }

    fn csv_options(&self, format: &Format, checker: &mut Checker<'_>) -> CsvOptions {
        let mut csv = CsvOptions::default();
        csv.separator = format.separator(&WriteOptions::default()).unwrap_or(csv.separator);
        for setting in &self.options {
            let Some(value) = setting.resolved(checker) else { continue };
            let of_sheets = ["sheet", "area"].contains(&setting.name.as_str()) && !format.has_sheets();
            let fits = OPTIONS.iter().any(|option| option.name == setting.name)
                && (of_sheets || !format.reads_with(&setting.name));
            let result = if fits { Err(unused(setting, format)) } else { set(&mut csv, setting, &value) };
            if let Err(error) = result {
                checker.wrong(setting.span, error);
            }
        }
        if let Err(error) = csv.apart() {
            checker.wrong(self.span, error);
        }
        csv
    }

    /// The format, by the option or by the names of the files.
    fn format(&self, files: &[PathBuf], checker: &mut Checker<'_>) -> Option<Format> {
        if let Some(setting) = self.options.iter().find(|s| s.name == "format") {
            let value = setting.resolved(checker)?;
            let word = value.word().or(value.text()).unwrap_or_default();
            return match checker.catalogue.formats().named(word) {
                Ok(format) => Some(format),
                Err(error) => {
                    checker.wrong(setting.span, error);
                    None
                }
            };
        }
        let catalogue = checker.catalogue.clone();
        let formats = catalogue.formats();
        let by_name: Vec<(&PathBuf, Format)> =
            files.iter().filter_map(|f| Some((f, formats.of_file(f)?))).collect();
        if let Some((first, format)) = by_name.first() {
            if let Some((other, of_other)) = by_name.iter().find(|(_, other)| !other.is_read_as(format)) {
                checker.wrong(self.span, several_formats([(first, format), (other, of_other)]));
                return None;
            }
            if let Some(packed) = files.iter().find(|f| zip::is_named_so(f) && !format.is_text()) {
                let what = format!(
                    "{} holds a {format} file, and only text is read within an archive.",
                    streams::shown(packed)
                );
                checker.wrong(
                    self.span,
                    Error::new(ErrorKind::Input, what).next("Unpack it, and read the file within."),
                );
                return None;
            }
            return Some(format.clone());
        }
        let first = match files.first() {
            Some(file) if streams::is_stream(file) => {
                let peeked = streams::peek(file, PEEKED);
                peeked.map_err(|error| checker.wrong(self.span, error)).ok()?
            }
            Some(file) if zip::is_named_so(file) => Vec::new(),
            Some(file) => place::first_bytes(file),
            None => Vec::new(),
        };
        Some(formats.of_bytes(&first).unwrap_or_else(|| formats.csv()))
    }

    /// Notes the inputs that can be read only once; one that a step before reads is a mistake.
    fn notes_streams(&self, files: &[PathBuf], checker: &mut Checker<'_>) -> Option<()> {
        for file in files.iter().filter(|file| streams::is_stream(file) && !store::is_address(file)) {
            if checker.streams.contains(file) {
                checker.wrong(self.span, streams::read_once(file));
                return None;
            }
            checker.streams.push(file.clone());
        }
        Some(())
    }
}

/// The error of files of several formats that would be read as one table.
fn several_formats(files: [(&PathBuf, &Format); 2]) -> Error {
    let [one, other] = files.map(|(path, format)| format!("{} ({format})", streams::shown(path)));
    Error::new(ErrorKind::Input, "The files are of several formats.")
        .why(format!("Two of them are {one} and {other}."))
        .next("Read them apart, and append one to the other; or say which format all of them have: with (format = …).")
}

/// The error of files that have different columns, where all must have the same.
fn other_columns(Lacking { column, file, other }: &Lacking) -> Error {
    let column = name(column);
    Error::new(ErrorKind::Check, "The files have different columns.")
        .why(format!("{other} has a column {column}, and {file} has none."))
        .next("Without strict a column that a file lacks is null in its rows.")
}

/// The error of an option that says nothing to files of a format.
fn unused(setting: &Setting, format: &Format) -> Error {
    let error = Error::new(ErrorKind::Check, format!("{} is not for {format} files.", setting.name));
    if setting.name == "sheet" || setting.name == "area" {
        return error.why("It says which part of a workbook is read.").next("Leave the option out.");
    }
    error.why("They say themselves what is in them, and how it is written.").next("Leave the option out.")
}
impl Read {
    /// Opens the files, and looks at their columns.
    fn opened(&self, files: &[PathBuf], checker: &mut Checker<'_>) -> Option<Opened> {
        let mistakes = checker.errors.len();
        let format = self.format(files, checker)?;
        let options = self.csv_options(&format, checker);
        if checker.errors.len() > mistakes {
            return None;
        }
        let rejects = match &options.bad_rows {
            BadRows::Rejects(path) => Some(checker.base.join(path)),
            _ => None,
        };
        let (base, resources) = (checker.base.clone(), checker.resources.clone());
        let opening = Opening::new(base, options, resources);
        let opened = folders::opened(files, &opening.base, &|files, types| {
            let mut opening = opening.clone();
            opening.options.types.extend(types.iter().cloned());
            format.open_files(files, opening)
        });
        match opened {
            Ok(source) => {
                let opened = Opened { source, rejects };
                checker.note_opened(self, &opened);
                Some(opened)
            }
            Err(error) if error.place().is_some() => {
                checker.errors.push(error);
                None
            }
            Err(error) => {
                checker.wrong(self.span, error);
                None
            }
        }
    }
}

impl Check for Read {
    fn check(&self, _: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let files = self.files(checker)?;
        if let Some(recipe) = files.iter().find(|file| crate::lang::recipe::is_named_as_recipe(file)) {
            let shown = streams::shown(recipe);
            let error = Error::new(ErrorKind::Input, format!("{shown} is a recipe, not data."));
            let error = match files.len() {
                1 => error.next(format!("Read its result: read '{shown}', the path in quotes and alone.")),
                _ => error.next(
                    "Where other files of a folder are the data, name them by a pattern: read '*.csv'.",
                ),
            };
            checker.wrong(self.span, error);
            return None;
        }
        self.notes_streams(&files, checker)?;
        if let Err(error) = checker.files.reads(&files) {
            checker.wrong(self.span, error);
            return None;
        }
        let Opened { source, rejects } = match checker.opened(self) {
            Some(known) => known,
            None => self.opened(&files, checker)?,
        };
        if let Some(path) = &rejects
            && let Err(error) = target::may_be_written(path)
                .and_then(|()| checker.files.writes(path, &path.display().to_string(), WrittenPart::File))
        {
            checker.wrong(self.span, error);
            return None;
        }
        if let Some(lacking) = source.about().lacking.as_ref().filter(|_| self.strict) {
            checker.wrong(self.span, other_columns(lacking));
        }
        Some(relation(source, rejects, checker))
    }

    fn starts(&self) -> bool {
        true
    }
}

/// The relation of all columns of a source.
pub(crate) fn relation(
    source: Arc<dyn Source>,
    rejects: Option<PathBuf>,
    checker: &mut Checker<'_>,
) -> Relation {
    let mut fields = Vec::new();
    for column in source.columns() {
        let kind = Type::of(&column.data).unwrap_or(Type::Unknown);
        fields.push(Field {
            id: checker.ids.fresh(),
            name: column.name.clone(),
            data: column.data.clone(),
            kind,
        });
    }
    checker.notes.extend(source.about().notes.iter().cloned());
    checker.notes.extend(nearly_alike(&fields));
    let columns = fields.iter().cloned().enumerate().collect();
    let scan = Scan { source, columns, conditions: Vec::new(), limit: None, rejects };
    Relation { node: Node::source(scan, checker.step()), fields }
}

/// Notes of columns whose names differ in case or blanks only: often one column under two headings of several files.
fn nearly_alike(fields: &[Field]) -> Vec<String> {
    let folded = |field: &Field| -> String {
        field.name.chars().filter(|c| !c.is_whitespace()).flat_map(char::to_lowercase).collect()
    };
    let mut first: HashMap<String, &Field> = HashMap::new();
    let mut notes = Vec::new();
    for field in fields {
        match first.entry(folded(field)) {
            Entry::Vacant(place) => {
                place.insert(field);
            }
            Entry::Occupied(place) => {
                let (one, other) = (name(&place.get().name), name(&field.name));
                notes.push(format!(
                    "The columns {one} and {other} differ only in case or blanks. If they are one column under two \
                     headings: add {one} = coalesce({one}, {other}), then drop {other}."
                ));
            }
        }
    }
    notes
}

impl fmt::Display for Read {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "read {}{}", comma(&self.paths), if self.strict { " strict" } else { "" })?;
        with::write(f, &self.options)
    }
}

/// The step that reads a path, which may be a recipe.
pub(crate) fn reading(path: &FilePath) -> Step {
    reading_path(Path::of(path))
}

/// The step that starts with a path at a place of a query, and the path as the second table of a step.
#[cfg(feature = "sql")]
pub(crate) fn reading_at(path: &str, span: churn_core::Span) -> (Step, super::Other) {
    let path = Path::Text(path.to_owned(), span.into());
    (reading_path(path.clone()), super::Other::of(path))
}

fn reading_path(path: Path) -> Step {
    match ReadRecipe::of(&path) {
        Some(recipe) => recipe.into(),
        None => Read::of(path).into(),
    }
}
