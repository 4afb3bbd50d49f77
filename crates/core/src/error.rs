//! The one error of the crate: what is wrong, where, why, and what to do next.

use std::fmt;
use std::sync::Arc;

use unicode_width::UnicodeWidthStr;

/// A result with the crate's [`Error`].
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// The mistakes of one check that `Display` gives in full; of the others it gives the number.
const MISTAKES_TOLD: usize = 20;

/// What sort of thing went wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ErrorKind {
    /// The text is not in the language. The text has to change; its place is in [`Error::place`].
    Syntax,
    /// A name stands for nothing, or for two things. The nearest right name is in [`Error::advice`].
    Name,
    /// A value of one type stands where another is needed. A cast, or the type of a column that is read, mends it.
    Type,
    /// Something else that can be seen before the run: nothing was read or written yet.
    Check,
    /// An input cannot be opened or understood. Another attempt helps where a server or a file was not there yet.
    Input,
    /// A value in the data stops the run: a bad cell, a ragged row, an overflow. Options of reading, or a cast that gives null,
    /// let the run go on and count such values.
    Data,
    /// A `require` step did not hold: the data are not what the recipe expects. The first row that offends is told.
    Require,
    /// The memory given is not enough for what cannot go to files. More memory helps.
    Memory,
    /// A target could not be written; what was there before is as it was.
    Output,
    /// The run was stopped from outside, and left nothing behind. It may be run again.
    Interrupted,
    /// A fault of this crate. Nothing that a program does helps; please report it.
    Internal,
}

impl ErrorKind {
    /// Whether the request itself is wrong, so that it fails before a data row is read.
    pub fn is_request(self) -> bool {
        matches!(self, Self::Syntax | Self::Name | Self::Type | Self::Check | Self::Input)
    }
}

/// A named text that places point into: a recipe file, or a step typed elsewhere.
#[derive(Debug, PartialEq, Eq)]
pub struct SourceText {
    /// What to call it in a message.
    pub name: String,
    /// The text.
    pub text: String,
}

/// A range of bytes in a [`SourceText`].
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Span {
    /// The first byte.
    pub start: usize,
    /// The byte after the last.
    pub end: usize,
}

impl Span {
    /// The span from the start of this one to the end of `other`.
    pub fn to(self, other: Span) -> Span {
        Span { start: self.start, end: other.end.max(self.start) }
    }
}

/// Where a part of a step or an expression stands in its text.
///
/// It says nothing of what stands there: any two are equal, so that steps and expressions are compared by what they say.
#[derive(Clone, Copy, Debug, Default)]
pub struct Position(pub Span);

impl PartialEq for Position {
    fn eq(&self, _: &Position) -> bool {
        true
    }
}

impl std::ops::Deref for Position {
    type Target = Span;

    fn deref(&self) -> &Span {
        &self.0
    }
}

impl From<Span> for Position {
    fn from(span: Span) -> Position {
        Position(span)
    }
}

impl From<Position> for Span {
    fn from(position: Position) -> Span {
        position.0
    }
}

/// Where in the user's own material the error is.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Place {
    /// In the text of the request.
    Text {
        /// The text.
        source: Arc<SourceText>,
        /// The part of it.
        span: Span,
    },
    /// In a file of data.
    File {
        /// The path as it was given.
        path: String,
        /// The line, from 1.
        line: Option<u64>,
        /// The column's name.
        column: Option<String>,
    },
}

/// Everything that can go wrong, with its place and a way out.
///
/// `Display` gives the whole message on several lines; the parts are there as accessors. One check finds every
/// mistake it can: the others stand in [`Error::others`].
#[derive(Clone)]
pub struct Error(Box<Inner>);

#[derive(Clone)]
struct Inner {
    kind: ErrorKind,
    what: String,
    place: Option<Place>,
    why: Vec<String>,
    next: Vec<String>,
    step: Option<String>,
    others: Vec<Error>,
    source: Option<Arc<dyn std::error::Error + Send + Sync>>,
}

