//! The container of Avro files, by its specification 1.12: a heading, then blocks of records that are packed each by
//! itself, between marks that tell where they end.

use std::io::{Error, ErrorKind, Read, Result, Write};

use churn_kernels::hash::Seed;
use serde_json::Value;

use crate::open_files::PositionedFile;

/// The first bytes of a file.
pub(super) const MAGIC: &[u8; 4] = b"Obj\x01";

/// The keys of the heading.
const SCHEMA: &str = "avro.schema";
const CODEC: &str = "avro.codec";

/// Bytes of a mark between blocks.
const MARK: usize = 16;

/// The longest heading, and the longest block once it is unpacked.
const LONGEST_HEADING: usize = 16 << 20;
const LONGEST_BLOCK: u64 = 256 << 20;

/// How blocks are packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Packing {
    None,
    Deflate,
    Snappy,
    Zstd,
    Bzip2,
    Xz,
}

/// Their names in the heading.
const PACKINGS: [(&str, Packing); 6] = [
    ("null", Packing::None),
    ("deflate", Packing::Deflate),
    ("snappy", Packing::Snappy),
    ("zstandard", Packing::Zstd),
    ("bzip2", Packing::Bzip2),
    ("xz", Packing::Xz),
];

/// What stands before the blocks.
#[derive(Clone, Debug)]
pub(super) struct Heading {
    /// The schema of the records, as JSON.
    pub(super) schema: String,
    pub(super) packing: Packing,
    mark: [u8; MARK],
    /// Where the first block starts.
    length: u64,
}

/// A block: where its packed bytes stand, and its records.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Block {
    at: u64,
    pub(super) packed: u64,
    pub(super) rows: u64,
}

fn invalid(what: impl Into<String>) -> Error {
    Error::new(ErrorKind::InvalidData, what.into())
}

/// Takes a number off the front of some bytes; `None` if they end before it does.
pub(super) fn number(bytes: &mut &[u8]) -> Result<Option<i64>> {
    let (mut value, mut rest) = (0u64, *bytes);
    for place in 0..10 {
        let Some((byte, after)) = rest.split_first() else { return Ok(None) };
        rest = after;
        value |= u64::from(byte & 0x7f) << (7 * place);
        if byte & 0x80 == 0 {
            *bytes = rest;
            return Ok(Some((value >> 1).cast_signed() ^ -(value & 1).cast_signed()));
        }
    }
    Err(invalid("a number in it does not end"))
}

fn push_number(value: i64, out: &mut Vec<u8>) {
    let mut value = (value << 1 ^ value >> 63).cast_unsigned();
    while value >= 0x80 {
        out.push(value as u8 | 0x80);
        value >>= 7;
    }
    out.push(value as u8);
}

fn push_bytes(bytes: &[u8], out: &mut Vec<u8>) {
    push_number(bytes.len() as i64, out);
    out.extend_from_slice(bytes);
}

/// Takes so many bytes off the front, with their length before them.
fn part<'a>(bytes: &mut &'a [u8]) -> Result<Option<&'a [u8]>> {
    let Some(length) = number(bytes)? else { return Ok(None) };
    let length = usize::try_from(length).map_err(|_| invalid("a length in it is negative"))?;
    let Some((part, rest)) = bytes.split_at_checked(length) else { return Ok(None) };
    *bytes = rest;
    Ok(Some(part))
}

impl Heading {
    /// Reads the heading of a file.
    pub(super) fn read(file: &PositionedFile) -> Result<Heading> {
        let mut wanted = 1 << 14;
        loop {
            let mut start = vec![0; wanted.min(usize::try_from(file.size()).unwrap_or(usize::MAX))];
            file.read_exactly(&mut start, 0)?;
            if let Some(heading) = Heading::of(&start)? {
                return Ok(heading);
            }
            if start.len() < wanted || wanted >= LONGEST_HEADING {
                return Err(invalid("its heading does not end"));
            }
            wanted *= 4;
        }
    }

    /// The heading that some bytes start with; `None` if they end before it does.
    fn of(bytes: &[u8]) -> Result<Option<Heading>> {
        let Some(mut rest) = bytes.strip_prefix(MAGIC) else {
            return Err(invalid("it does not start as Avro files do"));
        };
        let (mut schema, mut packing) = (None, Packing::None);
        loop {
            let Some(count) = number(&mut rest)? else { return Ok(None) };
            // A negative number of entries has their length behind it.
            if count < 0 && number(&mut rest)?.is_none() {
                return Ok(None);
            }
            if count == 0 {
                break;
            }
            for _ in 0..count.unsigned_abs() {
                let Some(key) = part(&mut rest)? else { return Ok(None) };
                let Some(value) = part(&mut rest)? else { return Ok(None) };
                let text =
                    || String::from_utf8(value.to_vec()).map_err(|_| invalid("its heading is not UTF-8"));
                match key {
                    key if key == SCHEMA.as_bytes() => schema = Some(text()?),
                    key if key == CODEC.as_bytes() => packing = packing_of(&text()?)?,
                    _ => {}
                }
            }
        }
        let Some((mark, rest)) = rest.split_first_chunk::<MARK>() else { return Ok(None) };
        let schema = schema.ok_or_else(|| invalid("its heading has no schema"))?;
        Ok(Some(Heading { schema, packing, mark: *mark, length: (bytes.len() - rest.len()) as u64 }))
    }

