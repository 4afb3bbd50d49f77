//! Memory brought near before it is needed, for loops that look at places in no order.
//!
//! A look at a table that does not fit in the nearest cache takes as long as dozens of other instructions. Where
//! the places are known ahead, the looks overlap.

/// How many places ahead is enough for a loop of a few dozen instructions.
pub const AHEAD: usize = 16;

/// Bytes that come together.
const LINE: usize = 64;

/// Starts to bring an element of a slice near; of no effect on what the program does.
#[inline(always)]
pub fn near<T>(slice: &[T], at: usize) {
    #[cfg(target_arch = "x86_64")]
    // SAFETY: a prefetch may be given any address and never fails; the pointer is not read through.
    unsafe {
        use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
        _mm_prefetch::<_MM_HINT_T0>(slice.as_ptr().wrapping_add(at).cast());
    }
    #[cfg(not(target_arch = "x86_64"))]
    let _ = (slice, at);
}

/// As [`near`], all elements of a range.
#[inline(always)]
pub fn range<T>(slice: &[T], elements: std::ops::Range<usize>) {
    let bytes = std::mem::size_of::<T>().max(1);
    elements.step_by((LINE / bytes).max(1)).for_each(|at| near(slice, at));
}
