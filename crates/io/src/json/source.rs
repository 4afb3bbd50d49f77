//! Files of JSON records as one table, united by name.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{ArrayRef, new_null_array};
use arrow_schema::DataType;
use churn_core::counters::EXAMPLES;
use churn_core::names::name;
use churn_core::{Batch, Error, ErrorKind, Event, Result, Type};

use super::cut::{Cuts, RecordScan, between_records};
use super::cutter::{Cutter, JsonBlock, JsonFile};
use super::decode::{JsonColumns, Places};
use super::look;
use crate::merge_schemas::{self, FileColumns, MergedSchema};
use crate::source::{
    About, Capability, Decoded, Guess, Looked, Morsel, Request, RowTest, Scan, Source, SourceColumn,
};
use crate::store::Transfer;

/// Bytes of all files together that are looked at from their starts; of those after them less is.
const WHOLE_TOGETHER: usize = 64 << 20;

/// How records are read.
#[derive(Clone, Debug, Default)]
pub struct JsonOptions {
    /// Types that are declared, by name.
    pub types: Vec<(String, Type)>,
    /// Texts that mean null.
    pub missing: Vec<String>,
    /// The pattern of dates.
    pub dates: Option<String>,
    /// Whether what does not fit is made null and counted.
    pub lenient: bool,
    /// The name of a further column with the file's path.
    pub file_column: Option<String>,
}

impl JsonOptions {
    pub(super) fn means_null(&self, text: &str) -> bool {
        self.missing.iter().any(|m| m == text)
    }
}

/// Files of JSON records as one table.
#[derive(Debug)]
pub struct JsonSource {
    files: Arc<Vec<JsonFile>>,
    united: Arc<MergedSchema>,
    kinds: Vec<Type>,
    options: Arc<JsonOptions>,
    about: About,
}

impl JsonSource {
    /// Looks at the first records of some files.
    ///
    /// # Errors
    /// A file cannot be read or holds no records; columns of one name have types that do not go together.
    pub fn new(
        files: &[PathBuf],
        base: &Path,
        options: JsonOptions,
        transfer: &Arc<Transfer>,
    ) -> Result<JsonSource> {
        let mut opened = Vec::new();
        let mut all: Vec<Vec<(String, DataType)>> = Vec::new();
        let mut nothing_seen: Vec<Vec<String>> = Vec::new();
        let (mut bytes, mut rows, mut looked) = (Some(0), Some(0), None);
        let mut left = WHOLE_TOGETHER;
        for path in files {
            let mut file = JsonFile::open(path, &merge_schemas::shown(path, base), left, transfer)?;
            left = left.saturating_sub(file.start.len());
            let inferred = look::at(&file, &options)?;
            nothing_seen.push(inferred.nulls);
            all.push(inferred.columns.into_iter().map(|(n, t)| (n, t.arrow())).collect());
            bytes = bytes.zip(file.size).map(|(a, b)| a + b);
            rows = rows.zip(inferred.looked.rows_of(file.size.filter(|_| file.seekable))).map(|(a, b)| a + b);
            file.forget_start(files.len());
            opened.push(file);
            looked = Some(looked.map_or(inferred.looked, |before: Looked| before.and(inferred.looked)));
        }
        // A column that was named in types is there even where no record looked at has it.
        if let Some(first) = all.first_mut() {
            for (column, kind) in &options.types {
                if !first.iter().any(|(n, _)| n == column) {
                    first.push((column.clone(), kind.arrow()));
                }
            }
        }
        let parts: Vec<FileColumns<'_>> = opened
            .iter()
            .zip(&all)
            .map(|(f, all)| FileColumns {
                shown: &f.shown,
                columns: all.iter().map(|(n, d)| (n.as_str(), d)).collect(),
            })
            .collect();
        let mut united = MergedSchema::new(&parts, options.file_column.as_deref())?;
        let is_whole = looked.is_some_and(|looked| looked.whole);
        for column in &mut united.columns {
            // Where not all was looked at, there may be values after all.
            if column.data == DataType::Null && !is_whole {
                column.data = DataType::Utf8View;
            }
            column.open = nothing_seen.iter().all(|columns| columns.contains(&column.name))
                && !options.types.iter().any(|(n, _)| *n == column.name);
        }
        let kinds = united.columns.iter().map(|c| Type::of(&c.data).unwrap_or(Type::Text)).collect();
        let lacking = united.lacking.take();
        let about =
            About { files: files.len(), bytes, rows_about: rows, looked, lacking, ..About::default() };
        let options = Arc::new(options);
        Ok(JsonSource { files: Arc::new(opened), united: Arc::new(united), kinds, options, about })
    }
}

