//! Delimited text in another encoding than UTF-8.

use arrow_array::{Array, BinaryViewArray, StringViewArray};
use churn_core::names::name;
use churn_core::{Batch, Error, ErrorKind, Result};
use encoding_rs::WINDOWS_1252;

use super::write::CsvEncoder;
use crate::format::{Encoder, TextEncoding};

/// The encoder itself for UTF-8, else one that encodes what it gives.
pub(crate) fn encoded(text: CsvEncoder, encoding: TextEncoding) -> Box<dyn Encoder> {
    match encoding {
        TextEncoding::Utf8 => Box::new(text),
        _ => Box::new(Encoded { text, encoding }),
    }
}

/// Whether a text can be written in an encoding; else the first character that cannot.
///
/// # Errors
/// The character.
pub fn fits(text: &str, encoding: TextEncoding) -> std::result::Result<(), char> {
    let is_lacking = |c: &char| WINDOWS_1252.encode(c.encode_utf8(&mut [0; 4])).2;
    match encoding {
        TextEncoding::Latin1 => text.chars().find(is_lacking).map_or(Ok(()), Err),
        _ => Ok(()),
    }
}

struct Encoded {
    text: CsvEncoder,
    encoding: TextEncoding,
}

impl Encoded {
    /// The bytes of a text; `None` if a character of it is not in the encoding.
    fn bytes(&self, text: Vec<u8>) -> Option<Vec<u8>> {
        // The encoder gives UTF-8: what it joins is.
        let text = String::from_utf8(text).ok()?;
        match self.encoding {
            TextEncoding::Utf8 | TextEncoding::Utf8Marked => Some(text.into_bytes()),
            TextEncoding::Utf16 => Some(text.encode_utf16().flat_map(u16::to_le_bytes).collect()),
            TextEncoding::Latin1 => {
                let (bytes, _, lacks_some) = WINDOWS_1252.encode(&text);
                (!lacks_some).then(|| bytes.into_owned())
            }
        }
    }

    /// The error of rows of which a text cannot be written.
    fn lacking(&self, batch: &Batch) -> Error {
        let of_column = |column: &StringViewArray| {
            (0..column.len()).filter(|row| column.is_valid(*row)).find_map(|row| {
                fits(column.value(row), self.encoding).err().map(|c| (c, column.value(row).to_owned()))
            })
        };
        let texts = batch.columns.iter().zip(self.text.names()).filter_map(|(column, name)| {
            Some((name, of_column(column.as_any().downcast_ref::<StringViewArray>()?)?))
        });
        let error = match texts.into_iter().next() {
            Some((column, (c, text))) => Error::new(
                ErrorKind::Data,
                format!("'{c}' cannot be written as latin1: the column {} has '{text}'.", name(column)),
            ),
            None => Error::new(ErrorKind::Data, "A text has characters that latin1 lacks."),
        };
        error.next("Write it as UTF-8 or UTF-16: with (encoding = 'utf-16').")
    }
}

impl Encoder for Encoded {
    fn start(&self) -> Vec<u8> {
        let mark: &[u8] = match self.encoding {
            TextEncoding::Utf8Marked => b"\xef\xbb\xbf",
            TextEncoding::Utf16 => b"\xff\xfe",
            TextEncoding::Utf8 | TextEncoding::Latin1 => b"",
        };
        // Names that do not fit are refused before the run.
        let heading = self.bytes(self.text.start()).unwrap_or_default();
        [mark, heading.as_slice()].concat()
    }

    fn rows(&self, batch: &Batch, _: Option<&BinaryViewArray>) -> Result<Vec<u8>> {
        self.bytes(self.text.rows(batch, None)?).ok_or_else(|| self.lacking(batch))
    }
}
