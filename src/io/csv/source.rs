//! Files of delimited text as one table, united by name.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{Array, ArrayRef, BooleanArray, StringViewArray, new_null_array};
use arrow_schema::DataType;
use churn_kernels::cells::Rows;
use churn_kernels::grid::Ragged;
use churn_kernels::pool::Pool;
use churn_kernels::verbatim::Form;
use churn_kernels::views::TextBlock;

use super::cells::{Borders, Cells, Needed};
use super::cutter::{Cut, Cutter, count_lines};
use super::decode;
use super::head::Head;
use super::infer;
use super::options::{BadCells, BadRows, CsvOptions};
use super::ranges::{Range, Scratch};
use super::ready;
use crate::error::{Error, ErrorKind, Result};
use crate::expr::{Batch, Event, Type};
use crate::io::format::LineForm;
use crate::io::source::{About, Decoded, Morsel, Request, RowTest, Scan, Seam, Source, SourceColumn};
use crate::table::numbers::plural;
use crate::text::name;

/// How one file's cells become a column of the table.
#[derive(Clone, Copy, Debug)]
struct Cast {
    /// The cell's position in the file; `None` if the file has no such column.
    position: Option<usize>,
    /// Whether its dates are written by the option's pattern.
    by_pattern: bool,
}

/// Files of delimited text as one table.
#[derive(Debug)]
pub(crate) struct CsvSource {
    columns: Vec<SourceColumn>,
    kinds: Arc<Vec<Type>>,
    /// For each file, for each column of the table.
    casts: Arc<Vec<Vec<Cast>>>,
    heads: Arc<Vec<Head>>,
    options: Arc<CsvOptions>,
    about: About,
}

impl CsvSource {
    /// Looks at the files: headings, and cells at the start, the middle and the end.
    ///
    /// # Errors
    /// A file cannot be read; columns of one name have types that do not go together; an option names a column
    /// that is not there.
    pub(crate) fn new(files: &[PathBuf], base: &Path, options: CsvOptions) -> Result<CsvSource> {
        let mut source = CsvSource {
            columns: Vec::new(),
            kinds: Arc::default(),
            casts: Arc::default(),
            heads: Arc::default(),
            options: Arc::new(options),
            about: About { files: files.len(), bytes: Some(0), rows_about: Some(0), ..About::default() },
        };
        let mut heads = Vec::new();
        let mut looks = Vec::new();
        for file in files {
            let shown = file.strip_prefix(base).unwrap_or(file).display().to_string();
            let mut head = Head::read(file, &shown, &source.options)?;
            let (look, row_bytes) = infer::look(&head, &source.options)?;
            source.about.bytes = source.about.bytes.zip(head.size).map(|(a, b)| a + b);
            let rows = head.size.filter(|_| head.seekable).map(|size| {
                let data = size.saturating_sub(head.data as u64);
                (data as f64 / row_bytes.max(1.0)).round() as u64
            });
            source.about.rows_about = source.about.rows_about.zip(rows).map(|(a, b)| a + b);
            source.about.notes.append(&mut head.notes);
            heads.push(head);
            looks.push(look);
        }
        source.unite(&heads, &looks)?;
        source.heads = Arc::new(heads);
        Ok(source)
    }