/// Reads records that stand one behind the other: of plain shape, or each on a line of its own. Gives where the first begins
/// that is neither, and the place of each in `starts`.
fn records_of_lines(columns: &mut JsonColumns<'_>, bytes: &[u8], starts: &mut Vec<usize>) -> usize {
    let mut at = 0;
    loop {
        let rest = bytes.get(at..).unwrap_or_default();
        let Some(blank) = rest.iter().position(|byte| !byte.is_ascii_whitespace()) else {
            return bytes.len();
        };
        let start = at + blank;
        at = match columns.push_plain(bytes, start) {
            Some(end) => end,
            None => {
                let rest = rest.get(blank..).unwrap_or_default();
                let line = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
                if !columns.push_parsed(rest.get(..line).unwrap_or_default()) {
                    return start;
                }
                start + line
            }
        };
        starts.push(start);
    }
}

pub(super) fn line(bytes: &[u8], lines: u64, place: usize) -> u64 {
    lines + memchr::memchr_iter(b'\n', bytes.get(..place).unwrap_or(bytes)).count() as u64 + 1
}

/// The error of a text that is no record.
pub(super) fn broken(shown: &str, line: u64, error: &serde_json::Error) -> Error {
    let why = error.to_string();
    let why = why.split(" at line ").next().unwrap_or_default().to_owned();
    let line = line + (error.line().max(1) as u64 - 1);
    Error::new(ErrorKind::Data, "This is not a JSON record.")
        .in_file(shown, Some(line), None)
        .why(format!("The parser says: {why}."))
        .next("A table is an array of records, [{\"farm\": \"F1\"}, …], or a record a line.")
}

impl Source for JsonSource {
    fn columns(&self) -> &[SourceColumn] {
        &self.united.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        let file_column = self.options.file_column.as_ref().map(|_| self.united.columns.len() - 1);
        let wanted: Vec<usize> =
            request.columns.iter().copied().filter(|c| Some(*c) != file_column).collect();
        let mut by_name = Places::new();
        for (place, column) in self.united.columns.iter().enumerate() {
            if Some(place) != file_column {
                by_name.insert(column.name.clone(), wanted.iter().position(|w| *w == place));
            }
        }
        let kinds = wanted.iter().filter_map(|c| self.kinds.get(*c).cloned()).collect();
        let shared = JsonScanState {
            files: self.files.clone(),
            options: self.options.clone(),
            kinds,
            by_name,
            places: request.columns.iter().map(|c| wanted.iter().position(|w| w == c)).collect(),
        };
        let cutter = Cutter::new(self.files.clone(), request.block_bytes);
        Ok(Box::new(JsonScan {
            cutter: Mutex::new(cutter),
            shared: Arc::new(shared),
            total: self.about.bytes,
        }))
    }
}

struct JsonScanState {
    files: Arc<Vec<JsonFile>>,
    options: Arc<JsonOptions>,
    kinds: Vec<Type>,
    by_name: Places,
    /// For each column asked for its place among those that are parsed; none for the file's name.
    places: Vec<Option<usize>>,
}

struct JsonScan {
    cutter: Mutex<Cutter>,
    shared: Arc<JsonScanState>,
    total: Option<u64>,
}

impl Scan for JsonScan {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let block = self.cutter.lock().unwrap_or_else(PoisonError::into_inner).next()?;
        let morsel = |block| {
            Box::new(JsonMorsel { block: Some(block), shared: self.shared.clone() }) as Box<dyn Morsel>
        };
        Ok(block.map(morsel))
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.cutter.lock().unwrap_or_else(PoisonError::into_inner).done, self.total)
    }
}

struct JsonMorsel {
    block: Option<JsonBlock>,
    shared: Arc<JsonScanState>,
}

