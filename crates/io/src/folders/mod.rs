//! Folders of `key=value` folders as one table: each key is a column, and a folder that a condition on it rules out
//! is not opened again.
//!
//! The files of one folder are a source of their own; rows of folders that are left out are counted where the format
//! tells how many there are.

mod names;

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{ArrayRef, BooleanArray, new_null_array};
use arrow_schema::DataType;
use churn_core::{Batch, Result, Scalar, Type};

use crate::merge_schemas::{FileColumns, MergedSchema, cast_to};
use crate::ranges::Range;
use crate::source::{
    About, Capability, Decoded, Guess, Looked, Morsel, Request, RowTest, Scan, Seam, Source, SourceColumn,
};
pub(crate) use names::{folder_name, is_of_key};
use names::{keys_of, kind, value};

/// Files with the same keys and values.
#[derive(Debug)]
struct Folder {
    source: Arc<dyn Source>,
    values: Vec<Scalar>,
}

/// Folders as one table.
#[derive(Debug)]
pub(crate) struct FolderSource {
    folders: Arc<Vec<Folder>>,
    united: Arc<MergedSchema>,
    /// How many of the columns are keys: the last ones.
    keys: usize,
    about: About,
}

/// Opens files of one folder, with the types of some columns told.
type Open<'a> = dyn Fn(&[PathBuf], &[(String, Type)]) -> Result<Arc<dyn Source>> + 'a;

/// Opens files as one table: by folders, if all of them are in `key=value` folders of the same keys.
///
/// # Errors
/// As `open` has them; or columns of one name have types that do not go together.
pub fn opened(files: &[PathBuf], base: &Path, open: &Open<'_>) -> Result<Arc<dyn Source>> {
    let keys: Vec<Vec<(String, String)>> = files.iter().map(|f| keys_of(f, base)).collect();
    let names = |keys: &[(String, String)]| keys.iter().map(|(k, _)| k.clone()).collect::<Vec<_>>();
    let first = keys.first().map(|k| names(k)).unwrap_or_default();
    if first.is_empty() || keys.iter().any(|k| names(k) != first) {
        return open(files, &[]);
    }
    let mut parts: Vec<(Vec<String>, Vec<PathBuf>)> = Vec::new();
    for (file, keys) in files.iter().zip(&keys) {
        let values: Vec<String> = keys.iter().map(|(_, v)| v.clone()).collect();
        match parts.iter_mut().find(|(v, _)| *v == values) {
            Some((_, files)) => files.push(file.clone()),
            None => parts.push((values, vec![file.clone()])),
        }
    }
    let kinds: Vec<Type> = (0..first.len())
        .map(|i| kind(parts.iter().filter_map(|(values, _)| values.get(i)).map(String::as_str)))
        .collect();
    let folder = |(values, files): &(Vec<String>, Vec<PathBuf>)| {
        let values = values.iter().zip(&kinds).map(|(text, kind)| value(text, kind)).collect();
        Ok(Folder { source: open(files, &[])?, values })
    };
    let mut folders: Vec<Folder> = parts.iter().map(folder).collect::<Result<_>>()?;
    told(&mut folders, &parts, open)?;
    let shown = parts.iter().map(|(values, _)| values.join("/")).collect();
    let keys = first.iter().zip(&kinds);
    let keys = keys.map(|(name, kind)| SourceColumn { name: name.clone(), data: kind.arrow(), open: false });
    merged(folders, shown, keys.collect())
}

/// Sources of files, each with what messages call it, as one table of the columns of all.
///
/// # Errors
/// Columns of one name have types that do not go together.
pub(crate) fn together(sources: Vec<(String, Arc<dyn Source>)>) -> Result<Arc<dyn Source>> {
    let (shown, folders) =
        sources.into_iter().map(|(shown, source)| (shown, Folder { source, values: Vec::new() })).unzip();
    merged(folders, shown, Vec::new())
}

