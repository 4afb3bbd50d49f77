//! Files of delimited text as one table, united by name.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use arrow_schema::DataType;
use churn_core::names::name;
use churn_core::{Error, ErrorKind, Result, Type};
use churn_kernels::pool::Pool;

use super::cells::Needed;
use super::cutter::Cutter;
use super::head::Head;
use super::infer;
use super::options::{CsvOptions, Header};
use super::scan::{CsvScan, CsvScanState};
use crate::format::Opening;
use crate::source::{About, Lacking, Request, Scan, Source, SourceColumn};
use crate::{merge_schemas, streams};

/// How one file's cells become a column of the table.
#[derive(Clone, Copy, Debug)]
pub(super) struct Cast {
    /// The cell's position in the file; `None` if the file has no such column.
    pub(super) position: Option<usize>,
    /// Whether its dates are written by the option's pattern.
    pub(super) by_pattern: bool,
    /// Whether its type was inferred, so that a number that would lose zeros, a sign or digits does not fit.
    pub(super) exact: bool,
}

impl Cast {
    /// Of a column that the file does not have.
    const NONE: Cast = Cast { position: None, by_pattern: false, exact: false };
}

/// Files of delimited text as one table.
#[derive(Debug)]
pub struct CsvSource {
    columns: Vec<SourceColumn>,
    kinds: Arc<Vec<Type>>,
    /// For each file, for each column of the table.
    casts: Arc<Vec<Vec<Cast>>>,
    heads: Arc<Vec<Head>>,
    options: Arc<CsvOptions>,
    /// Bytes of memory that a run may use, if they are bounded.
    memory: Option<u64>,
    about: About,
}

impl CsvSource {
    /// Looks at the files: headings, and cells at the start, the middle and the end.
    ///
    /// # Errors
    /// A file cannot be read; columns of one name have types that do not go together; an option names a column
    /// that is not there.
    pub fn new(files: &[PathBuf], opening: &Opening) -> Result<CsvSource> {
        let mut source = CsvSource {
            columns: Vec::new(),
            kinds: Arc::default(),
            casts: Arc::default(),
            heads: Arc::default(),
            options: Arc::new(opening.options.clone()),
            memory: opening.resources.memory,
            about: About { files: files.len(), bytes: Some(0), rows_about: Some(0), ..About::default() },
        };
        let mut heads = Vec::new();
        let mut looks = Vec::new();
        let options = source.options.clone();
        let mut inference = infer::Inference::new(files.len(), &options);
        for file in files {
            let shown = merge_schemas::shown(file, &opening.base);
            let mut head = Head::read(file, &shown, &source.options, inference.fetching(&opening.transfer))?;
            let (look, looked) = inference.look(&head)?;
            if options.header == Header::Unsaid && !options.names.is_empty() {
                decide_heading(&mut head, &look, &options);
            }
            source.about.bytes = source.about.bytes.zip(head.size).map(|(a, b)| a + b);
            let text = head.size.filter(|_| head.seekable).map(|size| size.saturating_sub(head.data_at()));
            let rows = looked.rows_of(text);
            source.about.rows_about = source.about.rows_about.zip(rows).map(|(a, b)| a + b);
            source.about.looked = Some(source.about.looked.map_or(looked, |before| before.and(looked)));
            source.about.notes.append(&mut head.notes);
            if files.len() > streams::KEPT_OPEN {
                head.let_go();
            }
            heads.push(head);
            looks.push(look);
        }
        source.merge_schemas(&heads, &looks)?;
        source.heads = Arc::new(heads);
        Ok(source)
    }

