//! Objects being written: whole, or in parts of which nothing is seen until all are there.

use std::io::{Read, Result};

use churn_core::cancel;
use object_store::{ObjectStoreExt, PutPayload};

use super::bucket::Place;
use super::failures::told;
use super::waiting::Waiting;
use crate::store::aside::stopped;

/// Bytes of a part; larger ones where there would be too many. A smaller object is written whole.
const PART: u64 = 8 << 20;

/// Parts that an object may have.
const MOST: u64 = 9_000;

/// Writes an object of so many bytes. Parts are given up when one fails, or the run is to stop.
pub(super) fn write(address: &str, bytes: &mut dyn Read, length: u64) -> Result<()> {
    let place = Place::of(address)?;
    let object = place.object()?;
    let waiting = Waiting::new()?;
    if length <= PART {
        let whole = PutPayload::from(next(bytes, PART)?);
        return waiting
            .wait_for(place.bucket.store.put(&object, whole))?
            .map(|_| ())
            .map_err(|e| told(&e, &place));
    }
    let upload = waiting.wait_for(place.bucket.store.put_multipart(&object))?;
    let mut upload = upload.map_err(|e| told(&e, &place))?;
    let size = PART.max(length.div_ceil(MOST));
    let mut sent = || {
        loop {
            if cancel::is_asked() {
                return Err(stopped());
            }
            let part = next(bytes, size)?;
            if part.is_empty() {
                break;
            }
            let answer = waiting.wait_for(upload.put_part(PutPayload::from(part)))?;
            answer.map_err(|e| told(&e, &place))?;
        }
        waiting.finish(upload.complete()).map(|_| ()).map_err(|e| told(&e, &place))
    };
    sent().inspect_err(|_| {
        // What fails now leaves parts that nobody sees; the error before is the one to tell.
        waiting.tidy(upload.abort());
    })
}

/// The next bytes, as many as that unless they end.
fn next(bytes: &mut dyn Read, size: u64) -> Result<Vec<u8>> {
    let mut part = Vec::new();
    bytes.take(size).read_to_end(&mut part)?;
    Ok(part)
}
