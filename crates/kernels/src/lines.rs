//! Rows as lines of text: pointed to where they stand, then copied to the places that a sort gives them.

use std::sync::Arc;

use crate::known::known_part;
use arrow_array::{Array, BinaryViewArray, LargeBinaryArray};
use arrow_buffer::{Buffer, OffsetBuffer, ScalarBuffer};
use arrow_data::ByteView;

use crate::prefetch::AHEAD;
use crate::views::view_of;
use crate::{memory, prefetch};

/// Bytes that a view holds itself.
const SHORT: u32 = 12;

/// Lines that stand somewhere, and in the places of null among them lines of one's own, which end in `text` at `ends`;
/// all of them one's own where none stand.
///
/// # Panics
/// The ends of one's own lines are not in order within the text.
pub fn with_own(standing: Option<&BinaryViewArray>, text: Vec<u8>, ends: &[usize]) -> BinaryViewArray {
    let mut buffers = standing.map_or(Vec::new(), |lines| lines.data_buffers().to_vec());
    let buffer = buffers.len() as u32;
    let mut start = 0;
    let mut own = ends.iter().map(|end| {
        let from = std::mem::replace(&mut start, *end);
        view_of(&text[from..*end], buffer, from)
    });
    let views: Vec<u128> = match standing {
        None => own.collect(),
        Some(lines) => {
            let line = |(row, view): (usize, &u128)| {
                if lines.is_valid(row) { *view } else { own.next().unwrap_or(0) }
            };
            lines.views().iter().enumerate().map(line).collect()
        }
    };
    buffers.push(Buffer::from_vec(text));
    // SAFETY: views of valid rows are those of a valid array with the same buffers in front; the others are of the
    // last buffer, made of the very bytes that they name, or zero, the view of no bytes.
    unsafe { BinaryViewArray::new_unchecked(ScalarBuffer::from(views), Arc::from(buffers), None) }
}

/// The lines of some parts, none of them null, each with its end, partitioned to ranges: `ranges` has one of the `count` for
/// each line; those of one range come in the order they have.
///
/// The lines are read from the first to the last, and written at the ends of ranges, which are near if they are few.
pub fn partitioned(parts: &[&BinaryViewArray], ranges: &[u32], count: usize) -> LargeBinaryArray {
    let views = || parts.iter().flat_map(|part| part.views().iter().map(move |view| (*part, view)));
    let mut next = vec![NextLine::default(); count + 1];
    for ((_, view), range) in views().zip(ranges) {
        if let Some(next) = next.get_mut(*range as usize + 1) {
            next.line += 1;
            next.byte += *view as u32 as usize + 1;
        }
    }
    let (mut line, mut byte) = (0, 0);
    for next in &mut next {
        (line, byte) = (line + next.line, byte + next.byte);
        *next = NextLine { line, byte };
    }
    let (mut text, mut ends) = (memory::zeroed(byte), vec![0i64; line + 1]);
    let mut rest = ranges;
    for part in parts {
        let (own, later) = rest.split_at(part.len().min(rest.len()));
        rest = later;
        for (row, (view, range)) in part.views().iter().zip(own).enumerate() {
            if let Some((view, range)) = part.views().get(row + AHEAD).zip(own.get(row + AHEAD)) {
                near(part, *view);
                let byte = next.get(*range as usize).map_or(0, |next| next.byte);
                prefetch::near(&text, byte);
                prefetch::near(&text, byte + *view as u32 as usize);
            }
            let Some(next) = next.get_mut(*range as usize).filter(|_| (*range as usize) < count) else {
                continue;
            };
            let inline = view.to_le_bytes();
            let line = line_of(part, view, &inline);
            let Some(into) = text.get_mut(next.byte..) else { continue };
            copy(line, into);
            if let Some(end) = into.get_mut(line.len()) {
                *end = b'\n';
            }
            next.line += 1;
            next.byte += *view as u32 as usize + 1;
            if let Some(end) = ends.get_mut(next.line) {
                *end = next.byte as i64;
            }
        }
    }
    LargeBinaryArray::new(OffsetBuffer::new(ends.into()), Buffer::from_vec(text), None)
}