    /// Columns by name over all files, in order of first appearance.
    fn unite(&mut self, heads: &[Head], looks: &[Vec<infer::Look>]) -> Result<()> {
        let mut names: Vec<&str> = Vec::new();
        for head in heads {
            for column in &head.names {
                if !names.contains(&column.as_str()) {
                    names.push(column);
                }
            }
        }
        if let Some((lost, _)) = self.options.types.iter().find(|(n, _)| !names.contains(&n.as_str())) {
            let error = Error::new(
                ErrorKind::Name,
                format!("types names a column {} that is not there.", name(lost)),
            );
            let error =
                error.why(format!("The columns are {}.", crate::text::comma(names.iter().map(|n| name(n)))));
            return Err(match crate::error::nearest(lost, names.iter().copied()) {
                Some(near) => error.next(format!("Did you mean {}?", name(near))),
                None => error,
            });
        }
        let mut kinds = Vec::new();
        let mut casts = vec![Vec::new(); heads.len()];
        for column in &names {
            let wanted = self.options.types.iter().find(|(n, _)| n == column).map(|(_, t)| t.clone());
            let mut shared: Option<(Type, &Head)> = None;
            let own = |(head, look): (&Head, &Vec<infer::Look>)| {
                head.names.iter().position(|n| n == column).and_then(|p| look.get(p)).cloned()
            };
            let keeps_digits = heads.iter().zip(looks).filter_map(own).any(|l| l.is_text_for_its_digits());
            for ((head, look), casts) in heads.iter().zip(looks).zip(&mut casts) {
                let position = head.names.iter().position(|n| n == column);
                let Some(look) = position.and_then(|p| look.get(p)) else {
                    casts.push(Cast { position: None, by_pattern: false });
                    continue;
                };
                if let Some(wanted) = &wanted {
                    let dated = wanted.is_temporal();
                    casts.push(Cast { position, by_pattern: dated && look.is_by_pattern() });
                    continue;
                }
                let found = look.kind(&self.options);
                casts.push(Cast { position, by_pattern: found.as_ref().is_some_and(|(_, by)| *by) });
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
                        Some((before, first)) => match before.unite(&kind) {
                            Some(united) => (united, first),
                            None => return Err(drift(column, (&before, first), (&kind, head))),
                        },
                    });
                }
            }
            let kind = wanted.or(shared.map(|(kind, _)| kind));
            let open = kind.is_none();
            let kind = kind.unwrap_or(Type::Text);
            self.columns.push(SourceColumn { name: (*column).to_owned(), data: kind.arrow(), open });
            kinds.push(kind);
        }
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
            casts.iter_mut().for_each(|c| c.push(Cast { position: None, by_pattern: false }));
        }
        self.kinds = Arc::new(kinds);
        self.casts = Arc::new(casts);
        Ok(())
    }
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
        let cutter = Cutter::new(self.heads.clone(), self.options.clone(), request.block_bytes);
        let total = self.heads.iter().all(|h| h.seekable).then_some(self.about.bytes).flatten();
        let needed = |(head, casts): (&Head, &Vec<Cast>)| {
            let positions = request.columns.iter().filter_map(|c| casts.get(*c)?.position);
            Needed::new(head.names.len(), positions)
        };
        Ok(Box::new(CsvScan {
            cutter: Mutex::new(cutter),
            total,
            shared: Arc::new(Shared {
                kinds: self.kinds.clone(),
                casts: self.casts.clone(),
                needed: self.heads.iter().zip(self.casts.iter()).map(needed).collect(),
                heads: self.heads.clone(),
                options: self.options.clone(),
                names: self.columns.iter().map(|c| c.name.clone()).collect(),
                file_column: self.options.file_column.as_ref().map(|_| self.columns.len() - 1),
                request,
                ready: Vec::new(),
                scratch: Mutex::default(),
                pool: Pool::default(),
            }),
        }))
    }
}

/// What all blocks of a scan need.
struct Shared {
    kinds: Arc<Vec<Type>>,
    casts: Arc<Vec<Vec<Cast>>>,
    /// For each file the cells that are read.
    needed: Vec<Needed>,
    heads: Arc<Vec<Head>>,
    options: Arc<CsvOptions>,
    names: Vec<String>,
    file_column: Option<usize>,
    request: Request,
    /// For each file how its cells are written, if rows are wanted as they stand and can be had so.
    ready: Vec<Option<Vec<Form>>>,
    /// Memory that no morsel is using, and blocks that no column points into.
    scratch: Mutex<Vec<Scratch>>,
    pool: Pool,
}

impl Shared {
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
    shared: Arc<Shared>,
}

impl Scan for CsvScan {
    fn gather(&mut self, most: u64) {
        self.cutter.get_mut().unwrap_or_else(PoisonError::into_inner).gather(most);
    }

