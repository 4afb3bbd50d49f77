//! Text columns that point into a block of text instead of copying it.
//!
//! The block is proved to be UTF-8 once, as a whole; a cell cut from it is then valid wherever it starts and
//! ends at a character border, which two byte tests show.

use std::sync::Arc;

use arrow_array::StringViewArray;
use arrow_buffer::{Buffer, NullBuffer, ScalarBuffer};

/// A block of text that is known to be UTF-8.
#[derive(Clone, Debug)]
pub struct Utf8Block(Buffer);

impl Utf8Block {
    /// Takes bytes over, without a copy; gives the place of the first byte that is not UTF-8 if there is one.
    ///
    /// # Errors
    /// The bytes are not UTF-8: the number of those before the first bad one.
    pub fn new(bytes: Vec<u8>) -> Result<Utf8Block, usize> {
        if let Err(error) = simdutf8::compat::from_utf8(&bytes) {
            return Err(error.valid_up_to());
        }
        Ok(Utf8Block(Buffer::from_vec(bytes)))
    }

    /// The bytes.
    #[inline]
    pub fn bytes(&self) -> &[u8] {
        self.0.as_slice()
    }

    #[inline]
    fn is_border(&self, at: usize) -> bool {
        // A byte that continues a character is 0b10xx_xxxx.
        self.bytes().get(at).is_none_or(|b| (*b).cast_signed() >= -0x40)
    }
}

/// Builds a text column from parts of a block and from texts of its own.
#[derive(Debug)]
pub struct ViewBuilder<'a> {
    block: &'a Utf8Block,
    own: Vec<u8>,
    views: Vec<u128>,
}

impl<'a> ViewBuilder<'a> {
    /// Starts a column of about `rows` rows.
    pub fn new(block: &'a Utf8Block, rows: usize) -> Self {
        ViewBuilder { block, own: Vec::new(), views: Vec::with_capacity(rows) }
    }

    /// Appends the part of the block from `start` to before `end`.
    ///
    /// A part that is not whole characters within the block becomes the empty text.
    #[inline]
    pub fn push_part(&mut self, start: usize, end: usize) {
        let bytes = self.block.bytes();
        let part = bytes.get(start..end).filter(|_| self.block.is_border(start) && self.block.is_border(end));
        let view = match part {
            Some(part) => view_of(part, 0, start, bytes.get(start..start + 12)),
            None => 0,
        };
        self.views.push(view);
    }

    /// Appends a text that does not stand in the block as it is.
    pub fn push_text(&mut self, text: &str) {
        let start = self.own.len();
        if text.len() > 12 {
            self.own.extend_from_slice(text.as_bytes());
        }
        self.views.push(view_of(text.as_bytes(), 1, start, None));
    }

    /// Appends a row whose text does not matter: a null.
    #[inline]
    pub fn push_empty(&mut self) {
        self.views.push(0);
    }

    /// The column.
    pub fn finish(self, nulls: Option<NullBuffer>) -> StringViewArray {
        let nulls = nulls.filter(|n| n.len() == self.views.len());
        let views = ScalarBuffer::from(self.views);
        let buffers: Arc<[Buffer]> = Arc::from([self.block.0.clone(), Buffer::from_vec(self.own)]);
        // SAFETY: every view was made by `view_of`: from a range of the block that is within it and starts and
        // ends at character borders of valid UTF-8, or from a whole `str` copied to `own`. `nulls` has the
        // views' length.
        unsafe { StringViewArray::new_unchecked(views, buffers, nulls) }
    }
}

/// The view of a text at `offset` of buffer `buffer`; `padded` is the text with what follows it, 12 bytes.
#[inline]
fn view_of(text: &[u8], buffer: u32, offset: usize, padded: Option<&[u8]>) -> u128 {
    let length = text.len();
    if length <= 12 {
        let mut inline = [0u8; 16];
        match padded {
            Some(padded) if padded.len() == 12 => {
                inline[4..].copy_from_slice(padded);
                let all = u128::from_le_bytes(inline) >> 32;
                let kept = all & ((1u128 << (8 * length)) - 1);
                return kept << 32 | length as u128;
            }
            _ => inline[4..4 + length].copy_from_slice(text),
        }
        return u128::from_le_bytes(inline) | length as u128;
    }
    let prefix = u32::from_le_bytes([text[0], text[1], text[2], text[3]]);
    length as u128 | u128::from(prefix) << 32 | u128::from(buffer) << 64 | (offset as u128) << 96
}

/// A copy of the column that holds its own text alone, if it keeps much more alive than it needs.
pub fn compact(column: &StringViewArray) -> Option<StringViewArray> {
    let held: usize = column.data_buffers().iter().map(Buffer::len).sum();
    if held < 4096 {
        return None;
    }
    let needed: usize = column.lengths().filter(|l| *l > 12).map(|l| l as usize).sum();
    (needed * 2 < held).then(|| column.gc())
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::Array;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn parts_read_back(text in "[a-zä€😀,]{0,80}", cuts in prop::collection::vec((0usize..200, 0usize..60), 1..20)) {
            let block = Utf8Block::new(text.clone().into_bytes()).map_err(|_| TestCaseError::fail("not UTF-8"))?;
            let mut builder = ViewBuilder::new(&block, cuts.len());
            for (start, length) in &cuts {
                builder.push_part(*start, start + length);
            }
            builder.push_text(&text);
            let column = builder.finish(None);
            for (row, (start, length)) in cuts.iter().enumerate() {
                prop_assert_eq!(column.value(row), text.get(*start..start + length).unwrap_or_default());
            }
            prop_assert_eq!(column.value(cuts.len()), text.as_str());
        }
    }

    #[test]
    fn bad_bytes_are_told() {
        assert_eq!(Utf8Block::new(b"ab\xffc".to_vec()).err(), Some(2));
    }

    #[test]
    fn a_few_kept_rows_do_not_hold_a_block() {
        let text = "a text of more than twelve bytes;".repeat(1000);
        let Ok(block) = Utf8Block::new(text.into_bytes()) else { return };
        let mut builder = ViewBuilder::new(&block, 1);
        builder.push_part(0, 33);
        let small = compact(&builder.finish(None));
        assert_eq!(small.map(|c| c.get_buffer_memory_size() < 200), Some(true));
    }
}
