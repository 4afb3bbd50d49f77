//! Bytes that a thread of their own reads ahead, so that whoever waits for them can stop waiting.

use std::io::{Read, Result};
use std::sync::mpsc::{Receiver, sync_channel};

use super::aside;

/// Bytes that are read at once, and how often so many wait.
const PIECE: usize = 1 << 18;
const AHEAD: usize = 4;

/// What a thread reads ahead.
pub(crate) struct Pump {
    pieces: Receiver<Result<Vec<u8>>>,
    piece: Vec<u8>,
    at: usize,
}

impl Pump {
    /// Starts reading. The thread ends with the bytes, with an error, or when nobody takes them any more.
    pub(crate) fn start(mut from: impl Read + Send + 'static) -> Result<Pump> {
        let (send, pieces) = sync_channel(AHEAD);
        aside::start(move || {
            loop {
                let mut piece = Vec::with_capacity(PIECE);
                let read = (&mut from).take(PIECE as u64).read_to_end(&mut piece).map(|_| ());
                // What came before an error goes before it.
                let is_last = piece.is_empty() || read.is_err();
                let is_taken = piece.is_empty() || send.send(Ok(piece)).is_ok();
                if let Err(error) = read {
                    let _ = send.send(Err(error));
                }
                if is_last || !is_taken {
                    return;
                }
            }
        })?;
        Ok(Pump { pieces, piece: Vec::new(), at: 0 })
    }
}

impl Read for Pump {
    fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        while self.at == self.piece.len() {
            match aside::next(&self.pieces)? {
                Some(piece) => (self.piece, self.at) = (piece?, 0),
                None => return Ok(0),
            }
        }
        let read = (&self.piece[self.at..]).read(into)?;
        self.at += read;
        Ok(read)
    }
}
