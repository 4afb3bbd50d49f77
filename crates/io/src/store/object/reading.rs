//! Objects being read: from front to back, or in parts.

use std::io::{Error, ErrorKind, Result};
use std::sync::Arc;

use bytes::Bytes;
use object_store::path::Path;
use object_store::{GetOptions, GetRange, GetResult, ObjectMeta, ObjectStoreExt};
use ureq::BodyReader;

use super::bucket::Place;
use super::connect::AnswerBody;
use super::failures::told;
use super::waiting::Waiting;
use crate::store::resumed::{self, Ask, Resumed};
use crate::store::{StoredFile, StoredStream};

/// Bytes at the end of an object that are asked for first: of most columnar files what tells where their columns are.
const END: u64 = 1 << 14;

/// The bytes of an object from the first to the last. One that breaks off is taken up where it was.
pub(super) fn read(address: &str) -> Result<StoredStream> {
    let place = Arc::new(Place::of(address)?);
    let object = place.object()?;
    let answer = Waiting::new()?.wait_for(place.bucket.store.get_opts(&object, GetOptions::default()))?;
    let (about, body) = taken(answer.map_err(|e| told(&e, &place))?)?;
    let size = about.size;
    let ask = about.e_tag.map(|tag| asking(place, object, tag));
    let stream = StoredStream::new(Resumed::whole(body, Some(size), ask.clone()));
    Ok(match ask {
        Some(ask) => stream.with_parts(resumed::file(ask, size)),
        None => stream,
    })
}

/// What asks for ranges of the version of an object that has a tag.
fn asking(place: Arc<Place>, object: Path, tag: String) -> Arc<Ask> {
    Arc::new(move |range| {
        let options = GetOptions {
            range: Some(GetRange::Bounded(range)),
            if_match: Some(tag.clone()),
            ..GetOptions::default()
        };
        let answer = Waiting::new()?.wait_for(place.bucket.store.get_opts(&object, options))?;
        let (about, body) = taken(answer.map_err(|e| told(&e, &place))?)?;
        if about.e_tag.is_some_and(|sent| sent != tag) {
            return Err(Error::new(ErrorKind::InvalidData, "it changed while it was read"));
        }
        Ok(body)
    })
}

/// What an answer tells of an object, and its bytes, which go straight to who reads them.
fn taken(answer: GetResult) -> Result<(ObjectMeta, BodyReader<'static>)> {
    let body = answer.extensions.get::<AnswerBody>().and_then(AnswerBody::take);
    Ok((answer.meta, body.ok_or_else(|| Error::other("an answer has no body"))?))
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
    Ok(Some(resumed::file(asking(place, object, tag), about.size).with_end(end.into())))
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
