//! Objects being read: from front to back, or in parts.

use std::io::{Error, ErrorKind, Read, Result};
use std::sync::Arc;

use bytes::Bytes;
use futures_util::StreamExt;
use futures_util::stream::BoxStream;
use object_store::path::Path;
use object_store::{GetOptions, GetRange, ObjectMeta, ObjectStoreExt};

use super::bucket::Place;
use super::failures::told;
use super::waiting::Waiting;
use crate::store::pump::Pump;
use crate::store::{StoredFile, StoredStream};

/// Bytes at the end of an object that are asked for first: of most columnar files what tells where their columns are.
const END: u64 = 1 << 14;

/// The bytes of an object from the first to the last. One that breaks off is taken up where it was.
pub(super) fn read(address: &str) -> Result<StoredStream> {
    let place = Arc::new(Place::of(address)?);
    let object = place.object()?;
    let waiting = Waiting::new()?;
    let answer = waiting.wait_for(place.bucket.store.get_opts(&object, GetOptions::default()))?;
    let answer = answer.map_err(|e| told(&e, &place))?;
    let about = answer.meta.clone();
    let streamed =
        Streamed { place: place.clone(), waiting, stream: answer.into_stream(), piece: Bytes::new() };
    let stream = StoredStream::new(Pump::start(streamed)?);
    Ok(match about.e_tag {
        Some(tag) => stream.with_parts(file(place, object, tag, about.size)),
        None => stream,
    })
}

/// An object that comes piece by piece.
struct Streamed {
    place: Arc<Place>,
    waiting: Waiting,
    stream: BoxStream<'static, object_store::Result<Bytes>>,
    /// What came and was not taken yet.
    piece: Bytes,
}

impl Read for Streamed {
    fn read(&mut self, into: &mut [u8]) -> Result<usize> {
        while self.piece.is_empty() {
            match self.waiting.wait_for(self.stream.next())? {
                Some(piece) => self.piece = piece.map_err(|e| told(&e, &self.place))?,
                None => return Ok(0),
            }
        }
        let taken = self.piece.split_to(into.len().min(self.piece.len()));
        into.iter_mut().zip(&taken).for_each(|(to, from)| *to = *from);
        Ok(taken.len())
    }
}

/// An object of which parts are read; `None` if its store does not tell when it changes.
pub(super) fn open(address: &str) -> Result<Option<StoredFile>> {
    let place = Arc::new(Place::of(address)?);
    let object = place.object()?;
    let waiting = Waiting::new()?;
    let end = match place.kind.gives_ends {
        true => end_of(&place, &object, &waiting)?,
        false => None,
    };
    let (about, end) = match end {
        Some(known) => known,
        None => {
            let answer = waiting.wait_for(place.bucket.store.head(&object))?;
            (answer.map_err(|e| told(&e, &place))?, Bytes::new())
        }
    };
    let Some(tag) = about.e_tag else { return Ok(None) };
    Ok(Some(file(place, object, tag, about.size).with_end(end.into())))
}

/// The version of an object that has a tag, of so many bytes.
fn file(place: Arc<Place>, object: Path, tag: String, size: u64) -> StoredFile {
    StoredFile::new(size, move |at, into| part(&place, &object, &tag, (at, into)))
}

/// What is known of an object, its size and what tells its version among it, and the bytes at its end; `None` where the store does not give an end, as of
/// an object without bytes.
fn end_of(place: &Place, object: &Path, waiting: &Waiting) -> Result<Option<(ObjectMeta, Bytes)>> {
    let options = GetOptions { range: Some(GetRange::Suffix(END)), ..GetOptions::default() };
    let answer = waiting.wait_for(async {
        let answer = place.bucket.store.get_opts(object, options).await?;
        let about = answer.meta.clone();
        Ok::<_, object_store::Error>((about, answer.bytes().await?))
    })?;
    match answer {
        Ok(known) => Ok(Some(known)),
        Err(object_store::Error::Generic { .. } | object_store::Error::NotSupported { .. }) => Ok(None),
        Err(error) => Err(told(&error, place)),
    }
}

/// Reads the bytes from a place on, of the version of an object that has a tag.
fn part(place: &Place, object: &Path, tag: &str, (at, into): (u64, &mut [u8])) -> Result<()> {
    let options = GetOptions {
        range: Some(GetRange::Bounded(at..at + into.len() as u64)),
        if_match: Some(tag.to_owned()),
        ..GetOptions::default()
    };
    let (length, mut read) = (into.len(), 0);
    let answer = Waiting::new()?.wait_for(async {
        let answer = place.bucket.store.get_opts(object, options).await?;
        let is_same = answer.meta.e_tag.as_deref().is_none_or(|sent| sent == tag);
        let mut stream = answer.into_stream();
        while let Some(piece) = stream.next().await.transpose()?.filter(|_| is_same) {
            let end = length.min(read + piece.len());
            if let (Some(to), Some(from)) = (into.get_mut(read..end), piece.get(..end - read)) {
                to.copy_from_slice(from);
            }
            read = end;
        }
        Ok::<_, object_store::Error>(is_same)
    })?;
    match answer.map_err(|e| told(&e, place))? {
        false => Err(Error::new(ErrorKind::InvalidData, "it changed while it was read")),
        true if read < length => {
            let what = format!("its store gave {read} bytes where {length} were asked for");
            Err(Error::new(ErrorKind::UnexpectedEof, what))
        }
        true => Ok(()),
    }
}
