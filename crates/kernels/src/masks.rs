//! Sixty-four bytes at a time: which of them are a separator, a line end, a quote.
//!
//! AVX-512 or AVX2 where the processor has it, asked at run time; else a portable form that works on eight bytes
//! in a machine word. All give one bit a byte, lowest bit first.

use std::sync::LazyLock;

/// The three bytes looked for in one pass.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Needles {
    pub(crate) separator: u8,
    pub(crate) line_end: u8,
    pub(crate) quote: u8,
}

/// One bit a byte for each of the three needles.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Masks {
    pub(crate) separator: u64,
    pub(crate) line_end: u64,
    pub(crate) quote: u64,
}

/// The way masks are made on this processor.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Way {
    #[cfg(target_arch = "x86_64")]
    Avx512(Avx512),
    #[cfg(target_arch = "x86_64")]
    Avx2(Avx2),
    Portable,
}

/// A proof that the processor has AVX-512 (F, BW, CD, DQ, VL), BMI1, BMI2 and POPCNT: only `Way::detect` makes one.
#[cfg(target_arch = "x86_64")]
#[derive(Clone, Copy, Debug)]
pub(crate) struct Avx512(());

/// A proof that the processor has AVX2, BMI1, BMI2 and POPCNT: only `Way::detect` makes one.
#[cfg(target_arch = "x86_64")]
#[derive(Clone, Copy, Debug)]
pub(crate) struct Avx2(());

impl Way {
    /// The fastest way that this processor has, looked for once.
    #[inline]
    pub(crate) fn choose() -> Way {
        static WAY: LazyLock<Way> = LazyLock::new(Way::detect);
        *WAY
    }

    fn detect() -> Way {
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("bmi1")
            && std::arch::is_x86_feature_detected!("bmi2")
            && std::arch::is_x86_feature_detected!("popcnt")
        {
            if std::arch::is_x86_feature_detected!("avx512bw")
                && std::arch::is_x86_feature_detected!("avx512cd")
                && std::arch::is_x86_feature_detected!("avx512dq")
                && std::arch::is_x86_feature_detected!("avx512vl")
            {
                return Way::Avx512(Avx512(()));
            }
            if std::arch::is_x86_feature_detected!("avx2") {
                return Way::Avx2(Avx2(()));
            }
        }
        Way::Portable
    }

