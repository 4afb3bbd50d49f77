//! ORC files as one table, united by name.

use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use churn_core::{Batch, Result, Type};

use super::file::{OrcFile, StripeBatches};
use super::skip;
use crate::format::Opening;
use crate::merge_schemas::{self, FileRows, MergedSchema};
use crate::ranges::Range;
use crate::source::{
    About, Capability, Decoded, Guess, Morsel, Request, RowTest, Scan, Source, SourceColumn,
};

/// ORC files as one table.
#[derive(Debug)]
pub struct OrcSource {
    files: Arc<Vec<OrcFile>>,
    united: Arc<MergedSchema>,
    about: About,
}

impl OrcSource {
    /// Reads the footers of some files.
    ///
    /// # Errors
    /// A file cannot be read, or columns of one name have types that do not go together.
    pub fn new(files: &[PathBuf], opening: &Opening) -> Result<OrcSource> {
        let open_files = Arc::default();
        let open = |file: &PathBuf| {
            OrcFile::open(file, &merge_schemas::shown(file, &opening.base), &open_files, opening)
        };
        let opened: Vec<OrcFile> = files.iter().map(open).collect::<Result<_>>()?;
        let columns = opened.iter().map(|f| (f.shown.as_str(), f.columns.as_slice()));
        let united = MergedSchema::of_files(columns, opening.options.file_column.as_deref())?;
        let about = About {
            files: files.len(),
            bytes: Some(opened.iter().map(OrcFile::bytes).sum()),
            rows: Some(opened.iter().map(OrcFile::rows).sum()),
            notes: opened.iter().flat_map(|f| f.notes.clone()).collect(),
            lacking: united.lacking.clone(),
            ..About::default()
        };
        Ok(OrcSource { files: Arc::new(opened), united: Arc::new(united), about })
    }
}

impl Source for OrcSource {
    fn columns(&self) -> &[SourceColumn] {
        &self.united.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        let shared = OrcScanState { files: self.files.clone(), united: self.united.clone(), request };
        let next = NextStripe { file: 0, stripe: 0, done: 0 };
        Ok(Box::new(OrcScan { shared: Arc::new(shared), next: Mutex::new(next), total: self.about.bytes }))
    }
}

struct OrcScanState {
    files: Arc<Vec<OrcFile>>,
    united: Arc<MergedSchema>,
    request: Request,
}

impl OrcScanState {
    /// The ranges of the request as ranges of columns at the root of a file, for those that are carried as they are in the file.
    fn ranges(&self, number: usize, file: &OrcFile) -> Vec<(usize, &Range)> {
        let places = self.united.places.get(number);
        let root_of = |column: usize| {
            let flat = file.columns.get(places?.get(column).copied()??)?;
            let as_it_is = Type::of(&self.united.columns.get(column)?.data) == Type::of(&flat.data);
            flat.path.first().copied().filter(|_| as_it_is && flat.path.len() == 1)
        };
        let ranges = self.request.ranges.iter();
        ranges.filter_map(|(column, range)| Some((root_of(*column)?, range))).collect()
    }

    /// The places at the root of a file of the columns that are wanted, rising.
    fn roots(&self, number: usize, file: &OrcFile) -> Vec<usize> {
        let ways = self.request.columns.iter().filter_map(|c| self.united.way(*c, number, &file.columns));
        let mut roots: Vec<usize> = ways.map(|(root, _)| root).collect();
        roots.sort_unstable();
        roots.dedup();
        roots
    }
}

/// Where the next stripe is.
struct NextStripe {
    file: usize,
    stripe: usize,
    done: u64,
}

struct OrcScan {
    shared: Arc<OrcScanState>,
    next: Mutex<NextStripe>,
    total: Option<u64>,
}

impl Scan for OrcScan {
    fn enable(&mut self, capability: Capability<'_>) -> bool {
        let (Capability::Ranges(ranges), Some(shared)) = (capability, Arc::get_mut(&mut self.shared)) else {
            return false;
        };
        let Request { columns, ranges: own, .. } = &mut shared.request;
        own.extend(ranges.iter().filter_map(|(i, range)| Some((columns.get(*i).copied()?, range.clone()))));
        true
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        while let Some(file) = self.shared.files.get(next.file) {
            if let Some(stripe) = file.metadata.stripe_metadatas().get(next.stripe) {
                next.done += stripe.data_length();
                let state = StripeState::Start;
                let morsel =
                    OrcMorsel { shared: self.shared.clone(), file: next.file, stripe: next.stripe, state };
                next.stripe += 1;
                return Ok(Some(Box::new(morsel)));
            }
            (next.file, next.stripe) = (next.file + 1, 0);
        }
        Ok(None)
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.next.lock().unwrap_or_else(PoisonError::into_inner).done, self.total)
    }
}

/// How far a stripe is read.
enum StripeState {
    Start,
    /// The places of the columns that are read, and what decodes them.
    Reading(Vec<usize>, Box<StripeBatches>),
    Done,
}

struct OrcMorsel {
    shared: Arc<OrcScanState>,
    file: usize,
    stripe: usize,
    state: StripeState,
}

impl Morsel for OrcMorsel {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let shared = self.shared.clone();
        let Some(file) = shared.files.get(self.file) else { return Ok(None) };
        let rows_of = |stripe: &orc_rust::stripe::StripeMetadata| stripe.number_of_rows() as usize;
        if let StripeState::Start = self.state {
            self.state = StripeState::Done;
            let rows = file.metadata.stripe_metadatas().get(self.stripe).map_or(0, rows_of);
            if !skip::may_hold(file, self.stripe, &shared.ranges(self.file, file)) {
                let data = |c: &usize| shared.united.columns.get(*c).map(|c| c.data.clone());
                let columns = shared.request.columns.iter().filter_map(data);
                let columns = columns.map(|data| arrow_array::new_empty_array(&data)).collect();
                return Ok(Some(Decoded { skipped: rows, ..Decoded::of(Batch { columns, rows: 0 }, 0) }));
            }
            let roots = shared.roots(self.file, file);
            if roots.is_empty() {
                // No column of the file is needed: its rows are told by the footer.
                let of = FileRows { file: self.file, shown: &file.shown, columns: &file.columns, rows };
                let columns = shared.united.columns_of(&shared.request.columns, &of, |_| None)?;
                return Decoded::tested(Batch { columns, rows }, test).map(Some);
            }
            let batches = Box::new(file.stripe(self.stripe, &roots)?);
            self.state = StripeState::Reading(roots, batches);
        }
        let StripeState::Reading(roots, batches) = &mut self.state else { return Ok(None) };
        let Some(read) = file.next_of(batches)? else { return Ok(None) };
        let rows = read.num_rows();
        let of = FileRows { file: self.file, shown: &file.shown, columns: &file.columns, rows };
        let field = |root: usize| read.columns().get(roots.iter().position(|own| *own == root)?);
        let columns = shared.united.columns_of(&shared.request.columns, &of, field)?;
        Decoded::tested(Batch { columns, rows }, test).map(Some)
    }
}