/// Folders, each with what messages call it, as one table; behind their columns the keys, of which each has values.
fn merged(folders: Vec<Folder>, shown: Vec<String>, keys: Vec<SourceColumn>) -> Result<Arc<dyn Source>> {
    let listed: Vec<FileColumns<'_>> = folders
        .iter()
        .zip(&shown)
        .map(|(f, shown)| FileColumns {
            shown,
            // A key's column in the files, if there is one, gives way to the folder's.
            columns: f
                .source
                .columns()
                .iter()
                .filter(|c| !keys.iter().any(|key| key.name == c.name))
                .map(|c| (c.name.as_str(), &c.data))
                .collect(),
        })
        .collect();
    let mut united = MergedSchema::new(&listed, None)?;
    for (places, folder) in united.places.iter_mut().zip(&folders) {
        let place = |c: &SourceColumn| folder.source.columns().iter().position(|own| own.name == c.name);
        *places = united.columns.iter().map(place).collect();
    }
    let key_count = keys.len();
    united.columns.extend(keys);
    let sum = |f: fn(&About) -> Option<u64>| folders.iter().map(|p| f(p.source.about())).sum::<Option<u64>>();
    let within = || folders.iter().find_map(|folder| folder.source.about().lacking.clone());
    let about = About {
        lacking: united.lacking.clone().or_else(within),
        files: folders.iter().map(|folder| folder.source.about().files).sum(),
        bytes: sum(|a| a.bytes),
        rows: sum(|a| a.rows),
        rows_about: sum(|a| a.rows_about.or(a.rows)),
        looked: folders.iter().filter_map(|f| f.source.about().looked).reduce(Looked::and),
        notes: folders.iter().flat_map(|f| f.source.about().notes.clone()).collect(),
        transfers: folders.iter().flat_map(|f| f.source.about().transfers.clone()).collect(),
    };
    Ok(Arc::new(FolderSource {
        folders: Arc::new(folders),
        united: Arc::new(united),
        keys: key_count,
        about,
    }))
}

/// Opens folders again in which no value tells a column's type that other folders tell.
fn told(folders: &mut [Folder], parts: &[(Vec<String>, Vec<PathBuf>)], open: &Open<'_>) -> Result<()> {
    let known: Vec<SourceColumn> =
        folders.iter().flat_map(|f| f.source.columns()).filter(|c| !c.open).cloned().collect();
    for (folder, (_, files)) in folders.iter_mut().zip(parts) {
        let other = |c: &SourceColumn| {
            let other = known.iter().find(|k| k.name == c.name)?;
            Some((c.name.clone(), Type::of(&other.data)?))
        };
        let types: Vec<(String, Type)> =
            folder.source.columns().iter().filter(|c| c.open).filter_map(other).collect();
        if !types.is_empty() {
            folder.source = open(files, &types)?;
        }
    }
    Ok(())
}

impl Source for FolderSource {
    fn columns(&self) -> &[SourceColumn] {
        &self.united.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn bytes_of(&self, columns: &[usize]) -> Option<u64> {
        let of_files = |number: usize, folder: &Folder| {
            let places =
                columns.iter().filter_map(|column| self.united.places.get(number)?.get(*column).copied()?);
            folder.source.bytes_of(&places.collect::<Vec<_>>())
        };
        self.folders.iter().enumerate().map(|(number, folder)| of_files(number, folder)).sum()
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        let shared = FolderScanState {
            folders: self.folders.clone(),
            united: self.united.clone(),
            keys: self.keys,
            request,
        };
        let state = OpenFolder { next: 0, open: None };
        let narrowed = Vec::new();
        Ok(Box::new(FolderScan {
            shared: Arc::new(shared),
            state: Mutex::new(state),
            gathers: false,
            narrowed,
        }))
    }
}

struct FolderScanState {
    folders: Arc<Vec<Folder>>,
    united: Arc<MergedSchema>,
    keys: usize,
    request: Request,
}

impl FolderScanState {
    /// The key that a column is, by its place among the keys.
    fn key(&self, column: usize) -> Option<usize> {
        column.checked_sub(self.united.columns.len() - self.keys)
    }

    /// Whether rows of a folder can be within these ranges of the table's columns.
    fn may_pass<'r>(&self, folder: &Folder, mut ranges: impl Iterator<Item = &'r (usize, Range)>) -> bool {
        ranges.all(|(column, range)| {
            let value = self.key(*column).and_then(|key| folder.values.get(key));
            match value {
                // Null is within no range.
                Some(Scalar::Null) => false,
                Some(value) => range.meets(value, value),
                None => true,
            }
        })
    }

    /// The place of a column in the files of a folder; `None` for a key, and where the files lack it.
    fn place(&self, number: usize, column: usize) -> Option<usize> {
        self.united.places.get(number)?.get(column).copied().flatten()
    }

    /// What is wanted of the files of a folder: the columns that they have, and ranges of those whose type is the
    /// table's.
    fn request(&self, number: usize) -> Request {
        let columns = self.request.columns.iter().filter_map(|column| self.place(number, *column));
        let ranges = self.request.ranges.iter().filter_map(|(column, range)| {
            let place = self.place(number, *column).filter(|_| self.has_type_of_table(number, *column))?;
            Some((place, range.clone()))
        });
        Request {
            columns: columns.collect(),
            block_bytes: self.request.block_bytes,
            ranges: ranges.collect(),
        }
    }

