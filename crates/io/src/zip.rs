//! Text within a zip archive of one file, read as it is unpacked.

use std::fs::File;
use std::io::{BufReader, Error, ErrorKind, Read, Result};
use std::path::Path;

use crc32fast::Hasher;
use flate2::read::DeflateDecoder;
use zip::{CompressionMethod, ZipArchive};

/// The file within an archive, and where its bytes stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Member {
    /// Where its packed bytes start, and how many they are.
    start: u64,
    packed: u64,
    is_deflated: bool,
    /// Its length and checksum once it is unpacked.
    length: u64,
    checksum: u32,
}

/// Whether a file is a zip archive by its name.
pub fn is_named_so(path: &Path) -> bool {
    path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("zip"))
}

/// The name of the file within an archive; `None` if the file is no archive of one file.
pub fn member_name(path: &Path) -> Option<String> {
    if !is_named_so(path) { None } else { look(path).ok().map(|(_, name)| name) }
}

/// Finds the one file of an archive; folders, and files whose names start with a point or an underscore as some systems
/// add them, do not count.
///
/// # Errors
/// It is no archive, it holds no file or several, or the file is packed or encrypted in a way that is not read.
pub(crate) fn member(path: &Path) -> Result<Member> {
    look(path).map(|(member, _)| member)
}

fn look(path: &Path) -> Result<(Member, String)> {
    let invalid = |what: String| Error::new(ErrorKind::InvalidData, what);
    let broken = |e: zip::result::ZipError| invalid(format!("it is no zip archive that can be read ({e})"));
    let mut archive = ZipArchive::new(BufReader::new(File::open(path)?)).map_err(broken)?;
    let mut found: Option<(Member, String)> = None;
    for number in 0..archive.len() {
        let entry = archive.by_index_raw(number).map_err(broken)?;
        let name = entry.name().map_err(broken)?.into_owned();
        let is_hidden = name.split('/').any(|part| part.starts_with(['.', '_']));
        if entry.is_dir() || is_hidden {
            continue;
        }
        if let Some((_, first)) = &found {
            let what = format!(
                "the zip archive holds several files, {first} and {name}; unpack it, and read them as a folder"
            );
            return Err(invalid(what));
        }
        if entry.encrypted() {
            return Err(invalid(format!("{name} within the zip archive is encrypted")));
        }
        let is_deflated = match entry.compression() {
            CompressionMethod::Deflated => true,
            CompressionMethod::Stored => false,
            other => {
                return Err(invalid(format!(
                    "{name} within the zip archive is packed by {other}, which is not read"
                )));
            }
        };
        let start =
            entry.data_start().ok_or_else(|| invalid(format!("{name} has no place in the zip archive")))?;
        let (packed, length, checksum) = (entry.compressed_size(), entry.size(), entry.crc32());
        found = Some((Member { start, packed, is_deflated, length, checksum }, name));
    }
    found.ok_or_else(|| invalid("the zip archive holds no file".to_owned()))
}

impl Member {
    /// The unpacked bytes, of the archive read from its start.
    pub(crate) fn reader(self, mut raw: Box<dyn Read + Send>) -> Result<Box<dyn Read + Send>> {
        std::io::copy(&mut (&mut raw).take(self.start), &mut std::io::sink())?;
        let packed = BufReader::with_capacity(1 << 18, raw.take(self.packed));
        let from: Box<dyn Read + Send> =
            if self.is_deflated { Box::new(DeflateDecoder::new(packed)) } else { Box::new(packed) };
        Ok(Box::new(Unpacked { from, member: self, seen: Hasher::new(), length: 0 }))
    }
}

/// The bytes of a member, which must be as many and as it was packed.
struct Unpacked {
    from: Box<dyn Read + Send>,
    member: Member,
    seen: Hasher,
    length: u64,
}

impl Read for Unpacked {
    fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        let read = self.from.read(into)?;
        self.seen.update(into.get(..read).unwrap_or_default());
        self.length += read as u64;
        let is_whole =
            || self.length == self.member.length && self.seen.clone().finalize() == self.member.checksum;
        if read == 0 && !into.is_empty() && !is_whole() {
            return Err(Error::new(
                ErrorKind::InvalidData,
                "the zip archive is damaged: its checksum does not fit",
            ));
        }
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Write;
    use zip::write::SimpleFileOptions;

    fn archive(path: &Path, files: &[(&str, &str)], method: CompressionMethod) {
        let mut writer = zip::ZipWriter::new(File::create(path).unwrap());
        for (name, text) in files {
            if name.ends_with('/') {
                writer.add_directory(*name, SimpleFileOptions::default()).unwrap();
                continue;
            }
            writer.start_file(*name, SimpleFileOptions::default().compression_method(method)).unwrap();
            writer.write_all(text.as_bytes()).unwrap();
        }
        writer.finish().unwrap();
    }

    fn unpacked(path: &Path) -> Result<String> {
        let mut text = String::new();
        member(path)?.reader(Box::new(File::open(path)?))?.read_to_string(&mut text)?;
        Ok(text)
    }

    #[rstest]
    #[case::deflated(CompressionMethod::Deflated)]
    #[case::stored(CompressionMethod::Stored)]
    fn the_one_file_is_read(#[case] method: CompressionMethod) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("milk.zip");
        let text = "farm,litres\nF1,20\n".repeat(5_000);
        let files =
            [("2026/", ""), ("__MACOSX/x.csv", "?"), ("2026/milk.csv", text.as_str()), ("2026/.x", "?")];
        archive(&path, &files, method);
        assert_eq!(unpacked(&path).unwrap(), text);
        assert_eq!(member_name(&path).as_deref(), Some("2026/milk.csv"));
        // A byte that changed is found, wherever it stands in the packed bytes.
        let found = member(&path).unwrap();
        let bytes = std::fs::read(&path).unwrap();
        for place in [0, found.packed / 2, found.packed - 1] {
            let mut changed = bytes.clone();
            changed[(found.start + place) as usize] ^= 1;
            std::fs::write(&path, changed).unwrap();
            assert!(unpacked(&path).is_err(), "{place}");
        }
    }

    #[rstest]
    #[case::several(&[("a.csv", "1"), ("b.csv", "2")], "holds several files, a.csv and b.csv")]
    #[case::none(&[("a/", "")], "holds no file")]
    fn others_are_refused(#[case] files: &[(&str, &str)], #[case] expected: &str) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("milk.zip");
        archive(&path, files, CompressionMethod::Deflated);
        assert!(unpacked(&path).unwrap_err().to_string().contains(expected));
        std::fs::write(&path, "PK\u{3}\u{4} no archive").unwrap();
        assert!(unpacked(&path).unwrap_err().to_string().contains("no zip archive"));
    }
}
