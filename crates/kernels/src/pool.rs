//! Blocks of bytes that are used again and again, also while columns point into some of them.

use std::sync::{Arc, Mutex, PoisonError};

use arrow_buffer::Buffer;

/// Blocks that wait to be used again, at most: as many as few workers have in hand while they gather rows.
const MOST: usize = 96;

/// Bytes of a block behind what is read into it: for a line end that is missing, and for words to be loaded behind the last cell.
const ROOM: usize = 64;

/// Makes a block long enough for so many bytes to be read into it, and some room behind them. What it was longer before stays, so that
/// it need not be cleared again.
pub fn make_room(block: &mut Vec<u8>, length: usize) {
    if block.len() <= length {
        block.resize(length + ROOM, 0);
    }
}

/// Blocks that wait to be used again.
#[derive(Clone, Debug, Default)]
pub struct Pool(Arc<Mutex<Vec<Vec<u8>>>>);

impl Pool {
    /// A block, with whatever it was last used for in it; a new one if none waits.
    pub fn take(&self) -> Vec<u8> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).pop().unwrap_or_default()
    }

    fn give(&self, block: Vec<u8>) {
        let mut blocks = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if blocks.len() < MOST && block.capacity() > 0 {
            blocks.push(block);
        }
    }

    /// Makes a buffer of a block: when nothing points into it any more, the block comes back.
    pub fn lend(&self, block: Vec<u8>) -> Buffer {
        let lent = Arc::new(Lent { block, pool: self.clone() });
        let start = std::ptr::NonNull::from(lent.block.as_slice()).cast();
        // SAFETY: the bytes are those of the vector, which nothing changes or frees before the buffer lets go of it.
        unsafe { Buffer::from_custom_allocation(start, lent.block.len(), lent) }
    }
}

/// A block that a buffer has.
struct Lent {
    block: Vec<u8>,
    pool: Pool,
}

impl Drop for Lent {
    fn drop(&mut self) {
        self.pool.give(std::mem::take(&mut self.block));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_block_comes_back_when_nothing_points_into_it() {
        let pool = Pool::default();
        let buffer = pool.lend(b"F001,120.5".to_vec());
        let part = buffer.slice(5);
        drop(buffer);
        assert_eq!(pool.take(), b"");
        assert_eq!(part.as_slice(), b"120.5");
        drop(part);
        assert_eq!(pool.take(), b"F001,120.5");
    }
}
