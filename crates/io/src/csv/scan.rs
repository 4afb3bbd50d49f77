//! Reading files of delimited text: ranges and blocks, decoded by the workers that take them.

use std::sync::{Arc, Mutex, PoisonError};

use churn_core::{Result, Type};
use churn_kernels::passthrough::Form;
use churn_kernels::pool::Pool;
use churn_kernels::views::TextBlock;

use super::at::At;
use super::block::decode_block;
use super::cells::Needed;
use super::cutter::{Block, Cut, Cutter};
use super::head::Head;
use super::options::CsvOptions;
use super::passthrough;
use super::ranges::{FileRange, Scratch};
use super::source::Cast;
use crate::format::LineForm;
use crate::source::{Capability, Decoded, Guess, LinesOnly, Morsel, Request, RowTest, Scan, Seam};

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
    pub(super) scratch: Mutex<Vec<Scratch>>,
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

/// A scan of files of delimited text; a range or a block is a morsel.
pub(super) struct CsvScan {
    pub(super) cutter: Mutex<Cutter>,
    /// Bytes of all files, if they are known.
    pub(super) total: Option<u64>,
    pub(super) shared: Arc<CsvScanState>,
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
        Ok(cut.map(|cut| Box::new(CsvMorsel { cut, shared: self.shared.clone() }) as Box<dyn Morsel>))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.cutter.lock().unwrap_or_else(PoisonError::into_inner).done, self.total)
    }
}

/// A range of a file, or blocks of whole records.
struct CsvMorsel {
    cut: Cut,
    shared: Arc<CsvScanState>,
}

impl Morsel for CsvMorsel {
    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let shared = self.shared.clone();
        let mut scratch = shared.take_scratch();
        let (text, at) = match &mut self.cut {
            Cut::Range(range) => {
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
            Cut::Blocks(blocks) => {
                let Some(Block { file, offset, lines, bytes, length }) = blocks.next() else {
                    shared.give_back(scratch);
                    return Ok(None);
                };
                let at = At { shared: &shared, file, offset, lines: Some(lines), is_guess: false };
                let text = TextBlock::new(bytes, 0..length, &shared.pool);
                let structure = &mut scratch.borders.structure;
                structure.find(text.bytes(), shared.options.dialect());
                if let Some(open) = structure.open_quote() {
                    return Err(at.open_quote(text.bytes(), open));
                }
                (text, at)
            }
        };
        let decoded = decode_block(at, &text, &mut scratch.borders, test)?;
        shared.give_back(scratch);
        Ok(Some(decoded))
    }

    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        match &self.cut {
            Cut::Range(range) => Some(Box::new(RangeGuess { range, shared: &self.shared })),
            Cut::Blocks(_) => None,
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
        let bytes = seekable.range(start..self.range.to.max(start), true);
        let range =
            FileRange { start: Some(start), began: u64::MAX, at: start, seekable, bytes, ..*self.range };
        Box::new(CsvMorsel { cut: Cut::Range(range), shared: self.shared.clone() })
    }
}