/// Starts to bring a line near.
#[inline(always)]
fn near(part: &BinaryViewArray, view: u128) {
    let ByteView { length, buffer_index, offset, .. } = ByteView::from(view);
    if let Some(buffer) = part.data_buffers().get(buffer_index as usize).filter(|_| length > SHORT) {
        let last = offset as usize + length as usize - 1;
        prefetch::near(buffer.as_slice(), offset as usize);
        prefetch::near(buffer.as_slice(), last);
    }
}

/// Where the next line of a range goes.
#[derive(Clone, Copy, Default)]
struct NextLine {
    line: usize,
    byte: usize,
}

/// The bytes of a view, of which `inline` are its own.
#[inline(always)]
fn line_of<'a>(part: &'a BinaryViewArray, view: &u128, inline: &'a [u8; 16]) -> &'a [u8] {
    let ByteView { length, buffer_index, offset, .. } = ByteView::from(*view);
    if length <= SHORT {
        return known_part(inline, 4..4 + length as usize);
    }
    let buffer = part.data_buffers().get(buffer_index as usize).map_or(&[][..], Buffer::as_slice);
    known_part(buffer, offset as usize..offset as usize + length as usize)
}

/// Copies a line to the front of `into`; for usual lengths two copies of a fixed size that overlap.
#[inline(always)]
fn copy(line: &[u8], into: &mut [u8]) {
    const HALF: usize = 32;
    let Some(into) = into.get_mut(..line.len()) else { return };
    if let (HALF..=64, Some(first), Some(last)) =
        (line.len(), line.first_chunk::<HALF>(), line.last_chunk::<HALF>())
    {
        if let Some(front) = into.first_chunk_mut::<HALF>() {
            *front = *first;
        }
        if let Some(back) = into.last_chunk_mut::<HALF>() {
            *back = *last;
        }
    } else {
        into.copy_from_slice(line);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn lines_come_to_their_places(
            lines in prop::collection::vec(("[a-z,]{0,80}", any::<bool>(), 0u32..9), 0..60),
            cut in 0usize..60,
        ) {
            // Some stand in a block, the others are one's own.
            let standing: BinaryViewArray =
                lines.iter().map(|(line, stands, _)| stands.then_some(line.as_bytes())).collect();
            let (mut text, mut ends) = (Vec::new(), Vec::new());
            for (line, ..) in lines.iter().filter(|(_, stands, _)| !stands) {
                text.extend_from_slice(line.as_bytes());
                ends.push(text.len());
            }
            let all = with_own(Some(&standing), text, &ends);
            prop_assert!(all.iter().zip(&lines).all(|(found, (line, ..))| found == Some(line.as_bytes())));
            let ranges: Vec<u32> = lines.iter().map(|(_, _, range)| *range).collect();
            let mut order: Vec<usize> = (0..lines.len()).collect();
            order.sort_by_key(|row| ranges[*row]);
            let cut = cut.min(lines.len());
            let parts = [all.slice(0, cut), all.slice(cut, lines.len() - cut)];
            let placed = partitioned(&parts.iter().collect::<Vec<_>>(), &ranges, 9);
            let expected: Vec<Vec<u8>> = order.iter().map(|row| format!("{}\n", lines[*row].0).into_bytes()).collect();
            prop_assert!(placed.iter().flatten().eq(expected.iter().map(Vec::as_slice)));
        }
    }

    #[test]
    fn all_may_be_ones_own() {
        let lines = with_own(None, b"abc".to_vec(), &[1, 1, 3]);
        assert!(lines.iter().flatten().eq([&b"a"[..], b"", b"bc"]));
    }
}