    /// A heading for records that are not packed. Texts that are identifiers by their logical type are texts in it.
    pub(super) fn plain(&self) -> Vec<u8> {
        let schema = serde_json::from_str(&self.schema).map(|mut schema| {
            as_texts(&mut schema);
            schema.to_string()
        });
        heading(schema.as_ref().unwrap_or(&self.schema), Packing::None, &self.mark)
    }

    /// A block that is not packed, as it stands behind [`Heading::plain`].
    pub(super) fn plain_block(&self, rows: u64, records: &[u8]) -> Vec<u8> {
        block(rows as i64, records, &self.mark)
    }

    /// Finds the blocks of a file.
    pub(super) fn blocks(&self, file: &PositionedFile) -> Result<Vec<Block>> {
        let (mut blocks, mut at) = (Vec::new(), self.length);
        while at < file.size() {
            let mut start = vec![0; 20.min(usize::try_from(file.size() - at).unwrap_or(20))];
            file.read_exactly(&mut start, at)?;
            let mut rest = start.as_slice();
            let (Some(rows), Some(packed)) = (number(&mut rest)?, number(&mut rest)?) else {
                return Err(invalid("it is cut short"));
            };
            let (Ok(rows), Ok(packed)) = (u64::try_from(rows), u64::try_from(packed)) else {
                return Err(invalid("a block of it has a negative length"));
            };
            let block = Block { at: at + (start.len() - rest.len()) as u64, packed, rows };
            let end = block.at.checked_add(packed).filter(|end| end + MARK as u64 <= file.size());
            let end = end.ok_or_else(|| invalid("it is cut short"))?;
            let mut mark = [0; MARK];
            file.read_exactly(&mut mark, end)?;
            if mark != self.mark {
                return Err(invalid(format!(
                    "the block at byte {at} does not end with the mark of the file"
                )));
            }
            blocks.push(block);
            at = end + MARK as u64;
        }
        Ok(blocks)
    }

    /// Reads the records of a block and unpacks them.
    pub(super) fn records(&self, file: &PositionedFile, block: &Block) -> Result<Vec<u8>> {
        if block.packed > LONGEST_BLOCK {
            return Err(invalid("a block of it is longer than 256 MB"));
        }
        let mut packed = vec![0; block.packed as usize];
        file.read_exactly(&mut packed, block.at)?;
        unpacked(packed, self.packing)
    }
}

/// Takes the logical type `uuid` off texts.
fn as_texts(schema: &mut Value) {
    match schema {
        Value::Object(parts) => {
            let is = |key: &str, word: &str| parts.get(key).and_then(Value::as_str) == Some(word);
            if is("type", "string") && is("logicalType", "uuid") {
                parts.remove("logicalType");
            }
            parts.values_mut().for_each(as_texts);
        }
        Value::Array(parts) => parts.iter_mut().for_each(as_texts),
        _ => {}
    }
}

fn packing_of(name: &str) -> Result<Packing> {
    let found = PACKINGS.iter().find(|(known, _)| *known == name).map(|(_, packing)| *packing);
    found.ok_or_else(|| invalid(format!("its blocks are packed by {name}, which is not read")))
}

fn unpacked(packed: Vec<u8>, packing: Packing) -> Result<Vec<u8>> {
    let all = |from: &mut dyn Read| {
        let mut records = Vec::new();
        let read = from.take(LONGEST_BLOCK + 1).read_to_end(&mut records)?;
        if read as u64 > LONGEST_BLOCK {
            return Err(invalid("a block of it is longer than 256 MB once it is unpacked"));
        }
        Ok(records)
    };
    match packing {
        Packing::None => Ok(packed),
        Packing::Deflate => all(&mut flate2::read::DeflateDecoder::new(packed.as_slice())),
        Packing::Zstd => all(&mut zstd::stream::read::Decoder::new(packed.as_slice())?),
        Packing::Bzip2 => all(&mut bzip2::read::BzDecoder::new(packed.as_slice())),
        Packing::Xz => all(&mut liblzma::read::XzDecoder::new(packed.as_slice())),
        Packing::Snappy => {
            // The checksum of the records stands behind them.
            let Some((packed, checksum)) = packed.split_last_chunk::<4>() else {
                return Err(invalid("a block of it is cut short"));
            };
            let length = snap::raw::decompress_len(packed).map_err(|e| invalid(e.to_string()))?;
            if length as u64 > LONGEST_BLOCK {
                return Err(invalid("a block of it is longer than 256 MB once it is unpacked"));
            }
            let records =
                snap::raw::Decoder::new().decompress_vec(packed).map_err(|e| invalid(e.to_string()))?;
            if checksum_of(&records) != *checksum {
                return Err(invalid("the checksum of a block does not fit"));
            }
            Ok(records)
        }
    }
}

fn checksum_of(records: &[u8]) -> [u8; 4] {
    crc32fast::hash(records).to_be_bytes()
}