    fn keep_lines(&mut self, form: LineForm) -> bool {
        let Some(shared) = Arc::get_mut(&mut self.shared) else { return false };
        if !ready::is_usual(&shared.options, form) {
            return false;
        }
        let kinds: Vec<Type> =
            shared.request.columns.iter().filter_map(|c| shared.kinds.get(*c).cloned()).collect();
        let of_file = |(head, casts): (&Head, &Vec<Cast>)| {
            let read = shared.request.columns.iter().filter_map(|c| casts.get(*c)).enumerate();
            let mut as_they_stand = read.map(|(place, c)| c.position == Some(place) && !c.by_pattern);
            let is_all = head.names.len() == kinds.len() && as_they_stand.all(|same| same);
            if is_all { ready::forms(&kinds) } else { None }
        };
        shared.ready = shared.heads.iter().zip(shared.casts.iter()).map(of_file).collect();
        if shared.ready.iter().all(Option::is_none) {
            shared.ready.clear();
        }
        !shared.ready.is_empty()
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
    shared: Arc<Shared>,
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
                let at = At { shared: &shared, file: range.file, offset: piece.offset, lines: None };
                let text = TextBlock::new(std::mem::take(&mut scratch.bytes), piece.range, &shared.pool);
                if let Some(open) = piece.open_quote {
                    return Err(at.open_quote(text.bytes(), open));
                }
                (text, at)
            }
            Some(Cut::Block(block)) => {
                let bytes = std::mem::take(&mut block.bytes);
                let at =
                    At { shared: &shared, file: block.file, offset: block.offset, lines: Some(block.lines) };
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

    fn seam(&self) -> Option<Seam> {
        match &self.cut {
            Some(Cut::Range(range)) => Some(Seam {
                place: range.file,
                start: range.began,
                known: range.start.is_some(),
                end: range.at,
            }),
            _ => None,
        }
    }

    fn again(&self, start: u64) -> Option<Box<dyn Morsel>> {
        let Some(Cut::Range(range)) = &self.cut else { return None };
        let range = Range {
            start: Some(start),
            began: u64::MAX,
            at: start,
            seekable: range.seekable.clone(),
            ..*range
        };
        Some(Box::new(CsvMorsel { cut: Some(Cut::Range(range)), shared: self.shared.clone() }))
    }
}

/// The rows of a block whose structure is known.
fn decode_block(
    at: At<'_>,
    text: &TextBlock,
    borders: &mut Borders,
    test: Option<&mut dyn RowTest>,
) -> Result<Decoded> {
    let shared = at.shared;
    let lost = || Error::new(ErrorKind::Internal, "A block is of no file.");
    let needed = shared.needed.get(at.file).ok_or_else(lost)?;
    let cells = Cells::find(text.bytes(), borders, needed, &shared.options);
    let mut events = Vec::new();
    let mut rejects = Vec::new();
    if let Some(first) = cells.ragged().first() {
        if shared.options.bad_rows == BadRows::Stop {
            let width = shared.heads.get(at.file).map_or(0, |h| h.names.len());
            return Err(at.ragged(&cells, first, width));
        }
        events.push((Event::RaggedRow, cells.ragged().len()));
        if let BadRows::Rejects(_) = shared.options.bad_rows {
            let raw = cells.ragged().iter().filter_map(|r| text.bytes().get(r.start..r.end));
            raw.for_each(|r| rejects.extend_from_slice(r));
        }
    }
    let mut columns = Columns { at, text, cells: &cells, bad: Vec::new() };
    let rows = cells.rows();
    let batch = match test {
        None => columns.all(Rows::All(rows))?,
        Some(test) => columns.tested(rows, test)?,
    };
    let bad = columns.bad;
    if !bad.is_empty() {
        if shared.options.bad_cells == BadCells::Stop {
            let first = bad.iter().min().copied().unwrap_or_default();
            return Err(at.bad_cell(&cells, first.0, first.1));
        }
        events.push((Event::BadCell, bad.len()));
    }
    Ok(Decoded { batch, rows, events, rejects, skipped: 0 })
}

/// Decodes the columns of one block.
struct Columns<'a> {
    at: At<'a>,
    text: &'a TextBlock,
    cells: &'a Cells<'a>,
    /// Row and column of each bad cell.
    bad: Vec<(usize, usize)>,
}