    /// Columns by name over all files, in order of first appearance.
    fn merge_schemas<'a>(&mut self, heads: &'a [Head], looks: &'a [Vec<infer::Look>]) -> Result<()> {
        let mut names: Vec<&str> = Vec::new();
        let mut known: HashSet<&str> = HashSet::new();
        let positions = |head: &Head| {
            let positions = head.names.iter().enumerate().rev().map(|(place, name)| (name.clone(), place));
            positions.collect::<HashMap<String, usize>>()
        };
        let positions: Vec<HashMap<String, usize>> = heads.iter().map(positions).collect();
        for head in heads {
            names.extend(head.names.iter().map(String::as_str).filter(|column| known.insert(column)));
        }
        if let Some((lost, _)) = self.options.types.iter().find(|(n, _)| !names.contains(&n.as_str())) {
            let error = Error::new(
                ErrorKind::Name,
                format!("types names a column {} that is not there.", name(lost)),
            );
            let error = error
                .why(format!("The columns are {}.", churn_core::names::comma(names.iter().map(|n| name(n)))));
            return Err(match churn_core::error::nearest(lost, names.iter().copied()) {
                Some(near) => error.next(format!("Did you mean {}?", name(near))),
                None => error,
            });
        }
        let mut kinds = Vec::new();
        let mut casts = vec![Vec::new(); heads.len()];
        for column in &names {
            let wanted = self.options.types.iter().find(|(n, _)| n == column).map(|(_, t)| t.clone());
            let mut shared: Option<(Type, &Head)> = None;
            let own = |(positions, look): (&HashMap<String, usize>, &'a Vec<infer::Look>)| {
                positions.get(*column).and_then(|p| look.get(*p))
            };
            let keeps_digits =
                positions.iter().zip(looks).filter_map(own).any(|l| l.is_text_for_its_digits());
            for (((head, positions), look), casts) in heads.iter().zip(&positions).zip(looks).zip(&mut casts)
            {
                let position = positions.get(*column).copied();
                let Some(look) = position.and_then(|p| look.get(p)) else {
                    casts.push(Cast::NONE);
                    continue;
                };
                if let Some(wanted) = &wanted {
                    let has_own = self.options.patterns.iter().any(|(name, _)| name == column);
                    let by_pattern = wanted.is_temporal() && (has_own || look.is_by_pattern());
                    casts.push(Cast { position, by_pattern, exact: false });
                    continue;
                }
                let found = look.kind(&self.options);
                let by_pattern = found.as_ref().is_some_and(|(_, by)| *by);
                casts.push(Cast { position, by_pattern, exact: true });
                if let Some((mut kind, _)) = found {
                    if keeps_digits && kind == Type::Int {
                        kind = Type::Text;
                    }
                    if kind == Type::Text
                        && let Some(note) = look.note(column)
                        && !self.about.notes.contains(&note)
                    {
                        self.about.notes.push(note);
                    }
                    shared = Some(match shared {
                        None => (kind, head),
                        Some((before, first)) => match before.common_type(&kind) {
                            Some(united) => (united, first),
                            None => return Err(drift(column, (&before, first), (&kind, head))),
                        },
                    });
                }
            }
            let kind = wanted.or(shared.map(|(kind, _)| kind));
            let open = kind.is_none();
            let kind = kind.unwrap_or_else(|| {
                // A column that holds nothing for certain has no type of its own.
                let is_blank = |look: &infer::Look| look.values == 0 && !look.has_empty_text;
                let is_whole = self.about.looked.is_some_and(|looked| looked.whole);
                let mut own = positions.iter().zip(looks).filter_map(own);
                if is_whole && own.all(is_blank) { Type::Null } else { Type::Text }
            });
            self.columns.push(SourceColumn { name: (*column).to_owned(), data: kind.arrow(), open });
            kinds.push(kind);
        }
        let places = heads.iter().zip(&casts).map(|(head, casts)| {
            (head.shown.as_str(), casts.iter().map(|cast| cast.position).collect::<Vec<_>>())
        });
        let places: Vec<_> = places.collect();
        self.about.lacking = Lacking::first(&names, places.iter().map(|(file, at)| (*file, at.as_slice())));
        if let Some(file_column) = &self.options.file_column {
            if names.contains(&file_column.as_str()) {
                return Err(Error::new(
                    ErrorKind::Name,
                    format!("There is a column {} already.", name(file_column)),
                )
                .next("Give file_column another name."));
            }
            self.columns.push(SourceColumn {
                name: file_column.clone(),
                data: DataType::Utf8View,
                open: false,
            });
            kinds.push(Type::Text);
            casts.iter_mut().for_each(|c| c.push(Cast::NONE));
        }
        self.kinds = Arc::new(kinds);
        self.casts = Arc::new(casts);
        Ok(())
    }
}

/// Decides whether the first row of a file whose columns were given names is a heading: it is a row of data if it fits
/// types below it that a heading does not.
fn decide_heading(head: &mut Head, looks: &[infer::Look], options: &CsvOptions) {
    let cells = head.heading_cells(options);
    let mut fits = false;
    let mut is_heading = cells.is_empty();
    for (cell, look) in cells.iter().zip(looks) {
        match look.fits(cell, options) {
            Some(true) => fits = true,
            Some(false) => is_heading = true,
            None => {}
        }
    }
    let is_data = fits && !is_heading;
    if is_data {
        head.heading_is_data();
    }
    let (found, other) = if is_data {
        ("a row of data: it fits the types of the rows below it. If it is a heading", "true")
    } else {
        ("a heading, in place of which the names in columns = (…) stand. If it is a row of data", "false")
    };
    head.notes
        .push(format!("The first row of {} was taken for {found}, say with (header = {other}).", head.shown));
}

/// The error of columns of one name and types that do not go together.
fn drift(column: &str, (a, first): (&Type, &Head), (b, second): (&Type, &Head)) -> Error {
    let shown = name(column);
    Error::new(ErrorKind::Type, format!("{shown} is {a} in one file and {b} in another."))
        .why(format!("{}: {a}\n{}: {b}", first.shown, second.shown))
        .next(format!("Say with (types = ({shown} text)) to read it as text in all of them,"))
        .next(format!(
            "or with (types = ({shown} {}), bad_cells = null) to make null of what does not fit.",
            if *a == Type::Text { b } else { a }
        ))
}

impl Source for CsvSource {
    fn columns(&self) -> &[SourceColumn] {
        &self.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        let (heads, options) = (self.heads.clone(), self.options.clone());
        let pool = Pool::default();
        let cutter = Cutter::new(heads, options, request.block_bytes, self.memory, pool.clone());
        let total = self.heads.iter().all(|h| h.seekable).then_some(self.about.bytes).flatten();
        let needed = |(head, casts): (&Head, &Vec<Cast>)| {
            let positions = request.columns.iter().filter_map(|c| casts.get(*c)?.position);
            Needed::new(head.names.len(), positions)
        };
        Ok(Box::new(CsvScan {
            cutter: Mutex::new(cutter),
            total,
            shared: Arc::new(CsvScanState {
                kinds: self.kinds.clone(),
                casts: self.casts.clone(),
                needed: self.heads.iter().zip(self.casts.iter()).map(needed).collect(),
                heads: self.heads.clone(),
                options: self.options.clone(),
                names: self.columns.iter().map(|c| c.name.clone()).collect(),
                file_column: self.options.file_column.as_ref().map(|_| self.columns.len() - 1),
                request,
                lines: None,
                lines_only: None,
                scratch: Mutex::default(),
                pool,
            }),
        }))
    }
}
