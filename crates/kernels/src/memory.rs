//! How the process gets memory, and gives it back.

use std::sync::atomic::{AtomicUsize, Ordering};

/// Blocks of this size and more go back to the system as soon as they are free.
#[cfg(all(target_os = "linux", target_env = "gnu"))]
const LARGE: i32 = 4 << 20;

/// Free memory at the end of what is kept for a thread that does not go back to the system.
#[cfg(all(target_os = "linux", target_env = "gnu"))]
const KEPT: i32 = 16 << 20;

/// Lets large blocks go back to the system as soon as they are free, and keeps a little for small ones.
///
/// The allocator of this system learns from the blocks that it sees to keep ever larger ones, for every thread its
/// own: after a few rounds of filling and emptying tables, twice as much is resident as is in use. For a program to
/// call when it starts, since it is the whole process that changes.
pub fn give_back_large_blocks() {
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    // SAFETY: sets numbers that the allocator reads; any are allowed.
    unsafe {
        libc::mallopt(libc::M_MMAP_THRESHOLD, LARGE);
        libc::mallopt(libc::M_TRIM_THRESHOLD, KEPT);
    }
}

/// Gives what is free back to the system, as far as it is whole pages.
///
/// Takes milliseconds: for after much was freed that will not be needed again soon.
pub fn give_back() {
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    // SAFETY: may be called at any time; nothing that is in use changes.
    unsafe {
        libc::malloc_trim(0);
    }
}

/// Bytes that pass between two times that free memory is given back.
const PASSING: usize = 32 << 20;

/// Counts bytes that pass through memory on their way to and from disk, and now and then gives back what is free.
///
/// Each thread's share of the allocator keeps the holes that short-lived tables leave: three million groups with text
/// keys within 32 MB took 276 MB on two threads, of which half were holes.
pub fn passed(bytes: usize) {
    static PASSED: AtomicUsize = AtomicUsize::new(0);
    let before = PASSED.fetch_add(bytes, Ordering::Relaxed);
    if before / PASSING != (before.wrapping_add(bytes)) / PASSING {
        give_back();
    }
}

/// Bytes from which on memory is asked for in large pages.
const PAGES: usize = 4 << 20;

/// Room for so many bytes, that will be filled from the first to the last. Of much, the system may make large pages:
/// to get small ones one by one takes longer than to fill them.
pub fn with_room(bytes: usize) -> Vec<u8> {
    let room = Vec::with_capacity(bytes);
    in_large_pages(&room);
    room
}

/// So many zeros, backed as [`with_room`] is: much of them is not there before it is written to.
pub fn zeroed(bytes: usize) -> Vec<u8> {
    let zeros = vec![0; bytes];
    in_large_pages(&zeros);
    zeros
}

/// Asks for large pages behind a vector.
fn in_large_pages(room: &Vec<u8>) {
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    if room.capacity() >= PAGES {
        const PAGE: usize = 1 << 12;
        let start = (room.as_ptr() as usize).next_multiple_of(PAGE);
        let length = (room.as_ptr() as usize + room.capacity() - start) & !(PAGE - 1);
        // SAFETY: whole pages within memory that is ours; how it is backed changes nothing that can be seen.
        unsafe {
            libc::madvise(start as *mut libc::c_void, length, libc::MADV_HUGEPAGE);
        }
    }
    #[cfg(not(all(target_os = "linux", target_env = "gnu")))]
    let _ = room;
}