impl Columns<'_> {
    fn column(&mut self, column: usize, rows: Rows<'_>) -> Result<arrow_array::ArrayRef> {
        let shared = self.at.shared;
        let kind = shared.kinds.get(column).cloned().unwrap_or(Type::Text);
        if shared.file_column == Some(column) {
            let file = shared.heads.get(self.at.file).map_or("", |h| h.shown.as_str());
            return Ok(Arc::new(StringViewArray::from_iter_values(std::iter::repeat_n(file, rows.len()))));
        }
        let cast = shared.casts.get(self.at.file).and_then(|c| c.get(column)).copied();
        let Some(Cast { position: Some(position), by_pattern }) = cast else {
            return Ok(new_null_array(&kind.arrow(), rows.len()));
        };
        let decoded =
            decode::column(self.text, self.cells, position, &kind, by_pattern, rows, &shared.options)
                .map_err(|bad| self.at.not_utf8(self.text.bytes(), bad.0))?;
        self.bad.extend(decoded.bad.into_iter().map(|row| (row, column)));
        Ok(decoded.array)
    }

    fn all(&mut self, rows: Rows<'_>) -> Result<Batch> {
        let wanted = self.at.shared.request.columns.clone();
        let mut columns = wanted.iter().map(|c| self.column(*c, rows)).collect::<Result<Vec<_>>>()?;
        columns.extend(self.ready(&columns, rows));
        Ok(Batch { columns, rows: rows.len() })
    }

    /// The rows as they stand, if they are wanted so; `columns` are their cells.
    fn ready(&self, columns: &[ArrayRef], rows: Rows<'_>) -> Option<ArrayRef> {
        if self.at.shared.ready.is_empty() {
            return None;
        }
        Some(match self.at.shared.ready.get(self.at.file).and_then(Option::as_ref) {
            Some(forms) => ready::lines(forms, self.text, self.cells, columns, rows),
            None => new_null_array(&DataType::BinaryView, rows.len()),
        })
    }

    /// The columns of the test first; the others only of the rows that pass.
    fn tested(&mut self, rows: usize, test: &mut dyn RowTest) -> Result<Batch> {
        let wanted = self.at.shared.request.columns.clone();
        let tested: Vec<usize> = test.columns().to_vec();
        let columns = tested
            .iter()
            .filter_map(|i| wanted.get(*i))
            .map(|c| self.column(*c, Rows::All(rows)))
            .collect::<Result<_>>()?;
        let part = Batch { columns, rows };
        let keep = test.test(&part)?;
        let kept = true_rows(&keep);
        let part = if kept.len() == rows { part } else { part.filter(&keep)? };
        let mut columns = Vec::with_capacity(wanted.len());
        for (i, column) in wanted.iter().enumerate() {
            columns.push(match tested.iter().position(|t| *t == i).and_then(|p| part.columns.get(p)) {
                Some(array) => array.clone(),
                None if kept.len() == rows => self.column(*column, Rows::All(rows))?,
                None => self.column(*column, Rows::These(&kept))?,
            });
        }
        let rows = if kept.len() == rows { Rows::All(rows) } else { Rows::These(&kept) };
        columns.extend(self.ready(&columns, rows));
        Ok(Batch { columns, rows: kept.len() })
    }
}

/// The rows that are true.
fn true_rows(keep: &BooleanArray) -> Vec<u32> {
    let bits = match keep.nulls() {
        None => keep.values().clone(),
        Some(nulls) => keep.values() & nulls.inner(),
    };
    bits.set_indices_u32().collect()
}

/// Where a block stands, for messages.
#[derive(Clone, Copy)]
struct At<'a> {
    shared: &'a Shared,
    file: usize,
    offset: u64,
    lines: Option<u64>,
}

