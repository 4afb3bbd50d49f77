//! Files of delimited text as one table, united by name.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_schema::DataType;
use churn_core::names::name;
use churn_core::{Error, ErrorKind, Result, Type};
use churn_kernels::passthrough::Form;
use churn_kernels::pool::Pool;
use churn_kernels::views::TextBlock;

use super::at::At;
use super::block::decode_block;
use super::cells::Needed;
use super::cutter::{Cut, Cutter};
use super::head::Head;
use super::options::{CsvOptions, Header};
use super::ranges::{FileRange, Scratch};
use super::{infer, passthrough};
use crate::format::{LineForm, Opening};
use crate::source::{
    About, Capability, Decoded, Guess, Lacking, LinesOnly, Morsel, Request, RowTest, Scan, Seam, Source,
    SourceColumn,
};
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
        let cutter = Cutter::new(heads, options, request.block_bytes, self.memory);
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
                pool: Pool::default(),
            }),
        }))
    }
}

/// What all blocks of a scan need.
pub(super) struct CsvScanState {
    pub(super) kinds: Arc<Vec<Type>>,
    pub(super) casts: Arc<Vec<Vec<Cast>>>,
    /// For each file the cells that are read.
    pub(super) needed: Vec<Needed>,
    pub(super) heads: Arc<Vec<Head>>,
    pub(super) options: Arc<CsvOptions>,
    pub(super) names: Vec<String>,
    pub(super) file_column: Option<usize>,
    pub(super) request: Request,
    /// For each file how its cells are written, if rows are wanted as they stand and can be had so.
    pub(super) lines: Option<Vec<Option<Vec<Form>>>>,
    /// Set where rows are wanted as lines alone.
    pub(super) lines_only: Option<LinesOnly>,
    /// Memory that no morsel is using, and blocks that no column points into.
    scratch: Mutex<Vec<Scratch>>,
    pub(super) pool: Pool,
}

impl CsvScanState {
    fn take_scratch(&self) -> Scratch {
        let mut scratch =
            self.scratch.lock().unwrap_or_else(PoisonError::into_inner).pop().unwrap_or_default();
        if scratch.bytes.is_empty() {
            scratch.bytes = self.pool.take();
        }
        scratch
    }

    fn give_back(&self, scratch: Scratch) {
        self.scratch.lock().unwrap_or_else(PoisonError::into_inner).push(scratch);
    }
}

struct CsvScan {
    cutter: Mutex<Cutter>,
    total: Option<u64>,
    shared: Arc<CsvScanState>,
}

impl CsvScan {
    /// Has rows given as they stand as well, where they are as `form` writes them; false if that is so of no file.
    fn keep_lines(&mut self, form: LineForm) -> bool {
        let Some(shared) = Arc::get_mut(&mut self.shared) else { return false };
        if !passthrough::is_usual(&shared.options, form) {
            return false;
        }
        let kinds: Vec<Type> =
            shared.request.columns.iter().filter_map(|c| shared.kinds.get(*c).cloned()).collect();
        let of_file = |(head, casts): (&Head, &Vec<Cast>)| {
            let read = shared.request.columns.iter().filter_map(|c| casts.get(*c)).enumerate();
            let mut as_they_stand = read.map(|(place, c)| c.position == Some(place) && !c.by_pattern);
            let is_all = head.names.len() == kinds.len() && as_they_stand.all(|same| same);
            if is_all { passthrough::forms(&kinds) } else { None }
        };
        let files: Vec<_> = shared.heads.iter().zip(shared.casts.iter()).map(of_file).collect();
        shared.lines = files.iter().any(Option::is_some).then_some(files);
        shared.lines.is_some()
    }

    /// Has rows given as lines alone.
    fn give_lines_only(&mut self, only: LinesOnly) -> bool {
        let is_kept = only.encoder.line_form().is_some_and(|form| self.keep_lines(form));
        if let Some(shared) = Arc::get_mut(&mut self.shared).filter(|_| is_kept) {
            shared.lines_only = Some(only);
        }
        is_kept
    }
}

impl Scan for CsvScan {
    fn enable(&mut self, capability: Capability<'_>) -> bool {
        match capability {
            Capability::LargeMorsels => {
                self.cutter.get_mut().unwrap_or_else(PoisonError::into_inner).gather();
                true
            }
            Capability::Ranges(_) => false,
            Capability::LinesToo(form) => self.keep_lines(form),
            Capability::LinesOnly(only) => self.give_lines_only(only),
        }
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let cut = self.cutter.lock().unwrap_or_else(PoisonError::into_inner).next()?;
        Ok(cut.map(|cut| {
            Box::new(CsvMorsel { cut: Some(cut), shared: self.shared.clone() }) as Box<dyn Morsel>
        }))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.cutter.lock().unwrap_or_else(PoisonError::into_inner).done, self.total)
    }
}

/// A range of a file, or a block of whole records; `None` once that was read.
struct CsvMorsel {
    cut: Option<Cut>,
    shared: Arc<CsvScanState>,
}

impl Morsel for CsvMorsel {
    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let shared = self.shared.clone();
        let mut scratch = shared.take_scratch();
        let (text, at) = match &mut self.cut {
            None => return Ok(None),
            Some(Cut::Range(range)) => {
                let Some(head) = shared.heads.get(range.file) else { return Ok(None) };
                let Some(piece) = range.next(head, &shared.options, &mut scratch)? else {
                    shared.give_back(scratch);
                    return Ok(None);
                };
                let is_guess = range.start.is_none();
                let at =
                    At { shared: &shared, file: range.file, offset: piece.offset, lines: None, is_guess };
                let text = TextBlock::new(std::mem::take(&mut scratch.bytes), piece.range, &shared.pool);
                if let Some(open) = piece.open_quote {
                    return Err(at.open_quote(text.bytes(), open));
                }
                (text, at)
            }
            Some(Cut::Block(block)) => {
                let bytes = std::mem::take(&mut block.bytes);
                let lines = Some(block.lines);
                let at =
                    At { shared: &shared, file: block.file, offset: block.offset, lines, is_guess: false };
                self.cut = None;
                let structure = &mut scratch.borders.structure;
                structure.find(&bytes, shared.options.dialect());
                if let Some(open) = structure.open_quote() {
                    return Err(at.open_quote(&bytes, open));
                }
                let length = bytes.len();
                (TextBlock::new(bytes, 0..length, &shared.pool), at)
            }
        };
        let decoded = decode_block(at, &text, &mut scratch.borders, test)?;
        shared.give_back(scratch);
        Ok(Some(decoded))
    }

    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        match &self.cut {
            Some(Cut::Range(range)) => Some(Box::new(RangeGuess { range, shared: &self.shared })),
            _ => None,
        }
    }
}

/// Where a range of a file took its first record to begin.
struct RangeGuess<'a> {
    range: &'a FileRange,
    shared: &'a Arc<CsvScanState>,
}

impl Guess for RangeGuess<'_> {
    fn seam(&self) -> Seam {
        let FileRange { file, began, at, start, .. } = *self.range;
        Seam { place: file, start: began, known: start.is_some(), end: at }
    }

    fn again(&self, start: u64) -> Box<dyn Morsel> {
        let seekable = self.range.seekable.clone();
        let bytes = seekable.range(start..self.range.to.max(start));
        let range =
            FileRange { start: Some(start), began: u64::MAX, at: start, seekable, bytes, ..*self.range };
        Box::new(CsvMorsel { cut: Some(Cut::Range(range)), shared: self.shared.clone() })
    }
}
