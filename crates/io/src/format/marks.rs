//! How files of the formats begin, whether or not this build has what reads them.

use crate::place::has_control_bytes;

pub(crate) fn parquet(first: &[u8]) -> bool {
    first.starts_with(b"PAR1") && has_control_bytes(first)
}

pub(crate) fn arrow(first: &[u8]) -> bool {
    // Of a stream of batches, the mark of a message and the bytes of its length.
    let is_stream = matches!(first, [0xff, 0xff, 0xff, 0xff, _, _, 0, 0, ..]);
    is_stream || first.starts_with(b"ARROW1") && has_control_bytes(first)
}

pub(crate) fn avro(first: &[u8]) -> bool {
    first.starts_with(b"Obj\x01")
}

pub(crate) fn workbook(first: &[u8]) -> bool {
    matches!(first, [b'P', b'K', 3, 4, ..] | [0xd0, 0xcf, 0x11, 0xe0, ..])
}

/// Whether a text starts as records do: with a brace and a quoted name, or a bracket and a record.
pub(crate) fn json(first: &[u8]) -> bool {
    let first = first.strip_prefix(b"\xef\xbb\xbf").unwrap_or(first);
    match first.trim_ascii_start() {
        [b'{', rest @ ..] => matches!(rest.trim_ascii_start().first(), Some(b'"' | b'}')),
        [b'[', rest @ ..] => matches!(rest.trim_ascii_start().first(), Some(b'{')),
        _ => false,
    }
}
