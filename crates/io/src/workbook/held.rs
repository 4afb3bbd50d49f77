//! How much is held while a workbook is read, found before it is: what would take more than the memory of a run is
//! refused, however small the file is.

use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;

use churn_core::readable::bytes as readable;
use churn_core::{Error, ErrorKind, Result};
use zip::ZipArchive;

use super::sheets::unreadable;
use super::{ods, xls};

/// Refuses a workbook that takes more than so many bytes, or that says that it has more than it has room for.
///
/// # Errors
/// It takes too much; what it says of its texts cannot be.
pub(super) fn check(file: &Path, memory: u64) -> Result<()> {
    check_shared_texts(file)?;
    match held_at_once(file) {
        Some(needed) if needed > memory => Err(too_large(file, needed, memory)),
        _ => Ok(()),
    }
}

/// About how many bytes are held while a workbook is read: the texts that cells share, or all cells of a sheet and of
/// the area that its corners span. `None` if the file tells nothing: then it is no workbook.
///
/// A text takes up to three times its bytes in the file (`<si><t>F1</t></si>` becomes 56 bytes), a cell of a packed
/// sheet about twice its own, a cell of an old workbook about four times.
fn held_at_once(file: &Path) -> Option<u64> {
    let opened = File::open(file).ok()?;
    let bytes = opened.metadata().ok()?.len();
    let Ok(mut packed) = ZipArchive::new(BufReader::new(opened)) else {
        let cells = xls::cells(file).unwrap_or(0);
        return Some(bytes.saturating_mul(4).saturating_add(cells.saturating_mul(CELL)));
    };
    let names: Vec<String> = packed.file_names().filter_map(|name| Some(name.ok()?.into_owned())).collect();
    let mut held: u64 = 0;
    for name in names {
        let lower = name.to_ascii_lowercase();
        let Ok(part) = packed.by_name(&name) else { continue };
        // A damaged file may say any size.
        let size = part.size();
        held = held.saturating_add(match lower.as_str() {
            name if name.ends_with("sharedstrings.xml") || name.ends_with("sharedstrings.bin") => {
                size.saturating_mul(3)
            }
            "content.xml" => {
                let cells = ods::cells(BufReader::new(part));
                size.saturating_mul(2).saturating_add(cells.saturating_mul(CELL))
            }
            _ => 0,
        });
    }
    Some(held)
}

/// Bytes of a cell of a sheet that is held, and of its formula.
const CELL: u64 = 48;

fn too_large(file: &Path, needed: u64, memory: u64) -> Error {
    let what = format!("{} takes about {} of memory to read.", file.display(), readable(needed));
    Error::new(ErrorKind::Memory, what)
        .why(format!(
            "The run may use {}, and the texts of a workbook are held together, of .xls and .ods all cells.",
            readable(memory)
        ))
        .next("Give it more with --memory, or save the sheet as delimited text.")
}

/// Refuses a file that says that it has more texts than it has bytes for: room is made for as many as it says.
fn check_shared_texts(file: &Path) -> Result<()> {
    let Ok(opened) = File::open(file) else { return Ok(()) };
    let Ok(mut packed) = ZipArchive::new(BufReader::new(opened)) else { return Ok(()) };
    let names: Vec<String> = packed.file_names().filter_map(|name| Some(name.ok()?.into_owned())).collect();
    let is_shared = |name: &&String| name.to_ascii_lowercase().ends_with("sharedstrings.xml");
    let Some(name) = names.iter().find(is_shared) else { return Ok(()) };
    let Ok(texts) = packed.by_name(name) else { return Ok(()) };
    let size = texts.size();
    let mut start = Vec::new();
    if texts.take(4096).read_to_end(&mut start).is_err() {
        return Ok(());
    }
    let start = String::from_utf8_lossy(&start);
    let count = start.split("uniqueCount=\"").nth(1).and_then(|rest| rest.split('"').next());
    match count.and_then(|count| count.parse::<u64>().ok()) {
        // The shortest text takes this much: <si/>.
        Some(count) if count > size / 5 + 1 => {
            Err(unreadable(file, &format!("it says that it has {count} texts, and has room for fewer")))
        }
        _ => Ok(()),
    }
}