impl At<'_> {
    fn shown(&self) -> &str {
        self.shared.heads.get(self.file).map_or("", |h| h.shown.as_str())
    }

    /// The number of the line that holds a byte of the block.
    fn line(&self, bytes: &[u8], place: usize) -> Option<u64> {
        let within = count_lines(bytes.get(..place).unwrap_or(bytes));
        match self.lines {
            Some(lines) => Some(lines + within + 1),
            None => Some(line_at(self.shared.heads.get(self.file)?, self.offset)? + within),
        }
    }

    fn not_utf8(&self, bytes: &[u8], place: usize) -> Error {
        Error::new(ErrorKind::Data, "The text is not UTF-8.")
            .in_file(self.shown(), self.line(bytes, place), None)
            .next("Say with (encoding = 'latin1') if it comes from an older program, or 'utf-16'.")
    }

    fn open_quote(&self, bytes: &[u8], place: usize) -> Error {
        Error::new(ErrorKind::Data, "A quote opens here and never closes.")
            .in_file(self.shown(), self.line(bytes, place), None)
            .next("Mend the line, or say with (quote = none) if the file has no quoted cells.")
    }

    fn ragged(&self, cells: &Cells<'_>, row: &Ragged, width: usize) -> Error {
        let line = cells.bytes.get(row.start..row.end).unwrap_or_default();
        let line: String = String::from_utf8_lossy(line).trim_end().chars().take(100).collect();
        let (cells_found, columns) = (plural(row.cells as u64, "cell"), plural(width as u64, "column"));
        let what = format!("A row has {cells_found} where the table has {columns}.");
        let mut error = Error::new(ErrorKind::Data, what)
            .in_file(self.shown(), self.line(cells.bytes, row.start), None)
            .why(line);
        if width == 1 {
            error = error.next("If the cells are separated by something else, say with (separator = ';').");
        }
        error
            .next("Say with (bad_rows = skip) to leave such rows out and count them,")
            .next("or with (bad_rows = 'rejects.csv') to write them to a file.")
    }

    fn bad_cell(&self, cells: &Cells<'_>, row: usize, column: usize) -> Error {
        let kind = self.shared.kinds.get(column).cloned().unwrap_or(Type::Text);
        let cast = self.shared.casts.get(self.file).and_then(|c| c.get(column));
        let cell = cast.and_then(|c| c.position).map(|p| cells.get(row, p));
        let value = cell.map(|c| String::from_utf8_lossy(&cells.plain(c)).into_owned()).unwrap_or_default();
        let place = cell.map_or(0, |c| c.start);
        let shown = self.shared.names.get(column).map(String::as_str).unwrap_or_default();
        let quoted = name(shown);
        let article = if kind == Type::Int { "an" } else { "a" };
        let value: String = value.chars().take(60).collect();
        let error = Error::new(ErrorKind::Data, format!("'{value}' is not {article} {kind}."))
            .in_file(self.shown(), self.line(cells.bytes, place), Some(shown))
            .why("The column was taken for one by the cells looked at before the run, or by types = (…).");
        let error = match wider(&kind, value.as_bytes()) {
            Some(wider) => error.next(format!("Say with (types = ({quoted} {wider})): this cell is one.")),
            None => error,
        };
        error
            .next("Say with (bad_cells = null) to make null of such cells and count them,")
            .next(format!("with (missing = ('', '{}')) if this text means null,", value.replace('\'', "''")))
            .next(format!("or with (types = ({quoted} text)) to read the column as text."))
    }
}

/// The wider type that a cell fits which is not of its column's type.
fn wider(kind: &Type, value: &[u8]) -> Option<Type> {
    match kind {
        Type::Int => churn_kernels::number::parse_float(value).map(|_| Type::Float),
        Type::Date => churn_kernels::calendar::parse_timestamp(value).map(|_| Type::Timestamp),
        _ => None,
    }
}

/// The number of the line that holds a byte of a file, by reading up to there.
pub(super) fn line_at(head: &Head, offset: u64) -> Option<u64> {
    use std::io::Read;
    let mut reader = std::fs::File::open(&head.path).ok()?.take(offset);
    let mut buffer = vec![0; 1 << 18];
    let mut lines = 1;
    loop {
        match reader.read(&mut buffer).ok()? {
            0 => return Some(lines),
            n => lines += count_lines(buffer.get(..n)?),
        }
    }
}
