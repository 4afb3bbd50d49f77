//! The formats that stand behind features: what each is called, and how its files begin, whether or not this build has what
//! reads them.

use crate::place::has_control_bytes;

/// What is known of a format.
#[derive(Debug)]
pub(crate) struct Known {
    pub(crate) title: &'static str,
    /// The names it goes by; files are written under the first.
    pub(crate) names: &'static [&'static str],
    /// Whether a file that starts so is one.
    pub(crate) starts: fn(&[u8]) -> bool,
}

pub(crate) const PARQUET: Known = Known { title: "Parquet", names: &["parquet"], starts: parquet };
pub(crate) const ARROW: Known = Known { title: "Arrow", names: &["arrow", "feather"], starts: arrow };
pub(crate) const AVRO: Known = Known { title: "Avro", names: &["avro"], starts: avro };
pub(crate) const ORC: Known = Known { title: "ORC", names: &["orc"], starts: orc };
pub(crate) const WORKBOOK: Known =
    Known { title: "workbook", names: &["xlsx", "xlsm", "xlsb", "xls", "ods"], starts: workbook };
pub(crate) const JSON: Known = Known { title: "JSON", names: &["json"], starts: json };
pub(crate) const NDJSON: Known = Known { title: "NDJSON", names: &["ndjson", "jsonl"], starts: json };

fn parquet(first: &[u8]) -> bool {
    first.starts_with(b"PAR1") && has_control_bytes(first)
}

fn arrow(first: &[u8]) -> bool {
    // Of a stream of batches, the mark of a message and the bytes of its length.
    let is_stream = matches!(first, [0xff, 0xff, 0xff, 0xff, _, _, 0, 0, ..]);
    is_stream || first.starts_with(b"ARROW1") && has_control_bytes(first)
}

fn avro(first: &[u8]) -> bool {
    first.starts_with(b"Obj\x01")
}

fn orc(first: &[u8]) -> bool {
    first.starts_with(b"ORC") && has_control_bytes(first)
}

fn workbook(first: &[u8]) -> bool {
    matches!(first, [b'P', b'K', 3, 4, ..] | [0xd0, 0xcf, 0x11, 0xe0, ..])
}

/// Whether a text starts as records do: with a brace and a quoted name, or a bracket and a record.
fn json(first: &[u8]) -> bool {
    let first = first.strip_prefix(b"\xef\xbb\xbf").unwrap_or(first);
    match first.trim_ascii_start() {
        [b'{', rest @ ..] => matches!(rest.trim_ascii_start().first(), Some(b'"' | b'}')),
        [b'[', rest @ ..] => matches!(rest.trim_ascii_start().first(), Some(b'{')),
        _ => false,
    }
}