    /// Runs a loop as it is compiled for this processor's vectors: `work` and what it calls are to be `#[inline(always)]`, since
    /// what is not inlined is compiled for the least processor.
    #[inline]
    pub(crate) fn run<R>(work: impl FnOnce() -> R) -> R {
        match Way::choose() {
            // SAFETY: `detect` gives this way only where the processor has AVX-512 with these parts.
            #[cfg(target_arch = "x86_64")]
            Way::Avx512(_) => unsafe { run_avx512(work) },
            // SAFETY: `detect` gives this way only where the processor has AVX2.
            #[cfg(target_arch = "x86_64")]
            Way::Avx2(_) => unsafe { run_avx2(work) },
            Way::Portable => work(),
        }
    }
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx512bw,avx512cd,avx512dq,avx512vl,bmi1,bmi2,popcnt")]
fn run_avx512<R>(work: impl FnOnce() -> R) -> R {
    work()
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2,bmi1,bmi2,popcnt")]
fn run_avx2<R>(work: impl FnOnce() -> R) -> R {
    work()
}

#[cfg(target_arch = "x86_64")]
impl Avx512 {
    /// Masks of one chunk.
    #[inline]
    #[target_feature(enable = "avx512bw")]
    pub(crate) fn masks(self, chunk: &[u8; 64], needles: Needles) -> Masks {
        use std::arch::x86_64::{_mm512_cmpeq_epi8_mask, _mm512_loadu_si512, _mm512_set1_epi8};
        // SAFETY: the load is the 64 bytes of `chunk`; `loadu` needs no alignment.
        let all = unsafe { _mm512_loadu_si512(chunk.as_ptr().cast()) };
        let find = |needle: u8| _mm512_cmpeq_epi8_mask(all, _mm512_set1_epi8(needle.cast_signed()));
        Masks {
            separator: find(needles.separator),
            line_end: find(needles.line_end),
            quote: find(needles.quote),
        }
    }
}

#[cfg(target_arch = "x86_64")]
impl Avx2 {
    /// What has AVX-512 has AVX2, too: for tests of this way on such a processor.
    #[cfg(test)]
    pub(crate) fn assumed() -> Avx2 {
        Avx2(())
    }

    /// Masks of one chunk.
    #[inline]
    #[target_feature(enable = "avx2")]
    pub(crate) fn masks(self, chunk: &[u8; 64], needles: Needles) -> Masks {
        use std::arch::x86_64::{
            __m256i, _mm256_cmpeq_epi8, _mm256_loadu_si256, _mm256_movemask_epi8, _mm256_set1_epi8,
        };
        // SAFETY: both loads lie within the 64 bytes of `chunk`; `loadu` needs no alignment.
        let (low, high) = unsafe {
            let start = chunk.as_ptr().cast::<__m256i>();
            (_mm256_loadu_si256(start), _mm256_loadu_si256(start.add(1)))
        };
        let find = |needle: u8| {
            let wanted = _mm256_set1_epi8(needle.cast_signed());
            let low = _mm256_movemask_epi8(_mm256_cmpeq_epi8(low, wanted)).cast_unsigned();
            let high = _mm256_movemask_epi8(_mm256_cmpeq_epi8(high, wanted)).cast_unsigned();
            u64::from(low) | u64::from(high) << 32
        };
        Masks {
            separator: find(needles.separator),
            line_end: find(needles.line_end),
            quote: find(needles.quote),
        }
    }
}

/// Masks of one chunk, eight bytes a step.
pub(crate) fn portable(chunk: &[u8; 64], needles: Needles) -> Masks {
    let find = |needle: u8| {
        let mut mask = 0u64;
        for (i, eight) in chunk.as_chunks::<8>().0.iter().enumerate() {
            mask |= equal_bytes(u64::from_le_bytes(*eight), needle) << (8 * i);
        }
        mask
    };
    Masks { separator: find(needles.separator), line_end: find(needles.line_end), quote: find(needles.quote) }
}

/// One bit for each of the eight bytes of `word` that equals `needle`.
fn equal_bytes(word: u64, needle: u8) -> u64 {
    const LOW: u64 = 0x0101_0101_0101_0101;
    const SEVEN: u64 = 0x7f7f_7f7f_7f7f_7f7f;
    let differs = word ^ (LOW * u64::from(needle));
    // The high bit of each byte is set where the byte is zero; exact, unlike the shorter form that borrows.
    let zero = !(((differs & SEVEN) + SEVEN) | differs | SEVEN);
    (zero >> 7).wrapping_mul(0x0102_0408_1020_4080) >> 56
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const NEEDLES: Needles = Needles { separator: b',', line_end: b'\n', quote: b'"' };

    fn naive(chunk: &[u8; 64], needles: Needles) -> Masks {
        let find = |n: u8| chunk.iter().enumerate().fold(0, |m, (i, b)| m | u64::from(*b == n) << i);
        Masks {
            separator: find(needles.separator),
            line_end: find(needles.line_end),
            quote: find(needles.quote),
        }
    }

    proptest! {
        #[test]
        fn every_way_gives_the_same_masks(bytes in prop::collection::vec(prop_oneof![
            Just(b','), Just(b'\n'), Just(b'"'), any::<u8>()], 64)) {
            let chunk: [u8; 64] = bytes.try_into().unwrap_or([0; 64]);
            let expected = naive(&chunk, NEEDLES);
            prop_assert_eq!(portable(&chunk, NEEDLES), expected);
            #[cfg(target_arch = "x86_64")]
            if std::arch::is_x86_feature_detected!("avx2") {
                // SAFETY: the processor has it.
                prop_assert_eq!(unsafe { Avx2(()).masks(&chunk, NEEDLES) }, expected);
            }
            #[cfg(target_arch = "x86_64")]
            if std::arch::is_x86_feature_detected!("avx512bw") {
                // SAFETY: the processor has it.
                prop_assert_eq!(unsafe { Avx512(()).masks(&chunk, NEEDLES) }, expected);
            }
        }
    }
}
