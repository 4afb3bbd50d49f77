//! Text columns that point into a block of text instead of copying it.
//!
//! Cells of ASCII, which nearly all are, need no further proof that they are UTF-8; others are proved one by one.
//! A column whose texts all fit into their views does not hold the block.

use std::ops::Range;
use std::sync::Arc;

use crate::known::known_part;
use arrow_array::{BinaryViewArray, StringViewArray};
use arrow_buffer::{BooleanBuffer, Buffer, NullBuffer, ScalarBuffer};

use crate::cells::{Cells, Column, Rows, Spans};
use crate::chunk::{CHUNK, Chunk};
use crate::masks::Way;
use crate::pool::Pool;

/// Texts made beside a block: in order of their rows, each with the row and where it ends.
#[derive(Debug, Default)]
pub(crate) struct Own {
    pub(crate) text: Vec<u8>,
    pub(crate) ends: Vec<(usize, usize)>,
}

/// A block of text.
#[derive(Debug)]
pub struct TextBlock {
    buffer: Buffer,
    range: Range<usize>,
}

impl TextBlock {
    /// Takes bytes over, without a copy; the text is the part of them in `range`. They go to the pool when neither the
    /// block nor a column needs them any more.
    pub fn new(bytes: Vec<u8>, range: Range<usize>, pool: &Pool) -> TextBlock {
        let end = range.end.min(bytes.len());
        let range = range.start.min(end)..end;
        TextBlock { buffer: pool.lend(bytes), range }
    }

    /// The bytes of the text.
    #[inline]
    pub fn bytes(&self) -> &[u8] {
        &self.buffer.as_slice()[self.range.clone()]
    }

    /// Whether all of it is UTF-8.
    pub fn is_utf8(&self) -> bool {
        simdutf8::basic::from_utf8(self.bytes()).is_ok()
    }

    /// Parts of the text, for rows where `stand` has a bit; null elsewhere, and where a part has room in a view itself.
    /// The rows of `own` have texts of their own in their places.
    pub(crate) fn parts(
        &self,
        parts: impl ExactSizeIterator<Item = (usize, usize)>,
        mut stand: Vec<u64>,
        own: Own,
    ) -> BinaryViewArray {
        let rows = parts.len();
        let mut views = Vec::with_capacity(rows);
        views.extend(
            parts.map(|(start, end)| {
                view_of(known_part(self.bytes(), start..end), 0, self.range.start + start)
            }),
        );
        let mut start = 0;
        for (row, end) in own.ends {
            views[row] = view_of(&own.text[start..end], 1, start);
            start = end;
        }
        for (row, view) in views.iter_mut().enumerate() {
            if *view as u32 <= 12 {
                *view = 0;
                stand[row / 64] &= !(1 << (row % 64));
            }
        }
        let nulls = NullBuffer::new(BooleanBuffer::new(Buffer::from_vec(stand), 0, rows));
        let mut buffers = vec![self.buffer.clone()];
        if !own.text.is_empty() {
            buffers.push(Buffer::from_vec(own.text));
        }
        // SAFETY: each view is of a part of one of the buffers, or zero, the view of no bytes; there is one for each row.
        unsafe { BinaryViewArray::new_unchecked(ScalarBuffer::from(views), Arc::from(buffers), Some(nulls)) }
    }
}

/// Builds a text column from parts of a block and from texts of its own.
#[derive(Debug)]
pub struct ViewBuilder<'a> {
    block: &'a TextBlock,
    bytes: &'a [u8],
    /// Whether a view points into the block.
    points: bool,
    /// Where the first bad byte stands.
    bad: Option<usize>,
    own: Vec<u8>,
    views: Vec<u128>,
}

impl<'a> ViewBuilder<'a> {
    /// Starts a column of about `rows` rows.
    pub fn new(block: &'a TextBlock, rows: usize) -> Self {
        ViewBuilder {
            block,
            bytes: block.bytes(),
            points: false,
            bad: None,
            own: Vec::new(),
            views: Vec::with_capacity(rows),
        }
    }

    /// Appends the part of the block from `start` to before `end`; the empty text if it is not within it.
    fn push_part(&mut self, start: usize, end: usize) {
        let view = self.view_of_part(start, end);
        self.views.push(view);
    }

