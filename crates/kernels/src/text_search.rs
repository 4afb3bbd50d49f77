//! A text that is looked for within the texts of a column.
//!
//! Texts of a column that was read from a file lie one behind the other in its block, with other cells between them. The
//! block is searched from text to text, not each text on its own: the search runs over many bytes at a time, and where it
//! finds nothing before the end of a text there is nothing to set up for the next one.

use arrow_array::{Array, StringViewArray};
use arrow_buffer::{BooleanBuffer, BooleanBufferBuilder};
use memchr::memmem::Finder;

use crate::known::known_part;

/// The longest text that stands in its view.
const INLINE: usize = 12;

/// Bytes that are searched ahead of a text at most: what lies behind the last text is not wanted.
const AHEAD: usize = 1 << 14;

/// A text to look for.
#[derive(Clone, Debug)]
pub struct TextSearch {
    finder: Finder<'static>,
    /// Its bytes and their mask, if it can be within a text that stands in its view.
    inline: Option<(u128, u128)>,
}

/// How far a buffer was searched: no match starts from `from` to before `to`, and one starts there if `is_match`.
#[derive(Clone, Copy, Default)]
struct Searched {
    from: usize,
    to: usize,
    is_match: bool,
    /// Whether the texts before came one close behind the other.
    is_in_order: bool,
}

impl TextSearch {
    /// Makes ready to look for a text; every text has the empty one.
    pub fn new(wanted: &str) -> TextSearch {
        let mut padded = [0; 16];
        let inline = (wanted.len() <= INLINE).then(|| {
            padded[..wanted.len()].copy_from_slice(wanted.as_bytes());
            (u128::from_le_bytes(padded), (1 << (8 * wanted.len())) - 1)
        });
        TextSearch { finder: Finder::new(wanted.as_bytes()).into_owned(), inline }
    }

    /// Whether a text has it.
    pub fn is_in(&self, text: &str) -> bool {
        self.finder.find(text.as_bytes()).is_some()
    }

    /// A bit for each row whose text has it; of a null row it means nothing.
    pub fn rows(&self, texts: &StringViewArray) -> BooleanBuffer {
        let buffers = texts.data_buffers();
        let mut searched = vec![Searched::default(); buffers.len()];
        let mut found = BooleanBufferBuilder::new(texts.len());
        for view in texts.views() {
            let length = *view as u32 as usize;
            found.append(if length <= INLINE {
                self.is_inline(*view >> 32, length)
            } else {
                let (buffer, start) = ((*view >> 64) as u32 as usize, (*view >> 96) as usize);
                match (buffers.get(buffer), searched.get_mut(buffer)) {
                    (Some(bytes), Some(searched)) => self.is_at(bytes, start, start + length, searched),
                    _ => false,
                }
            });
        }
        found.finish()
    }

    /// Whether it is within the bytes of a view.
    #[inline]
    fn is_inline(&self, mut text: u128, length: usize) -> bool {
        let Some((wanted, mask)) = self.inline else { return false };
        let Some(places) = (length + 1).checked_sub(self.finder.needle().len()) else { return false };
        for _ in 0..places {
            if text & mask == wanted {
                return true;
            }
            text >>= 8;
        }
        false
    }

    /// Whether it is within the bytes from `start` to before `end`.
    #[inline]
    fn is_at(&self, bytes: &[u8], start: usize, end: usize, searched: &mut Searched) -> bool {
        let Some(last) = end.checked_sub(self.finder.needle().len()).filter(|last| *last >= start) else {
            return false;
        };
        if !(searched.from..=searched.to).contains(&start) {
            let is_in_order = start > searched.to && start - searched.to < AHEAD;
            *searched = Searched { from: start, to: start, is_match: false, is_in_order };
        }
        if searched.to <= last && !searched.is_match {
            self.search(bytes, end, searched);
        }
        searched.is_match && searched.to <= last
    }

    /// Searches on, at least to the `end` of a text.
    #[inline(never)]
    fn search(&self, bytes: &[u8], end: usize, searched: &mut Searched) {
        let ahead = if searched.is_in_order { end.max((searched.to + AHEAD).min(bytes.len())) } else { end };
        match self.finder.find(known_part(bytes, searched.to..ahead)) {
            Some(place) => (searched.to, searched.is_match) = (searched.to + place, true),
            // A match may begin within what was searched, and end behind it.
            None => searched.to = (ahead + 1 - self.finder.needle().len()).max(searched.to),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Rows in the order of their bytes and in any other, texts short and long, as they lie in one buffer.
        #[test]
        fn rows_are_those_of_a_plain_search(
            texts in prop::collection::vec(prop::option::of("[ab]{0,30}"), 0..60),
            wanted in "[ab]{0,15}",
            order in prop::collection::vec(any::<prop::sample::Index>(), 0..60),
        ) {
            let column: StringViewArray = texts.iter().map(Option::as_deref).collect();
            let search = TextSearch::new(&wanted);
            let check = |column: &StringViewArray| {
                let found = search.rows(column);
                column.iter().enumerate().all(|(row, text)| {
                    text.is_none_or(|text| found.value(row) == text.contains(&wanted) && search.is_in(text) == found.value(row))
                })
            };
            prop_assert!(check(&column));
            if !texts.is_empty() {
                let views: Vec<u128> = order.iter().map(|place| *place.get(column.views())).collect();
                let moved = StringViewArray::try_new(views.into(), column.data_buffers().clone(), None);
                let Ok(moved) = moved else { panic!("views of the column") };
                prop_assert!(check(&moved));
                prop_assert!(check(&moved.slice(moved.len() / 2, moved.len() - moved.len() / 2)));
            }
        }
    }

    #[test]
    fn a_match_across_two_texts_is_in_neither() {
        let block: arrow_buffer::Buffer = b"milk of gate 12 is cold milk of gate 13".as_slice().into();
        let view = |from: usize, to: usize| {
            let prefix = u128::from(u32::from_le_bytes(block[from..from + 4].try_into().unwrap_or_default()));
            (to - from) as u128 | prefix << 32 | (from as u128) << 96
        };
        let views = vec![view(0, 15), view(16, 39), view(2, 16), view(9, 24)];
        let Ok(texts) = StringViewArray::try_new(views.into(), vec![block.clone()], None) else {
            panic!("views")
        };
        let rows = |wanted: &str| TextSearch::new(wanted).rows(&texts).iter().collect::<Vec<_>>();
        assert_eq!(rows("12 is"), [false, false, false, true]);
        assert_eq!(rows("gate 1"), [true, true, true, false]);
        assert_eq!(rows("milk of gate 13"), [false, true, false, false]);
        assert_eq!(rows(""), [true; 4]);
    }
}
