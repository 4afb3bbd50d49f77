//! Text in other encodings and with other line ends, as UTF-8 with line feeds.

use std::io::{Error, ErrorKind, Read};

use encoding_rs::{Decoder, DecoderResult, Encoding};

/// Decodes a stream of text to UTF-8; bytes that are not of the encoding are an error, not replaced.
pub(crate) struct Decoding {
    from: Box<dyn Read + Send>,
    decoder: Decoder,
    name: &'static str,
    raw: Vec<u8>,
    /// The bytes of `raw` that are not decoded yet.
    left: std::ops::Range<usize>,
    /// Decoded text, and how much of it was handed on.
    text: Vec<u8>,
    at: usize,
    /// Bytes of the stream before those in `raw`.
    before: u64,
    is_read: bool,
    is_done: bool,
}

impl Decoding {
    /// Decodes from an encoding; a mark of byte order at the start is left out.
    pub(crate) fn new(from: Box<dyn Read + Send>, encoding: &'static Encoding) -> Decoding {
        Decoding {
            from,
            decoder: encoding.new_decoder_with_bom_removal(),
            name: encoding.name(),
            raw: vec![0; 1 << 16],
            left: 0..0,
            text: Vec::new(),
            at: 0,
            before: 0,
            is_read: false,
            is_done: false,
        }
    }

    fn fill(&mut self) -> std::io::Result<()> {
        self.text.clear();
        self.at = 0;
        self.text.reserve(3 * self.raw.len() + 16);
        while self.text.is_empty() && !self.is_done {
            if self.left.is_empty() && !self.is_read {
                self.before += self.left.end as u64;
                self.left = 0..self.from.read(&mut self.raw)?;
                self.is_read = self.left.is_empty();
            }
            let raw = self.raw.get(self.left.clone()).unwrap_or_default();
            let room = self.text.capacity();
            self.text.resize(room, 0);
            let (result, read, written) =
                self.decoder.decode_to_utf8_without_replacement(raw, &mut self.text, self.is_read);
            self.text.truncate(written);
            self.left.start += read;
            match result {
                DecoderResult::InputEmpty => self.is_done = self.is_read,
                DecoderResult::OutputFull => {}
                DecoderResult::Malformed(bytes, after) => {
                    let at = self.before + self.left.start as u64 - u64::from(bytes) - u64::from(after);
                    let what = format!("byte {at} is not {}", self.name);
                    return Err(Error::new(ErrorKind::InvalidData, what));
                }
            }
        }
        Ok(())
    }
}

impl Read for Decoding {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        if self.at == self.text.len() {
            self.fill()?;
        }
        let ready = self.text.get(self.at..).unwrap_or_default();
        let count = ready.len().min(into.len());
        if let (Some(into), Some(ready)) = (into.get_mut(..count), ready.get(..count)) {
            into.copy_from_slice(ready);
        }
        self.at += count;
        Ok(count)
    }
}

/// Turns carriage returns into line feeds, and a pair of both into one, for text whose lines end with them alone.
pub(crate) struct LineFeeds<R> {
    from: R,
    /// Whether the last byte was a carriage return, so that a line feed behind it is left out.
    after_return: bool,
}

impl<R: Read> LineFeeds<R> {
    pub(crate) fn new(from: R) -> LineFeeds<R> {
        LineFeeds { from, after_return: false }
    }
}

impl<R: Read> Read for LineFeeds<R> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        loop {
            let read = self.from.read(into)?;
            let mut kept = 0;
            for place in 0..read {
                let Some(byte) = into.get(place).copied() else { break };
                let is_second = self.after_return && byte == b'\n';
                self.after_return = byte == b'\r';
                if is_second {
                    continue;
                }
                if let Some(slot) = into.get_mut(kept) {
                    *slot = if self.after_return { b'\n' } else { byte };
                }
                kept += 1;
            }
            if kept > 0 || read == 0 {
                return Ok(kept);
            }
        }
    }
}

/// Whether lines end with carriage returns alone.
pub(crate) fn has_lone_returns(start: &[u8]) -> bool {
    memchr::memchr(b'\n', start).is_none() && memchr::memchr(b'\r', start).is_some()
}

/// Which UTF-16 text without a mark of byte order is, by where its zeros stand; `None` if it is none.
///
/// Most letters of most tables are below 256, so that one of their two bytes is zero.
pub(crate) fn utf16_without_mark(start: &[u8]) -> Option<&'static Encoding> {
    let zeros = |odd: usize| start.iter().skip(odd).step_by(2).filter(|b| **b == 0).count();
    let (even, odd) = (zeros(0), zeros(1));
    let pairs = start.len() / 2;
    if pairs < 2 {
        return None;
    }
    match (even * 3, odd * 3) {
        (e, o) if o >= pairs && e < o / 8 + 1 => Some(encoding_rs::UTF_16LE),
        (e, o) if e >= pairs && o < e / 8 + 1 => Some(encoding_rs::UTF_16BE),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Cursor;

    fn utf16(text: &str, big: bool) -> Vec<u8> {
        text.encode_utf16().flat_map(|u| if big { u.to_be_bytes() } else { u.to_le_bytes() }).collect()
    }

    #[rstest]
    #[case(false)]
    #[case(true)]
    fn utf16_is_decoded_whatever_the_size_of_reads(#[case] big: bool) {
        let text = "farm,Höhe\nF1,12 🐄\n".repeat(40_000);
        let bytes = utf16(&text, big);
        assert_eq!(utf16_without_mark(&bytes[..4096]).map(|e| e == encoding_rs::UTF_16BE), Some(big));
        let encoding = if big { encoding_rs::UTF_16BE } else { encoding_rs::UTF_16LE };
        for size in [1, 7, 100_000] {
            let mut reader = Decoding::new(Box::new(Cursor::new(bytes.clone())), encoding);
            let (mut found, mut part) = (Vec::new(), vec![0; size]);
            while let Some(read) = Some(reader.read(&mut part).unwrap()).filter(|n| *n > 0) {
                found.extend_from_slice(&part[..read]);
            }
            assert!(found == text.as_bytes());
        }
    }

    #[test]
    fn a_lone_surrogate_is_an_error_with_its_place() {
        let mut bytes = utf16("farm\nF1", false);
        bytes.extend_from_slice(&[0x00, 0xd8, 0x41, 0x00]);
        let error = Decoding::new(Box::new(Cursor::new(bytes)), encoding_rs::UTF_16LE)
            .read_to_end(&mut Vec::new())
            .unwrap_err();
        assert_eq!(error.to_string(), "byte 14 is not UTF-16LE");
    }

    #[rstest]
    #[case(b"a\rb\r", b"a\nb\n")]
    #[case(b"a\r\nb\rc\n\n", b"a\nb\nc\n\n")]
    fn returns_become_line_feeds(#[case] text: &[u8], #[case] expected: &[u8]) {
        struct One<'a>(&'a [u8]);
        impl Read for One<'_> {
            fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
                (&mut self.0).take(1).read(into)
            }
        }
        let mut found = Vec::new();
        LineFeeds::new(One(text)).read_to_end(&mut found).unwrap();
        assert_eq!(found, expected);
    }

    #[test]
    fn text_of_eight_bits_is_no_utf16() {
        assert_eq!(utf16_without_mark(b"farm,litres\nF1,20\n"), None);
        assert_eq!(utf16_without_mark(&[0; 100]), None);
    }
}