    #[inline(always)]
    fn view_of_part(&mut self, start: usize, end: usize) -> u128 {
        let bytes = self.bytes;
        let length = end.wrapping_sub(start);
        if length <= 12
            && let Some(padded) = bytes.get(start..start + 16)
            && let Ok(padded) = <[u8; 16]>::try_from(padded)
        {
            let kept = u128::from_le_bytes(padded) & LOW_BYTES[length];
            if (kept as u64 | (kept >> 64) as u64) & HIGH != 0 {
                self.prove(start, end);
            }
            return kept << 32 | length as u128;
        }
        self.view_of_long_part(start, end)
    }

    fn view_of_long_part(&mut self, start: usize, end: usize) -> u128 {
        let part = known_part(self.bytes, start..end);
        if !part.is_ascii() {
            self.prove(start, end);
        }
        self.points |= part.len() > 12;
        view_of(part, 0, self.block.range.start + start)
    }

    /// Appends the cells of some rows as they stand, all but those that start with a quote: of these the empty
    /// text, and their places are listed as odd. Empty cells are listed, too.
    pub fn push_cells(&mut self, cells: &Cells<'_>, rows: Rows<'_>, quote: Option<u8>) -> Column<()> {
        let mut listed = Column { values: Vec::new(), empty: Vec::new(), odd: Vec::new() };
        let mut views = std::mem::take(&mut self.views);
        views.reserve(rows.len());
        let (mut spare, mut made) = (Spans::default(), [0; CHUNK]);
        let mut place = 0;
        while place < rows.len() {
            let some = CHUNK.min(rows.len() - place);
            let chunk = cells.chunk(rows, place, &mut spare);
            if let Some(empty) = short_views(chunk, quote, &mut made) {
                views.extend_from_slice(&made[..some]);
                let mut empty = empty & (u64::MAX >> (CHUNK - some));
                while empty != 0 {
                    listed.empty.push((place + empty.trailing_zeros() as usize) as u32);
                    empty &= empty - 1;
                }
            } else {
                for i in 0..some {
                    let (start, length) = (chunk.starts[i] as usize, chunk.lengths[i] as usize);
                    let is_quoted = quote.is_some() && self.bytes.get(start) == quote.as_ref();
                    let list = if length == 0 { &mut listed.empty } else { &mut listed.odd };
                    if length == 0 || is_quoted {
                        list.push((place + i) as u32);
                        views.push(0);
                    } else {
                        views.push(self.view_of_part(start, start + length));
                    }
                }
            }
            place += some;
        }
        self.views = views;
        listed
    }

    /// Puts a text in place of one that was pushed.
    pub fn set_text(&mut self, place: usize, text: &str) {
        self.push_text(text);
        self.move_last(place);
    }

    /// Puts a part of the block in place of a text that was pushed.
    pub fn set_part(&mut self, place: usize, start: usize, end: usize) {
        self.push_part(start, end);
        self.move_last(place);
    }

    fn move_last(&mut self, place: usize) {
        if let (Some(view), Some(slot)) = (self.views.pop(), self.views.get_mut(place)) {
            *slot = view;
        }
    }

    /// Appends a text that does not stand in the block as it is.
    fn push_text(&mut self, text: &str) {
        let start = self.own.len();
        if text.len() > 12 {
            self.own.extend_from_slice(text.as_bytes());
        }
        self.views.push(view_of(text.as_bytes(), 1, start));
    }

    /// Proves a part that is not ASCII to be UTF-8.
    #[cold]
    fn prove(&mut self, start: usize, end: usize) {
        let part = known_part(self.bytes, start..end);
        if let Err(error) = simdutf8::compat::from_utf8(part) {
            self.bad.get_or_insert(start + error.valid_up_to());
        }
    }

    /// The column.
    ///
    /// # Errors
    /// A part is not UTF-8: the place of its first bad byte in the block.
    pub fn finish(self, nulls: Option<NullBuffer>) -> Result<StringViewArray, usize> {
        if let Some(bad) = self.bad {
            return Err(bad);
        }
        let nulls = nulls.filter(|n| n.len() == self.views.len());
        let views = ScalarBuffer::from(self.views);
        let block = if self.points { self.block.buffer.clone() } else { Buffer::from(&[]) };
        let buffers: Arc<[Buffer]> = match (self.points, self.own.is_empty()) {
            (false, true) => Arc::from([]),
            _ => Arc::from([block, Buffer::from_vec(self.own)]),
        };
        // SAFETY: every view was made from a range within the block or within `own`. What is in `own` are whole
        // `str`s; the ranges of the block are ASCII or were proved to be UTF-8. `nulls` has the views' length.
        Ok(unsafe { StringViewArray::new_unchecked(views, buffers, nulls) })
    }
}

