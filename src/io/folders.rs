//! Folders of `key=value` folders as one table: each key is a column, and a folder that a condition on it rules out
//! is not opened again.
//!
//! The files of one folder are a source of their own; rows of folders that are left out are counted where the format
//! tells how many there are.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{ArrayRef, new_null_array};
use arrow_schema::DataType;

use super::merge_schemas::{FileColumns, MergedSchema, cast_to};
use super::source::{About, Decoded, Looked, Morsel, Request, RowTest, Scan, Seam, Source, SourceColumn};
use crate::error::Result;
use crate::expr::{Batch, Scalar, Type};

/// What stands for null in a folder's name.
pub(crate) const NULL: &str = "null";

/// The keys and values of the folders that a file is in.
pub(crate) fn keys_of(file: &Path, base: &Path) -> Vec<(String, String)> {
    let within = file.strip_prefix(base).unwrap_or(file);
    let folders = within.parent().into_iter().flat_map(Path::components);
    let pair = |part: std::path::Component<'_>| {
        let (key, value) = part.as_os_str().to_str()?.split_once('=')?;
        (!key.is_empty()).then(|| (decoded(key), value.to_owned()))
    };
    folders.filter_map(pair).collect()
}

/// The name of a folder for a key and its value; what a name cannot hold is written `%2F`.
pub(crate) fn folder_name(key: &str, value: Option<&str>) -> String {
    let value = match value {
        None => NULL.to_owned(),
        // Not to be taken for null.
        Some(NULL) => "%6Eull".to_owned(),
        Some(value) => encoded(value),
    };
    format!("{}={value}", encoded(key))
}

/// Whether a folder's name gives a value of a key.
pub(crate) fn is_of_key(name: &str, key: &str) -> bool {
    name.strip_prefix(encoded(key).as_str()).is_some_and(|value| value.starts_with('='))
}

fn encoded(text: &str) -> String {
    let mut name = String::new();
    for c in text.chars() {
        match c {
            '/' | '\\' | '%' | '=' | ':' | '*' | '?' | '"' | '<' | '>' | '|' => {
                name.push_str(&format!("%{:02X}", u32::from(c)))
            }
            c if c.is_ascii_control() => name.push_str(&format!("%{:02X}", u32::from(c))),
            c => name.push(c),
        }
    }
    // A name of points alone means another folder.
    if name.chars().all(|c| c == '.') { name.replace('.', "%2E") } else { name }
}

