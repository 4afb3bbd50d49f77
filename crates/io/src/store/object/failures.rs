//! What a store answers when it does not do what it was asked for, in words.

use std::io::{Error, ErrorKind};

use object_store::Error as StoreError;

use super::bucket::Place;

/// The error for a message "ADDRESS cannot be read: …". Nothing of an address that was asked is in it: a signature may be.
pub(super) fn told(error: &StoreError, place: &Place) -> Error {
    let right = || match place.bucket.has_keys {
        true => "its store gives no right to do so with these keys".to_owned(),
        false => format!(
            "its store gives no right to do so without keys, and none were found: {}",
            place.kind.keys
        ),
    };
    let answer = innermost(error);
    let (kind, what) = match error {
        StoreError::NotFound { .. } => (
            ErrorKind::NotFound,
            match code(&answer) {
                Some("NoSuchBucket" | "ContainerNotFound") => "there is no such bucket".to_owned(),
                _ => "there is no such object".to_owned(),
            },
        ),
        StoreError::PermissionDenied { .. } | StoreError::Unauthenticated { .. } => {
            (ErrorKind::PermissionDenied, right())
        }
        StoreError::Precondition { .. } | StoreError::NotModified { .. } => {
            (ErrorKind::InvalidData, "it changed while it was read".to_owned())
        }
        _ if answer.contains("redirect") => {
            (ErrorKind::InvalidInput, "its bucket is in another region than AWS_REGION names".to_owned())
        }
        _ => (ErrorKind::Other, plain(&answer)),
    };
    Error::new(kind, what)
}

/// The text of the error that all others come from.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut error = error;
    while let Some(source) = error.source() {
        error = source;
    }
    error.to_string()
}

/// An answer in words: its status and what the store says of it, where it is one; else the text as it is.
fn plain(answer: &str) -> String {
    let Some((_, status)) = answer.split_once("status code: ") else { return answer.trim().to_owned() };
    let status: String = status.chars().take_while(char::is_ascii_digit).collect();
    let said = between(answer, "<Message>", "</Message>").map(|said| said.trim().trim_end_matches('.'));
    let said = said.map(|said| format!(": {said}")).unwrap_or_default();
    let when = if status.starts_with('5') || status == "429" { ", also after several attempts" } else { "" };
    format!("its store answers with the status {status}{when}{said}")
}

/// The code of an answer.
fn code(answer: &str) -> Option<&str> {
    between(answer, "<Code>", "</Code>")
}

fn between<'a>(text: &'a str, start: &str, end: &str) -> Option<&'a str> {
    text.split_once(start)?.1.split_once(end).map(|(within, _)| within)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(
        "Server returned non-2xx status code: 503 Service Unavailable: ",
        "its store answers with the status 503, also after several attempts"
    )]
    #[case(
        "Server returned non-2xx status code: 400 Bad Request: <Error><Code>X</Code><Message>Bad milk.\n</Message></Error>",
        "its store answers with the status 400: Bad milk"
    )]
    #[case("its server cannot be reached", "its server cannot be reached")]
    fn an_answer_is_told_in_words(#[case] answer: &str, #[case] told: &str) {
        assert_eq!(plain(answer), told);
    }
}