    /// Whether the files of a folder carry a column in the type that the table has it in: only then do bounds of the
    /// table's values mean the same in the files.
    fn has_type_of_table(&self, number: usize, column: usize) -> bool {
        let kind = |columns: &[SourceColumn], place: usize| Type::of(&columns.get(place)?.data);
        let own = self
            .place(number, column)
            .and_then(|place| kind(self.folders.get(number)?.source.columns(), place));
        own.is_some() && own == kind(&self.united.columns, column)
    }

    /// Ranges of the request's columns as ranges of the columns that are asked of the files of a folder.
    fn narrowed(&self, number: usize, ranges: &[(usize, Range)]) -> Vec<(usize, Range)> {
        let of_files = |column: &usize| self.place(number, *column).is_some();
        let inner = |(asked, range): &(usize, Range)| {
            let column = self.request.columns.get(*asked)?;
            if !of_files(column) || !self.has_type_of_table(number, *column) {
                return None;
            }
            let before = self.request.columns.iter().take(*asked).filter(|column| of_files(column)).count();
            Some((before, range.clone()))
        };
        ranges.iter().filter_map(inner).collect()
    }

    /// One of the table's columns for some rows of a folder's files: a key's value, or the next column that was read.
    fn column(
        &self,
        number: usize,
        column: usize,
        rows: usize,
        read: &mut impl Iterator<Item = ArrayRef>,
    ) -> Result<ArrayRef> {
        let data = self.united.columns.get(column).map_or(DataType::Null, |c| c.data.clone());
        let value = self.key(column).and_then(|key| self.folders.get(number)?.values.get(key));
        if let Some(value) = value {
            return Ok(value.to_array(&Type::of(&data).unwrap_or(Type::Text), rows));
        }
        match self.place(number, column).and_then(|_| read.next()) {
            Some(array) => cast_to(array, &data),
            None => Ok(new_null_array(&data, rows)),
        }
    }
}

/// A condition over the table's columns, tested over those of a folder's files.
struct FolderTest<'a> {
    test: &'a mut dyn RowTest,
    shared: &'a FolderScanState,
    number: usize,
    /// Positions, among the columns asked of the files, of those that the condition needs.
    columns: Vec<usize>,
}

impl<'a> FolderTest<'a> {
    /// `None` where the condition needs none of the files' columns, so that nothing is won by testing it there.
    fn new(test: &'a mut dyn RowTest, shared: &'a FolderScanState, number: usize) -> Option<FolderTest<'a>> {
        let of_files = |column: &usize| shared.place(number, *column).is_some();
        let inner = |asked: &usize| {
            let column = shared.request.columns.get(*asked).filter(|column| of_files(column));
            column.map(|_| shared.request.columns.iter().take(*asked).filter(|c| of_files(c)).count())
        };
        let columns: Vec<usize> = test.columns().iter().filter_map(inner).collect();
        (!columns.is_empty()).then_some(FolderTest { test, shared, number, columns })
    }
}

impl RowTest for FolderTest<'_> {
    fn columns(&self) -> &[usize] {
        &self.columns
    }

    fn test(&mut self, batch: &Batch) -> Result<BooleanArray> {
        let mut read = batch.columns.iter().cloned();
        let asked = self.test.columns().iter().filter_map(|asked| self.shared.request.columns.get(*asked));
        let columns = asked.map(|column| self.shared.column(self.number, *column, batch.rows, &mut read));
        let columns = columns.collect::<Result<_>>()?;
        self.test.test(&Batch { columns, rows: batch.rows })
    }
}

struct OpenFolder {
    next: usize,
    open: Option<(usize, Box<dyn Scan>)>,
}

struct FolderScan {
    shared: Arc<FolderScanState>,
    state: Mutex<OpenFolder>,
    /// Whether morsels may be large.
    gathers: bool,
    /// Further ranges, of the request's columns.
    narrowed: Vec<(usize, Range)>,
}

impl FolderScan {
    /// Whether a folder can have rows that are wanted.
    fn may_pass(&self, folder: &Folder) -> bool {
        let of_table = |(asked, range): &(usize, Range)| {
            Some((*self.shared.request.columns.get(*asked)?, range.clone()))
        };
        let narrowed: Vec<(usize, Range)> = self.narrowed.iter().filter_map(of_table).collect();
        self.shared.may_pass(folder, self.shared.request.ranges.iter().chain(&narrowed))
    }
}