impl Error {
    /// Makes an error that says what is wrong.
    pub fn new(kind: ErrorKind, what: impl Into<String>) -> Error {
        Error(Box::new(Inner {
            kind,
            what: what.into(),
            place: None,
            why: Vec::new(),
            next: Vec::new(),
            step: None,
            others: Vec::new(),
            source: None,
        }))
    }

    /// Says where, unless that is known already.
    #[must_use]
    pub fn at(mut self, source: &Arc<SourceText>, span: impl Into<Span>) -> Error {
        if self.0.place.is_none() {
            self.0.place = Some(Place::Text { source: source.clone(), span: span.into() });
        }
        self
    }

    /// Says where in a file of data.
    #[must_use]
    pub fn in_file(mut self, path: impl Into<String>, line: Option<u64>, column: Option<&str>) -> Error {
        self.0.place = Some(Place::File { path: path.into(), line, column: column.map(Into::into) });
        self
    }

    /// Says why.
    #[must_use]
    pub fn why(mut self, why: impl Into<String>) -> Error {
        self.0.why.push(why.into());
        self
    }

    /// Says what to do next.
    #[must_use]
    pub fn next(mut self, next: impl Into<String>) -> Error {
        self.0.next.push(next.into());
        self
    }

    /// Names the step that was running, unless one is named already.
    #[must_use]
    pub fn in_step(mut self, step: &str) -> Error {
        if self.0.step.is_none() && !step.is_empty() {
            self.0.step = Some(step.into());
        }
        self
    }

    /// Keeps the error of another library that this one tells of.
    #[must_use]
    pub fn caused_by(mut self, source: impl std::error::Error + Send + Sync + 'static) -> Error {
        self.0.source = Some(Arc::new(source));
        self
    }

    /// As [`Error::caused_by`], of an error of the system that is told of in several places.
    #[must_use]
    pub fn caused_by_io(self, error: &std::io::Error) -> Error {
        self.caused_by(match error.raw_os_error() {
            Some(code) => std::io::Error::from_raw_os_error(code),
            None => std::io::Error::new(error.kind(), error.to_string()),
        })
    }

    /// Why: a line each, as far as it is known.
    pub fn reasons(&self) -> &[String] {
        &self.0.why
    }

    /// What to do next: a line each.
    pub fn advice(&self) -> &[String] {
        &self.0.next
    }

    /// Joins the errors of one check into one; `None` if there are none.
    pub fn all(errors: Vec<Error>) -> Option<Error> {
        let mut errors = errors.into_iter();
        let mut first = errors.next()?;
        first.0.others.extend(errors);
        Some(first)
    }

    /// The sort of error.
    pub fn kind(&self) -> ErrorKind {
        self.0.kind
    }

    /// What is wrong, in one line.
    pub fn what(&self) -> &str {
        &self.0.what
    }

    /// Where it is.
    pub fn place(&self) -> Option<&Place> {
        self.0.place.as_ref()
    }

    /// The text of the step that was running.
    pub fn step(&self) -> Option<&str> {
        self.0.step.as_deref()
    }

    /// The other mistakes that the same check found.
    pub fn others(&self) -> &[Error] {
        &self.0.others
    }
}

/// What must be there, and is a fault of this crate if it is not.
pub trait OrFault<T> {
    /// The value, or an error of kind [`ErrorKind::Internal`] that says what is missing and where in the code that was seen.
    ///
    /// # Errors
    /// It is not there.
    #[track_caller]
    fn or_fault(self, what: &str) -> Result<T>;
}

