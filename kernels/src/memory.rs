//! How the process gives memory back.

/// Blocks of this size and more go back to the system as soon as they are free.
#[cfg(all(target_os = "linux", target_env = "gnu"))]
const LARGE: i32 = 4 << 20;

/// Lets large blocks go back to the system as soon as they are free.
///
/// The allocator of this system learns from the blocks that it sees to keep ever larger ones, for every thread its
/// own: after a few rounds of filling and emptying tables, twice as much is resident as is in use. For a program to
/// call when it starts, since it is the whole process that changes.
pub fn give_back_large_blocks() {
    #[cfg(all(target_os = "linux", target_env = "gnu"))]
    // SAFETY: sets a number that the allocator reads; any is allowed.
    unsafe {
        libc::mallopt(libc::M_MMAP_THRESHOLD, LARGE);
    }
}
