//! Folders for temporary files that have names, for readers that want a path.

use std::path::Path;

use tempfile::TempDir;

use crate::error::{Error, ErrorKind, Result};

/// Makes a folder that only its user can read, in the folder for temporary files that a run was given or else the
/// system's; it vanishes when it is dropped.
///
/// # Errors
/// Nothing can be written there.
pub(crate) fn folder(within: Option<&Path>) -> Result<TempDir> {
    let mut builder = tempfile::Builder::new();
    builder.prefix("churn-");
    #[cfg(unix)]
    builder.permissions(std::os::unix::fs::PermissionsExt::from_mode(0o700));
    let system = std::env::temp_dir();
    let within = within.unwrap_or(&system);
    builder.tempdir_in(within).map_err(|e| {
        let what = format!("A temporary folder cannot be made in {}: {e}.", within.display());
        Error::new(ErrorKind::Output, what).next("Name another folder for temporary files: --temporary.")
    })
}
