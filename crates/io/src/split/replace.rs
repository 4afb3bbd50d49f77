//! A folder that takes the place of another, or is added to it.

use std::path::{Path, PathBuf};

use churn_core::{Error, ErrorKind, Result};

use crate::folders::is_of_key;
use crate::format::{Format, Formats};
use crate::target::{Mode, there_already};

/// Exchanges two names in one step; false where the system cannot.
pub(super) fn exchange(one: &Path, other: &Path) -> bool {
    #[cfg(target_os = "linux")]
    {
        use rustix::fs::{CWD, RenameFlags, renameat_with};
        renameat_with(CWD, one, CWD, other, RenameFlags::EXCHANGE).is_ok()
    }
    #[cfg(not(target_os = "linux"))]
    {
        let _ = (one, other);
        false
    }
}

/// Gives a folder the permissions of the one that it replaces, or those of any new folder.
pub(super) fn share(made: &Path, older: &Path) -> std::io::Result<()> {
    match std::fs::metadata(older) {
        Ok(older) => std::fs::set_permissions(made, older.permissions()),
        Err(_) => {
            let plain = made.join(".new");
            std::fs::create_dir(&plain)?;
            let permissions = std::fs::metadata(&plain)?.permissions();
            std::fs::remove_dir(&plain)?;
            std::fs::set_permissions(made, permissions)
        }
    }
}

/// Gives each file of a folder a second name in another; copies it where the system cannot.
pub(super) fn link_all(from: &Path, to: &Path) -> std::io::Result<()> {
    for entry in std::fs::read_dir(from)? {
        let entry = entry?;
        let (from, to) = (entry.path(), to.join(entry.file_name()));
        if entry.file_type()?.is_dir() {
            std::fs::create_dir_all(&to)?;
            link_all(&from, &to)?;
        } else if std::fs::hard_link(&from, &to).is_err() {
            std::fs::copy(&from, &to)?;
        }
    }
    Ok(())
}

/// Checks that a folder of files of a format, split by these columns, may be written at a place.
///
/// # Errors
/// Something is there and must not be, or holds what no such step wrote.
pub fn may_stand_at(target: &Path, split_by: &[String], mode: Mode, format: &Format) -> Result<()> {
    if !target.exists() {
        return Ok(());
    }
    let shown = target.display();
    if mode == Mode::New {
        return Err(there_already(target));
    }
    let Some(other) = foreign(target, split_by, format) else { return Ok(()) };
    let error = if other == *target {
        Error::new(ErrorKind::Check, format!("{shown} is there already, and is no folder."))
    } else {
        let within = other.strip_prefix(target).unwrap_or(&other).display().to_string();
        let what = format!(
            "{shown} is there already, and holds {within}, which no step that splits by {} wrote.",
            churn_core::names::comma(split_by)
        );
        Error::new(ErrorKind::Check, what)
    };
    let why = if mode == Mode::Append {
        "Its files would not be of one table."
    } else {
        "Replacing it would take it away."
    };
    Err(error.why(why).next("Choose another name, or remove it first."))
}

/// The first thing in a folder that is no folder of a key in its place, or no file that is written in such a folder.
fn foreign(folder: &Path, keys: &[String], format: &Format) -> Option<PathBuf> {
    let Ok(entries) = std::fs::read_dir(folder) else { return Some(folder.to_owned()) };
    let mut entries: Vec<_> = entries.flatten().collect();
    entries.sort_by_key(std::fs::DirEntry::file_name);
    for entry in entries {
        let name = entry.file_name();
        let name = name.to_str().unwrap_or_default();
        let is_dir = entry.file_type().is_ok_and(|kind| kind.is_dir());
        let found = match keys.split_first() {
            Some((key, rest)) if is_dir && is_of_key(name, key) => foreign(&entry.path(), rest, format),
            None if !is_dir && is_part(name, format) => None,
            _ => Some(entry.path()),
        };
        if found.is_some() {
            return found;
        }
    }
    None
}

/// Whether a file is named as those are that are written: `part-1.csv`.
fn is_part(name: &str, format: &Format) -> bool {
    let number = name.strip_prefix("part-").and_then(|rest| rest.split_once('.'));
    number.is_some_and(|(number, ending)| {
        let is_written = format.ending() == ending || Formats::default().named(ending).is_ok();
        number.parse::<u32>().is_ok() && is_written
    })
}
