//! Queries with parts left out, repeated and exchanged: each is answered or refused, and nothing is a fault of the crate.

use churn::ErrorKind;

use crate::random::Random;
use crate::tables::{self, Form};

/// The words and signs of a query.
fn parts(text: &str) -> Vec<String> {
    let mut parts: Vec<String> = Vec::new();
    let mut in_word = false;
    for c in text.chars() {
        let is_word = c.is_alphanumeric() || c == '_' || c == '\'';
        match parts.last_mut().filter(|_| in_word && is_word) {
            Some(last) => last.push(c),
            None if c.is_whitespace() => {}
            None => parts.push(c.to_string()),
        }
        in_word = is_word;
    }
    parts
}

#[test]
fn no_query_is_a_fault() {
    let queries: Vec<&str> = crate::written().collect();
    let mut refused = 0;
    let rounds = 1500;
    for seed in 0..rounds {
        let mut random = Random::new(seed);
        let mut text = parts(queries[random.below(queries.len())]);
        for _ in 0..=random.below(3) {
            let at = random.below(text.len());
            match random.below(4) {
                0 => drop(text.remove(at)),
                1 => text.insert(at, text[at].clone()),
                2 => {
                    let other = parts(queries[random.below(queries.len())]);
                    text[at].clone_from(&other[random.below(other.len())]);
                }
                _ => {
                    let other = random.below(text.len());
                    text.swap(at, other);
                }
            }
            if text.is_empty() {
                break;
            }
        }
        let text = text.join(" ");
        if let Err(error) = tables::query(crate::folder(), Form::Csv, &text).plan() {
            refused += 1;
            assert_ne!(error.kind(), ErrorKind::Internal, "{text}\n{error}");
        }
    }
    assert!((rounds / 4..rounds).contains(&refused), "{refused} of {rounds} are refused");
}