impl Morsel for JsonMorsel {
    fn guess(&self) -> Option<Box<dyn Guess + '_>> {
        None
    }

    fn next(&mut self, test: Option<&mut dyn RowTest>) -> Result<Option<Decoded>> {
        let shared = &self.shared;
        let Some(block) = self.block.take() else { return Ok(None) };
        let shown = shared.files.get(block.file).map_or("", |f| f.shown.as_str());
        let columns = shared.columns_of(block, shown)?;
        let (rows, bad) = (columns.rows(), columns.bad.len());
        let example = |(_, field, value): &(usize, String, String)| {
            let value: String = value.chars().take(60).collect();
            (Event::BadCell, format!("{value} of {} in {shown}", name(field)))
        };
        let examples = columns.bad.iter().take(EXAMPLES).map(example).collect();
        let arrays = columns.finish();
        let column = |place: &Option<usize>| -> ArrayRef {
            match place {
                Some(place) => {
                    arrays.get(*place).cloned().unwrap_or_else(|| new_null_array(&DataType::Null, rows))
                }
                None => merge_schemas::file_name(shown, rows),
            }
        };
        let batch = Batch { columns: shared.places.iter().map(column).collect(), rows };
        let mut decoded = Decoded::tested(batch, test)?;
        if bad > 0 {
            decoded.events.push((Event::BadCell, bad));
            decoded.examples = examples;
        }
        Ok(Some(decoded))
    }
}

impl JsonScanState {
    /// The records of a block as columns.
    ///
    /// # Errors
    /// The first thing that is wrong in it: a record that is none, a value that does not fit its column, something else
    /// than a record.
    fn columns_of(&self, block: JsonBlock, shown: &str) -> Result<JsonColumns<'_>> {
        let JsonBlock { bytes, cuts, lines, .. } = block;
        let bytes = bytes.as_slice();
        let mut columns = JsonColumns::new(&self.options, &self.kinds, &self.by_name);
        let mut starts = Vec::new();
        let (start, Cuts { records, fault, .. }) = match cuts {
            Some(cuts) => (0, cuts),
            None => {
                // What follows those that are read as they stand is cut into records first.
                let start = records_of_lines(&mut columns, bytes, &mut starts);
                let rest = bytes.get(start..).unwrap_or_default();
                let mut cuts = RecordScan::of_lines().records(rest);
                cuts.close(rest.len());
                (start, cuts)
            }
        };
        let is_before_fault = |(from, _): &(usize, usize)| fault.is_none_or(|(at, _)| *from < at);
        let mut broken_at = None;
        for (from, to) in records.into_iter().take_while(is_before_fault) {
            starts.push(start + from);
            if let Err(error) = columns.push(bytes.get(start + from..start + to).unwrap_or_default()) {
                broken_at = Some(broken(shown, line(bytes, lines, start + from), &error));
                break;
            }
        }
        if let Some((row, field, value)) = columns.bad.first().filter(|_| !self.options.lenient) {
            let place = starts.get(*row).copied().unwrap_or(0);
            return Err(self.bad_value(shown, line(bytes, lines, place), field, value));
        }
        if let Some(error) = broken_at {
            return Err(error);
        }
        match fault {
            Some((at, what)) => Err(between_records(shown, line(bytes, lines, start + at), what)),
            None => Ok(columns),
        }
    }

    fn bad_value(&self, shown: &str, line: u64, field: &str, value: &str) -> Error {
        let quoted = name(field);
        let known = self.by_name.get(field).copied().flatten().and_then(|place| self.kinds.get(place));
        let Some(kind) = known else {
            return Error::new(
                ErrorKind::Data,
                format!("The field {quoted} was in no record looked at before the run."),
            )
            .in_file(shown, Some(line), Some(field))
            .next(format!("Say with (types = ({quoted} text)) to read it as a column,"))
            .next("or with (bad_cells = null) to leave such fields out and count them.");
        };
        let article = if *kind == Type::Int { "an" } else { "a" };
        Error::new(ErrorKind::Data, format!("'{value}' is not {article} {kind}."))
            .in_file(shown, Some(line), Some(field))
            .why("The column was taken for one by the records looked at before the run, or by types = (…).")
            .next("Say with (bad_cells = null) to make null of such values and count them,")
            .next(format!("or with (types = ({quoted} text)) to read the column as text."))
    }
}