/// A bit of each byte that is not ASCII.
const HIGH: u64 = 0x8080_8080_8080_8080;

/// Makes the views of cells that are short, not quoted and ASCII, as nearly all are, without a branch on any of them, and
/// gives a bit for each that is empty; `None` where one is not of this form.
fn short_views(cells: Chunk<'_>, quote: Option<u8>, views: &mut [u128; CHUNK]) -> Option<u64> {
    // What is not ASCII is told in any case.
    let quote = quote.unwrap_or(0x80);
    match Way::choose() {
        // SAFETY: a way is chosen only where the processor has it.
        #[cfg(target_arch = "x86_64")]
        Way::Avx512(_) => unsafe { short_views_avx512(cells, quote, views) },
        _ => plain_short_views(cells, quote, views),
    }
}

fn plain_short_views(cells: Chunk<'_>, quote: u8, views: &mut [u128; CHUNK]) -> Option<u64> {
    let last = cells.bytes.len().checked_sub(16)?;
    let (mut low, mut high, mut odd, mut empty) = (0u64, 0u64, false, 0);
    for (i, view) in views.iter_mut().enumerate() {
        let (start, length) = (cells.starts[i] as usize, cells.lengths[i] as usize);
        let text = cells.bytes.get(start.min(last)..).and_then(|text| text.first_chunk::<16>());
        let kept = text.map_or(0, |text| u128::from_le_bytes(*text)) & LOW_BYTES[length.min(15)];
        low |= kept as u64;
        high |= (kept >> 64) as u64;
        odd |= (length > 12) | (start > last) | (kept as u64 & 0xff == u64::from(quote));
        empty |= u64::from(length == 0) << i;
        *view = kept << 32 | length as u128;
    }
    (!odd && (low | high) & HIGH == 0).then_some(empty)
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx512f,avx512bw,avx512vl,bmi2")]
fn short_views_avx512(cells: Chunk<'_>, quote: u8, views: &mut [u128; CHUNK]) -> Option<u64> {
    #[allow(clippy::wildcard_imports)]
    use std::arch::x86_64::*;
    let end = _mm512_set1_epi32(i32::try_from(cells.bytes.len()).ok()?);
    let (mut odd, mut empty) = (0, 0);
    for i in (0..CHUNK).step_by(16) {
        // SAFETY: sixteen numbers stand behind `i` in both arrays.
        let (starts, lengths) = unsafe {
            (
                _mm512_loadu_si512(cells.starts.as_ptr().add(i).cast()),
                _mm512_loadu_si512(cells.lengths.as_ptr().add(i).cast()),
            )
        };
        odd |= _mm512_cmpgt_epu32_mask(lengths, _mm512_set1_epi32(12));
        odd |= _mm512_cmpgt_epu32_mask(starts, end);
        odd |= _mm512_cmpgt_epu32_mask(_mm512_add_epi32(starts, lengths), end);
        empty |= u64::from(_mm512_testn_epi32_mask(lengths, lengths)) << i;
    }
    if odd != 0 {
        return None;
    }
    let first = _mm_set1_epi8(quote.cast_signed());
    let (mut seen, mut differs) = (_mm_setzero_si128(), _mm_set1_epi8(-1));
    for ((start, length), view) in cells.starts.iter().zip(cells.lengths).zip(views) {
        let there = ((1u32 << length) - 1) << 4;
        let text = cells.bytes.as_ptr().wrapping_add(*start as usize).wrapping_sub(4);
        // SAFETY: only the bytes of the cell are loaded, which lies within the block: the last bytes of its view,
        // whose first four are its length.
        let text = unsafe { _mm_maskz_loadu_epi8(there as u16, text.cast()) };
        seen = _mm_or_si128(seen, text);
        differs = _mm_min_epu8(differs, _mm_xor_si128(text, first));
        let made = _mm_or_si128(text, _mm_cvtsi32_si128(length.cast_signed()));
        // SAFETY: a view has sixteen bytes.
        unsafe { _mm_storeu_si128(std::ptr::from_mut(view).cast(), made) };
    }
    // The first byte of a cell is the fifth of its view.
    let quoted = _mm_testn_epi8_mask(differs, differs) & 1 << 4 != 0;
    (_mm_movepi8_mask(seen) == 0 && !quoted).then_some(empty)
}

/// The first so many bytes of sixteen, up to twelve.
const LOW_BYTES: [u128; 16] = {
    let mut masks = [0; 16];
    let mut bytes = 1;
    while bytes < 13 {
        masks[bytes] = masks[bytes - 1] << 8 | 0xff;
        bytes += 1;
    }
    masks
};

/// The view of a text at `offset` of buffer `buffer`.
#[inline]
pub(crate) fn view_of(text: &[u8], buffer: u32, offset: usize) -> u128 {
    let length = text.len();
    if length <= 12 {
        let mut inline = [0u8; 16];
        inline[4..4 + length].copy_from_slice(text);
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
        fn short_cells_in_every_way(texts in prop::collection::vec("[a-z]{0,12}|[a-c]{0,3}", CHUNK), odd in prop::option::of("ä|\"a|[a-z]{13}|a\"")) {
            let mut texts = texts;
            texts[17] = odd.unwrap_or_default();
            let (mut bytes, starts, lengths) = crate::chunk::in_a_row(&texts);
            bytes.extend_from_slice(&[b'x'; 16]);
            let cells = Chunk { bytes: &bytes, starts: &starts, lengths: &lengths };
            let (mut fast, mut plain) = ([0; CHUNK], [0; CHUNK]);
            let (empty, plainly) = (short_views(cells, Some(b'"'), &mut fast), plain_short_views(cells, b'"', &mut plain));
            prop_assert_eq!(empty, plainly);
            if let Some(empty) = empty {
                prop_assert_eq!(fast, plain);
                for (i, text) in texts.iter().enumerate() {
                    prop_assert_eq!(fast[i], view_of(text.as_bytes(), 0, 0));
                    prop_assert_eq!(empty >> i & 1 == 1, text.is_empty());
                }
            }
        }

        #[test]
        fn parts_read_back(text in "[a-zä€😀,]{0,80}", cuts in prop::collection::vec((0usize..200, 0usize..60), 1..20)) {
            let block = {
                let mut bytes = vec![b';'; 3];
                bytes.extend_from_slice(text.as_bytes());
                TextBlock::new(bytes, 3..3 + text.len(), &Pool::default())
            };
            let mut builder = ViewBuilder::new(&block, cuts.len());
            let parts = || cuts.iter().map(|(start, length)| (*start, (start + length).min(text.len())))
                .filter(|(start, end)| text.get(*start..*end).is_some());
            parts().for_each(|(start, end)| builder.push_part(start, end));
            builder.push_text(&text);
            let column = builder.finish(None).map_err(|at| TestCaseError::fail(at.to_string()))?;
            for (row, (start, end)) in parts().enumerate() {
                prop_assert_eq!(Some(column.value(row)), text.get(start..end));
            }
            prop_assert_eq!(column.value(parts().count()), text.as_str());
        }
    }

    #[test]
    fn bad_bytes_are_told_where_they_are_read() {
        let block = TextBlock::new(b"ab,\xff,c".to_vec(), 0..6, &Pool::default());
        let read = |start, end| {
            let mut builder = ViewBuilder::new(&block, 1);
            builder.push_part(start, end);
            builder.finish(None).map(|c| c.value(0).to_owned())
        };
        assert_eq!(read(0, 2), Ok("ab".to_owned()));
        assert_eq!(read(3, 4), Err(3));
    }

    #[test]
    fn half_a_character_is_no_text() {
        let block = TextBlock::new("aä".into(), 0..3, &Pool::default());
        let mut builder = ViewBuilder::new(&block, 1);
        builder.push_part(0, 2);
        assert_eq!(builder.finish(None).err(), Some(1));
    }

    #[test]
    fn a_few_kept_rows_do_not_hold_a_block() {
        let text = "a text of more than twelve bytes;".repeat(1000);
        let block = TextBlock::new(text.into_bytes(), 0..33_000, &Pool::default());
        let mut builder = ViewBuilder::new(&block, 1);
        builder.push_part(0, 33);
        let small = builder.finish(None).ok().and_then(|column| compact(&column));
        assert_eq!(small.map(|c| c.get_buffer_memory_size() < 200), Some(true));
    }
}