impl Scan for FolderScan {
    fn enable(&mut self, capability: Capability<'_>) -> bool {
        match capability {
            Capability::LargeMorsels => self.gathers = true,
            Capability::Ranges(ranges) => self.narrowed.extend_from_slice(ranges),
            // A line of a file does not have the keys that its folder's name tells.
            Capability::LinesToo(_) | Capability::LinesOnly(_) => return false,
        }
        true
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if let Some((number, scan)) = &state.open {
                if let Some(inner) = scan.next()? {
                    return Ok(Some(Box::new(FolderMorsel {
                        inner,
                        number: *number,
                        shared: self.shared.clone(),
                    })));
                }
                state.open = None;
            }
            let number = state.next;
            let Some(folder) = self.shared.folders.get(number) else { return Ok(None) };
            state.next += 1;
            if self.may_pass(folder) {
                let mut scan = folder.source.open(self.shared.request(number))?;
                if self.gathers {
                    scan.enable(Capability::LargeMorsels);
                }
                let narrowed = self.shared.narrowed(number, &self.narrowed);
                if !narrowed.is_empty() {
                    scan.enable(Capability::Ranges(&narrowed));
                }
                state.open = Some((number, scan));
            } else if let Some(rows) = folder.source.about().rows {
                return Ok(Some(Box::new(LeftOut {
                    rows: Some(rows as usize),
                    shared: self.shared.clone(),
                })));
            }
        }
    }

    fn progress(&self) -> (u64, Option<u64>) {
        let state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let open = state.open.as_ref().map(|(number, scan)| (*number, scan.progress().0));
        let ended = open.map_or(state.next, |(number, _)| number);
        let bytes = |folder: &Folder| folder.source.about().bytes;
        let done: u64 = self.shared.folders.iter().take(ended).filter_map(bytes).sum();
        (done + open.map_or(0, |(_, bytes)| bytes), self.shared.folders.iter().map(bytes).sum())
    }
}

/// A folder that is not read, of which the number of rows is known.
struct LeftOut {
    rows: Option<usize>,
    shared: Arc<FolderScanState>,
}

impl Morsel for LeftOut {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, _: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let Some(rows) = self.rows.take() else { return Ok(None) };
        let wanted = self.shared.request.columns.iter().filter_map(|c| self.shared.united.columns.get(*c));
        let columns = wanted.map(|c| arrow_array::new_empty_array(&c.data)).collect();
        Ok(Some(Decoded { skipped: rows, ..Decoded::of(Batch { columns, rows: 0 }, 0) }))
    }
}

struct FolderMorsel {
    inner: Box<dyn Morsel>,
    number: usize,
    shared: Arc<FolderScanState>,
}

impl Morsel for FolderMorsel {
    fn next(&mut self, mut test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let (shared, number) = (&*self.shared, self.number);
        let mut inner_test = match &mut test {
            Some(test) => FolderTest::new(&mut **test, shared, number),
            None => None,
        };
        let is_tested = inner_test.is_some();
        let inner_test = inner_test.as_mut().map(|test| test as &mut dyn RowTest);
        let Some(read) = self.inner.next(inner_test)? else { return Ok(None) };
        let rows = read.batch.rows;
        let mut own = read.batch.columns.into_iter();
        let asked = shared.request.columns.iter();
        let columns = asked.map(|column| shared.column(number, *column, rows, &mut own));
        let batch = Batch { columns: columns.collect::<Result<_>>()?, rows };
        let batch = if is_tested { batch } else { Decoded::tested(batch, test)?.batch };
        Ok(Some(Decoded { batch, ..Decoded { batch: Batch { columns: Vec::new(), rows: 0 }, ..read } }))
    }

    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        let inner = self.inner.guess()?;
        Some(Box::new(FolderGuess { inner, number: self.number, shared: &self.shared }))
    }
}

/// The borders of a morsel of a folder's files: their places are those of the folder.
struct FolderGuess<'a> {
    inner: Box<dyn Guess + 'a>,
    number: usize,
    shared: &'a Arc<FolderScanState>,
}

impl Guess for FolderGuess<'_> {
    fn seam(&self) -> Seam {
        let seam = self.inner.seam();
        Seam { place: self.number << 32 | seam.place, ..seam }
    }

    fn again(&self, start: u64) -> Box<dyn Morsel> {
        let inner = self.inner.again(start);
        Box::new(FolderMorsel { inner, number: self.number, shared: self.shared.clone() })
    }
}
