//! Cells of a column, 64 at a time: what loops over them without a branch have in common.

/// Cells that are read together.
pub(crate) const CHUNK: usize = 64;

/// Cells of a column: where each starts in a block, and how long it is. They may be any: what lies outside the block
/// is told as not of the form asked for.
#[derive(Clone, Copy)]
pub(crate) struct Chunk<'a> {
    pub(crate) bytes: &'a [u8],
    pub(crate) starts: &'a [u32; CHUNK],
    pub(crate) lengths: &'a [u32; CHUNK],
}

impl Chunk<'_> {
    /// The first eight bytes of each cell, lowest first, and what stands behind it if it is shorter; those behind the
    /// block's end are zero.
    #[inline(always)]
    pub(crate) fn words(&self) -> [u64; CHUNK] {
        let mut words = [0; CHUNK];
        words
            .iter_mut()
            .zip(self.starts)
            .for_each(|(word, start)| *word = eight(self.bytes, *start as usize));
        words
    }
}

/// Eight bytes of the block from `at`, lowest first; those behind its end are zero.
#[inline(always)]
pub(crate) fn eight(bytes: &[u8], at: usize) -> u64 {
    match bytes.get(at..).and_then(|b| b.first_chunk::<8>()) {
        Some(word) => u64::from_le_bytes(*word),
        None => near_the_end(bytes, at),
    }
}

#[cold]
fn near_the_end(bytes: &[u8], at: usize) -> u64 {
    let mut word = [0; 8];
    let rest = bytes.get(at..).unwrap_or_default();
    word.iter_mut().zip(rest).for_each(|(to, from)| *to = *from);
    u64::from_le_bytes(word)
}

/// Eight cells at once.
#[cfg(target_arch = "x86_64")]
pub(crate) mod avx512 {
    #[allow(clippy::wildcard_imports)]
    use std::arch::x86_64::*;

    use super::{CHUNK, Chunk};

    /// Whether so many bytes of the block follow the start of each cell.
    #[inline]
    #[target_feature(enable = "avx512f")]
    pub(crate) fn all_have(cells: Chunk<'_>, length: usize) -> bool {
        let mut last = _mm512_setzero_si512();
        for i in (0..CHUNK).step_by(16) {
            // SAFETY: sixteen numbers stand behind `i`, which is a multiple of sixteen below 64.
            last = _mm512_max_epu32(last, unsafe { _mm512_loadu_si512(cells.starts.as_ptr().add(i).cast()) });
        }
        let last = _mm512_reduce_max_epu32(last) as usize;
        last + length <= cells.bytes.len()
    }

    /// Eight words, loaded one by one: an instruction that gathers takes three times as long.
    ///
    /// # Safety
    /// Eight bytes can be read from each of the eight places.
    #[inline]
    #[target_feature(enable = "avx512f")]
    pub(crate) unsafe fn eight_words(at: impl Fn(usize) -> *const u8) -> __m512i {
        // SAFETY: as the caller promises.
        unsafe {
            let two = |i: usize| {
                let low = _mm_castsi128_pd(_mm_loadl_epi64(at(i).cast()));
                _mm_castpd_si128(_mm_loadh_pd(low, at(i + 1).cast()))
            };
            let four = |i: usize| _mm256_inserti128_si256::<1>(_mm256_castsi128_si256(two(i)), two(i + 2));
            _mm512_inserti64x4::<1>(_mm512_castsi256_si512(four(0)), four(4))
        }
    }

    /// The first eight bytes of eight cells, from the `i`th on.
    ///
    /// # Safety
    /// `i` is at most 56, and eight bytes follow the start of each cell.
    #[inline]
    #[target_feature(enable = "avx512f")]
    pub(crate) unsafe fn words(cells: Chunk<'_>, i: usize) -> __m512i {
        // SAFETY: as the caller promises.
        unsafe {
            eight_words(|lane| cells.bytes.as_ptr().add(*cells.starts.get_unchecked(i + lane) as usize))
        }
    }

    /// The first sixteen bytes of four cells, two apart from each other, from the `i`th on.
    ///
    /// # Safety
    /// `i` is at most 57, and sixteen bytes follow the start of each cell.
    #[inline]
    #[target_feature(enable = "avx512f")]
    pub(crate) unsafe fn every_other(cells: Chunk<'_>, i: usize) -> __m512i {
        // SAFETY: as the caller promises.
        let one = |i: usize| unsafe {
            _mm_loadu_si128(cells.bytes.as_ptr().add(*cells.starts.get_unchecked(i) as usize).cast())
        };
        let two = |i: usize| _mm256_inserti128_si256::<1>(_mm256_castsi128_si256(one(i)), one(i + 2));
        _mm512_inserti64x4::<1>(_mm512_castsi256_si512(two(i)), two(i + 4))
    }

    /// The lengths of eight cells, from the `i`th on.
    #[inline]
    #[target_feature(enable = "avx512f")]
    pub(crate) fn lengths(cells: Chunk<'_>, i: usize) -> __m256i {
        let Some(lengths) = cells.lengths.get(i..).and_then(|l| l.first_chunk::<8>()) else {
            return _mm256_setzero_si256();
        };
        // SAFETY: eight numbers are loaded from an array of eight.
        unsafe { _mm256_loadu_si256(lengths.as_ptr().cast()) }
    }

    /// A bit for each cell with one of these bytes.
    #[inline]
    #[target_feature(enable = "avx512f,avx512bw")]
    pub(crate) fn cells_with(bytes: __mmask64) -> __mmask8 {
        let all = _mm512_movm_epi8(bytes);
        _mm512_test_epi64_mask(all, all)
    }
}

/// Texts as they stand in a block, one behind the other, for tests: the block, and where they start and their lengths.
#[cfg(test)]
pub(crate) fn in_a_row(texts: &[String]) -> (Vec<u8>, [u32; CHUNK], [u32; CHUNK]) {
    let (mut bytes, mut starts, mut lengths) = (Vec::new(), [0; CHUNK], [0; CHUNK]);
    for ((text, start), length) in texts.iter().zip(&mut starts).zip(&mut lengths) {
        (*start, *length) = (bytes.len() as u32, text.len() as u32);
        bytes.extend_from_slice(text.as_bytes());
        bytes.push(b',');
    }
    (bytes, starts, lengths)
}
