//! The look at records before a run: their fields, and what their values are.

use bytes::Bytes;
use churn_core::{Result, Type, cancel};

use super::cut::{Cuts, NO_END, RecordScan, between_records};
use super::cutter::JsonFile;
use super::infer::Looks;
use super::source::{JsonOptions, broken, line};
use crate::open_files::PositionedFile;
use crate::place;
use crate::source::Looked;

/// What a look at the records of a file gives.
pub(super) struct Inferred {
    pub(super) columns: Vec<(String, Type)>,
    /// Those of the columns that only null was seen of.
    pub(super) nulls: Vec<String>,
    pub(super) looked: Looked,
}

/// Looks at the records of a file.
///
/// # Errors
/// What stands at its start are no records; it cannot be read.
pub(super) fn at(file: &JsonFile, options: &JsonOptions) -> Result<Inferred> {
    let mut scan = RecordScan::default();
    let Cuts { records, open, mut fault } = scan.records(&file.start);
    if file.whole && open.is_none() && !scan.may_end() {
        fault.get_or_insert((file.start.len(), NO_END));
    }
    if let Some((at, what)) = fault {
        return Err(between_records(&file.shown, line(&file.start, 0, at), what));
    }
    let mut looks = Looks::default();
    let last = open.filter(|_| file.whole).map(|start| (start, file.start.len()));
    let mut looked = Looked { whole: file.whole, ..Looked::default() };
    for (start, end) in records.iter().copied().chain(last) {
        let text = file.start.get(start..end).unwrap_or_default();
        let seen = looks.see(text, options);
        seen.map_err(|error| broken(&file.shown, line(&file.start, 0, start), &error))?;
        looked = Looked { rows: looked.rows + 1, bytes: end as u64, ..looked };
    }
    if let Some(places) = Places::of(file)? {
        if scan.is_of_lines(&records, &file.start) {
            places.look_at_lines(file, options, &mut looks, &mut looked)?;
        } else {
            places.look_through(file, options, scan, &mut looks, &mut looked)?;
        }
    }
    let mut columns = looks.columns();
    for (column, kind) in &mut columns {
        if let Some((_, wanted)) = options.types.iter().find(|(n, _)| n == column) {
            *kind = wanted.clone();
        }
    }
    Ok(Inferred { columns, nulls: looks.nulls(), looked })
}

/// Places spread over what follows the start of a large file, its last records among them.
struct Places {
    first: u64,
    size: u64,
    handle: PositionedFile,
}

impl Places {
    /// How many there are, and bytes of each.
    const COUNT: u64 = 64;
    const BYTES: usize = 1 << 16;

    /// `None` if all of the file was looked at, or it can only be read once.
    fn of(file: &JsonFile) -> Result<Option<Places>> {
        if file.whole {
            return Ok(None);
        }
        let first = file.start.len() as u64;
        let places = |handle: PositionedFile| Places { first, size: handle.size(), handle };
        Ok(file.to_look_at()?.map(places))
    }

    /// Where they begin, rising.
    fn starts(&self) -> impl Iterator<Item = u64> {
        let (first, last) = (self.first, self.size.saturating_sub(Places::BYTES as u64).max(self.first));
        (1..=Places::COUNT).map(move |number| {
            let even = first + (last - first) / Places::COUNT * number;
            if number == Places::COUNT { last } else { even }
        })
    }

    /// Some bytes from each of some places on, fewer at the end.
    fn read(&self, file: &JsonFile, from: Vec<u64>, bytes: usize) -> Result<Vec<Bytes>> {
        let range = |from: u64| from..(from + bytes as u64).min(self.size).max(from);
        let parts = self.handle.read_ranges(from.into_iter().map(range).collect());
        parts.map_err(|e| place::unreadable(&file.path, &e))
    }

    /// Looks at the places of a file of a record a line.
    fn look_at_lines(
        &self,
        file: &JsonFile,
        options: &JsonOptions,
        looks: &mut Looks,
        looked: &mut Looked,
    ) -> Result<()> {
        let parts = self.read(file, self.starts().collect(), Places::BYTES)?;
        for (from, part) in self.starts().zip(parts) {
            // What stands before the first line end is the rest of a record, and the last line may go on.
            for text in part.split_inclusive(|b| *b == b'\n').skip(1) {
                let is_whole = text.ends_with(b"\n") || from + part.len() as u64 == self.size;
                if is_whole && looks.see(text, options).is_ok() {
                    looked.add(text.len());
                }
            }
        }
        Ok(())
    }

    /// Looks at the places of a file whose records may begin anywhere: only who has read all before it knows where one
    /// does, so all of it is read, and the records that begin in the places are looked at. A fault ends the look: the
    /// run will tell of it.
    fn look_through(
        &self,
        file: &JsonFile,
        options: &JsonOptions,
        mut scan: RecordScan,
        looks: &mut Looks,
        looked: &mut Looked,
    ) -> Result<()> {
        const CHUNK: usize = 1 << 20;
        let mut places = self.starts().peekable();
        let mut from = self.first;
        while from < self.size {
            cancel::check()?;
            let Some(chunk) = self.read(file, vec![from], CHUNK)?.pop() else { break };
            let Cuts { records, fault, .. } = scan.records(&chunk);
            if fault.is_some() {
                break;
            }
            for (start, end) in records {
                let is_past = |place: &u64| from + start as u64 >= place + Places::BYTES as u64;
                while places.next_if(is_past).is_some() {}
                let is_within = places.peek().is_some_and(|place| from + start as u64 >= *place);
                if is_within && looks.see(chunk.get(start..end).unwrap_or_default(), options).is_ok() {
                    looked.add(end - start);
                }
            }
            from += chunk.len() as u64;
        }
        Ok(())
    }
}