/// Packs the records of a block.
pub(super) fn packed(records: &[u8], packing: Packing, level: Option<i32>) -> Result<Vec<u8>> {
    match packing {
        Packing::None => Ok(records.to_vec()),
        Packing::Deflate => {
            let level = flate2::Compression::new(level.map_or(6, i32::unsigned_abs));
            let mut out = flate2::write::DeflateEncoder::new(Vec::new(), level);
            out.write_all(records)?;
            out.finish()
        }
        Packing::Zstd => zstd::stream::encode_all(records, level.unwrap_or(1)),
        Packing::Snappy => {
            let mut out =
                snap::raw::Encoder::new().compress_vec(records).map_err(|e| invalid(e.to_string()))?;
            out.extend_from_slice(&checksum_of(records));
            Ok(out)
        }
        Packing::Bzip2 => {
            let level = bzip2::Compression::new(level.map_or(9, i32::unsigned_abs));
            let mut out = bzip2::write::BzEncoder::new(Vec::new(), level);
            out.write_all(records)?;
            out.finish()
        }
        Packing::Xz => {
            let mut out = liblzma::write::XzEncoder::new(Vec::new(), level.map_or(6, i32::unsigned_abs));
            out.write_all(records)?;
            out.finish()
        }
    }
}

/// The mark of a file: of its schema, so that the same rows make the same file.
pub(super) fn mark_of(schema: &str) -> [u8; MARK] {
    let low = Seed::FIXED.of_bytes(schema.as_bytes());
    let high = Seed::FIXED.of_bytes(&low.to_le_bytes());
    (u128::from(high) << 64 | u128::from(low)).to_le_bytes()
}

/// The bytes before the blocks.
pub(super) fn heading(schema: &str, packing: Packing, mark: &[u8; MARK]) -> Vec<u8> {
    let name = PACKINGS.iter().find(|(_, known)| *known == packing).map_or("null", |(name, _)| name);
    let mut out = MAGIC.to_vec();
    push_number(2, &mut out);
    for (key, value) in [(SCHEMA, schema), (CODEC, name)] {
        push_bytes(key.as_bytes(), &mut out);
        push_bytes(value.as_bytes(), &mut out);
    }
    push_number(0, &mut out);
    out.extend_from_slice(mark);
    out
}

/// The bytes of a block.
pub(super) fn block(rows: i64, packed: &[u8], mark: &[u8; MARK]) -> Vec<u8> {
    let mut out = Vec::with_capacity(packed.len() + 40);
    push_number(rows, &mut out);
    push_bytes(packed, &mut out);
    out.extend_from_slice(mark);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;
    use std::sync::Arc;

    proptest! {
        #[test]
        fn numbers_read_back(value: i64, more: u8) {
            let mut bytes = Vec::new();
            push_number(value, &mut bytes);
            for end in 0..bytes.len() {
                prop_assert_eq!(number(&mut &bytes[..end]).unwrap(), None);
            }
            bytes.push(more);
            let mut rest = bytes.as_slice();
            prop_assert_eq!(number(&mut rest).unwrap(), Some(value));
            prop_assert_eq!(rest, &[more]);
        }

        #[test]
        fn no_bytes_are_too_much_for_a_heading(bytes: Vec<u8>) {
            let _ = Heading::of(&[MAGIC.as_slice(), &bytes].concat());
            let _ = Heading::of(&bytes);
        }
    }

    #[rstest]
    #[case(Packing::None)]
    #[case(Packing::Deflate)]
    #[case(Packing::Snappy)]
    #[case(Packing::Zstd)]
    #[case(Packing::Bzip2)]
    #[case(Packing::Xz)]
    fn blocks_read_back(#[case] packing: Packing) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("t.avro");
        let (schema, mark) = ("{\"type\": \"record\"}", mark_of("x"));
        let records: Vec<u8> = (0..50_000u32).flat_map(|i| (i % 251).to_le_bytes()).collect();
        let mut bytes = heading(schema, packing, &mark);
        for rows in [3, 7] {
            bytes.extend(block(rows, &packed(&records, packing, None).unwrap(), &mark));
        }
        std::fs::write(&path, &bytes).unwrap();
        let file = PositionedFile::open(&path, &Arc::default(), &Default::default()).unwrap();
        let found = Heading::read(&file).unwrap();
        assert_eq!((found.schema.as_str(), found.packing), (schema, packing));
        let blocks = found.blocks(&file).unwrap();
        assert_eq!(blocks.iter().map(|block| block.rows).collect::<Vec<_>>(), [3, 7]);
        for block in &blocks {
            assert!(found.records(&file, block).unwrap() == records);
        }
        // Cut anywhere behind the heading it is told, but between two blocks.
        for cut in [bytes.len() - 1, bytes.len() - MARK - 1, bytes.len() / 2 + 50] {
            std::fs::write(&path, &bytes[..cut]).unwrap();
            let file = PositionedFile::open(&path, &Arc::default(), &Default::default()).unwrap();
            assert!(Heading::read(&file).unwrap().blocks(&file).is_err(), "{cut}");
        }
    }
}