impl<T> OrFault<T> for Option<T> {
    #[track_caller]
    fn or_fault(self, what: &str) -> Result<T> {
        let place = std::panic::Location::caller();
        self.ok_or_else(|| {
            Error::new(ErrorKind::Internal, format!("There is no {what}; this is a fault of churn."))
                .why(format!("It was seen in {}, line {}.", place.file(), place.line()))
                .next("Please report it, with the recipe.")
        })
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let inner = &self.0;
        write!(f, "{}", inner.what)?;
        match &inner.place {
            Some(Place::Text { source, span }) => write_excerpt(f, source, *span)?,
            Some(Place::File { path, line, column }) => {
                write!(f, "\n  {path}")?;
                if let Some(line) = line {
                    write!(f, ", line {line}")?;
                }
                if let Some(column) = column {
                    write!(f, ", column {column}")?;
                }
            }
            None => {}
        }
        if let Some(step) = &inner.step
            && !matches!(inner.place, Some(Place::Text { .. }))
        {
            let mut lines = step.lines();
            write!(f, "\n  in the step: {}", lines.next().unwrap_or_default())?;
            for line in lines {
                write!(f, "\n               {line}")?;
            }
        }
        for line in inner.why.iter().chain(&inner.next).flat_map(|text| text.lines()) {
            write!(f, "\n  {line}")?;
        }
        for other in inner.others.iter().take(MISTAKES_TOLD - 1) {
            write!(f, "\n\n{other}")?;
        }
        match inner.others.len().saturating_sub(MISTAKES_TOLD - 1) {
            0 => Ok(()),
            1 => write!(f, "\n\nand 1 more mistake."),
            more => write!(f, "\n\nand {more} more mistakes."),
        }
    }
}

/// Writes the place's line of text with carets below the span.
fn write_excerpt(f: &mut fmt::Formatter<'_>, source: &SourceText, span: Span) -> fmt::Result {
    let text = &source.text;
    let start = floor_char(text, span.start);
    let line_start = text.get(..start).and_then(|before| before.rfind('\n')).map_or(0, |p| p + 1);
    let line_end =
        text.get(line_start..).and_then(|rest| rest.find('\n')).map_or(text.len(), |p| line_start + p);
    let number = text.get(..line_start).map_or(0, |before| before.matches('\n').count()) + 1;
    let line = text.get(line_start..line_end).unwrap_or_default().trim_end();
    let end = floor_char(text, span.end.max(start)).min(line_start + line.len()).max(start);
    let width =
        |range: std::ops::Range<usize>| text.get(range).map_or(0, |part| part.replace('\t', " ").width());
    let shown = line.trim_start();
    let indent = line_start + line.len() - shown.len();
    if text.trim_end().contains('\n') {
        write!(f, "\n  {}, line {number}:", source.name)?;
    } else {
        write!(f, "\n  {}:", source.name)?;
    }
    let before = width(indent.min(start)..start);
    let below = width(start..end).max(1);
    write!(f, "\n    {}\n    {}{}", shown.replace('\t', " "), " ".repeat(before), "^".repeat(below))
}

/// The last character border at or before `at`.
fn floor_char(text: &str, at: usize) -> usize {
    (0..=at.min(text.len())).rev().find(|i| text.is_char_boundary(*i)).unwrap_or(0)
}

impl fmt::Debug for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}: {self}", self.0.kind)
    }
}

impl std::error::Error for Error {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        self.0.source.as_ref().map(|source| &**source as _)
    }
}

/// Errors are equal if they tell the same; what caused them is not compared.
impl PartialEq for Error {
    fn eq(&self, other: &Error) -> bool {
        let Inner { kind, what, place, why, next, step, others, source: _ } = &*self.0;
        let other = &*other.0;
        *kind == other.kind
            && *what == other.what
            && *place == other.place
            && *why == other.why
            && *next == other.next
            && *step == other.step
            && *others == other.others
    }
}

impl Eq for Error {}

/// Gives the names nearest to a mistyped one, best first.
pub fn nearest<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let folded = name.to_lowercase();
    known
        .into_iter()
        .map(|candidate| (strsim::jaro_winkler(&folded, &candidate.to_lowercase()), candidate))
        .filter(|(score, _)| *score > 0.78)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, candidate)| candidate)
}