fn decoded(text: &str) -> String {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, after)) = rest.split_first() {
        let hex = after.get(..2).and_then(|h| std::str::from_utf8(h).ok());
        match hex.and_then(|h| u8::from_str_radix(h, 16).ok()).filter(|_| *first == b'%') {
            Some(byte) => {
                bytes.push(byte);
                rest = after.get(2..).unwrap_or_default();
            }
            None => {
                bytes.push(*first);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

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
pub(crate) fn opened(files: &[PathBuf], base: &Path, open: &Open<'_>) -> Result<Arc<dyn Source>> {
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
    let shown: Vec<String> = parts.iter().map(|(values, _)| values.join("/")).collect();
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
                .filter(|c| !first.contains(&c.name))
                .map(|c| (c.name.as_str(), &c.data))
                .collect(),
        })
        .collect();
    let mut united = MergedSchema::new(&listed, None)?;
    for (places, folder) in united.places.iter_mut().zip(&folders) {
        let place = |c: &SourceColumn| folder.source.columns().iter().position(|own| own.name == c.name);
        *places = united.columns.iter().map(place).collect();
    }
    for (name, kind) in first.iter().zip(&kinds) {
        united.columns.push(SourceColumn { name: name.clone(), data: kind.arrow(), open: false });
    }
    let sum = |f: fn(&About) -> Option<u64>| folders.iter().map(|p| f(p.source.about())).sum::<Option<u64>>();
    let about = About {
        files: files.len(),
        bytes: sum(|a| a.bytes),
        rows: sum(|a| a.rows),
        rows_about: sum(|a| a.rows_about.or(a.rows)),
        looked: folders.iter().filter_map(|f| f.source.about().looked).reduce(Looked::and),
        notes: folders.iter().flat_map(|f| f.source.about().notes.clone()).collect(),
    };
    Ok(Arc::new(FolderSource {
        folders: Arc::new(folders),
        united: Arc::new(united),
        keys: first.len(),
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

/// The first type that all values fit: int, date, else text.
fn kind<'a>(values: impl Iterator<Item = &'a str> + Clone) -> Type {
    let mut known = values.filter(|v| *v != NULL).peekable();
    let is_int = |v: &str| churn_kernels::number::parse_int(v.as_bytes()).is_some_and(|n| n.to_string() == v);
    if known.peek().is_none() {
        return Type::Text;
    }
    if known.clone().all(is_int) {
        Type::Int
    } else if known.all(|v| churn_kernels::calendar::parse_date(v.as_bytes()).is_some()) {
        Type::Date
    } else {
        Type::Text
    }
}

fn value(text: &str, kind: &Type) -> Scalar {
    match kind {
        _ if text == NULL => Scalar::Null,
        Type::Int => churn_kernels::number::parse_int(text.as_bytes()).map_or(Scalar::Null, Scalar::Int),
        Type::Date => churn_kernels::calendar::parse_date(text.as_bytes()).map_or(Scalar::Null, Scalar::Date),
        _ => Scalar::Text(decoded(text)),
    }
}

impl Source for FolderSource {
    fn columns(&self) -> &[SourceColumn] {
        &self.united.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        let shared = FolderScanState {
            folders: self.folders.clone(),
            united: self.united.clone(),
            keys: self.keys,
            request,
        };
        let state = OpenFolder { next: 0, open: None };
        Ok(Box::new(FolderScan { shared: Arc::new(shared), state: Mutex::new(state), gathers: false }))
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

    /// Whether rows of a folder can be within the ranges that are wanted.
    fn may_pass(&self, folder: &Folder) -> bool {
        self.request.ranges.iter().all(|(column, range)| {
            let value = self.key(*column).and_then(|key| folder.values.get(key));
            match value {
                // Null is within no range.
                Some(Scalar::Null) => false,
                Some(value) => range.meets(value, value),
                None => true,
            }
        })
    }

    /// What is wanted of the files of a folder.
    fn request(&self, number: usize) -> Request {
        let places = self.united.places.get(number);
        let place = |column: &usize| places?.get(*column).copied().flatten();
        Request {
            columns: self.request.columns.iter().filter_map(place).collect(),
            block_bytes: self.request.block_bytes,
            ranges: Vec::new(),
        }
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
}

impl Scan for FolderScan {
    fn gather(&mut self) {
        self.gathers = true;
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
            if self.shared.may_pass(folder) {
                let mut scan = folder.source.open(self.shared.request(number))?;
                if self.gathers {
                    scan.gather();
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
    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let Some(read) = self.inner.next(None)? else { return Ok(None) };
        let shared = &self.shared;
        let rows = read.batch.rows;
        let mut own = read.batch.columns.into_iter();
        let places = shared.united.places.get(self.number);
        let mut column = |column: &usize| -> Result<ArrayRef> {
            let data = shared.united.columns.get(*column).map_or(DataType::Null, |c| c.data.clone());
            let value = shared.key(*column).and_then(|key| shared.folders.get(self.number)?.values.get(key));
            if let Some(value) = value {
                return Ok(value.to_array(&Type::of(&data).unwrap_or(Type::Text), rows));
            }
            match places.and_then(|p| p.get(*column).copied().flatten()).and_then(|_| own.next()) {
                Some(array) => cast_to(array, &data),
                None => Ok(new_null_array(&data, rows)),
            }
        };
        let columns = shared.request.columns.iter().map(&mut column).collect::<Result<_>>()?;
        let tested = Decoded::tested(Batch { columns, rows }, test)?;
        Ok(Some(Decoded {
            batch: tested.batch,
            rows: read.rows,
            ..Decoded { batch: Batch { columns: Vec::new(), rows: 0 }, ..read }
        }))
    }

    fn seam(&self) -> Option<Seam> {
        self.inner.seam().map(|seam| Seam { place: self.number << 32 | seam.place, ..seam })
    }

    fn again(&self, start: u64) -> Option<Box<dyn Morsel>> {
        let inner = self.inner.again(start)?;
        Some(Box::new(FolderMorsel { inner, number: self.number, shared: self.shared.clone() }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("farm", Some("F/1=ä"), "farm=F%2F1%3Dä")]
    #[case("farm", None, "farm=null")]
    #[case("farm", Some("null"), "farm=%6Eull")]
    #[case("a b", Some(".."), "a b=%2E%2E")]
    fn names_read_back(#[case] key: &str, #[case] text: Option<&str>, #[case] name: &str) {
        assert_eq!(folder_name(key, text), name);
        let keys = keys_of(&Path::new(name).join("part-1.csv"), Path::new(""));
        let read = keys.first().map(|(k, v)| (k.as_str(), value(v, &Type::Text)));
        assert_eq!(read, Some((key, text.map_or(Scalar::Null, |t| Scalar::Text(t.to_owned())))));
    }
}
