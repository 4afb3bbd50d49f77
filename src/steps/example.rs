//! How a step is added: this file, and `example::KIND` as a line of [`CATALOGUE`](super::CATALOGUE), with a line of its own
//! in `docs/language.md`. It is compiled as a test, and not in the catalogue.
//!
//! A step is read from its line, checked against the columns before it, and printed as it is read. What it does is an
//! operator of the plan, here one that is there already.

use std::fmt;

use churn_core::Result;
use churn_expr::text::Cursor;
use churn_plan::Relation;
use churn_plan::operators::First;

use super::checker::Count;
use super::{Check, Checker, Step, StepKind};

const KIND: StepKind = StepKind {
    keyword: "skip",
    usage: "skip N",
    summary: "Leaves out the first N rows.",
    example: "skip 10",
    parse: |text| Ok(Step::from(text.one(read)?)),
};

#[derive(Clone, Debug, PartialEq)]
struct Skip(Count);

fn read(c: &mut Cursor<'_>) -> Result<Skip> {
    Ok(Skip(Count::read(c)?))
}

impl Check for Skip {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let Some(after) = self.0.resolved(checker) else { return Some(input) };
        let step = checker.step();
        Some(input.then(First::rows(usize::MAX, after), step))
    }
}

impl fmt::Display for Skip {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "skip {}", self.0)
    }
}

#[test]
fn the_example_works() {
    use churn_core::SourceText;
    use churn_expr::text::layout::blocks;
    use std::sync::Arc;

    let parsed = |text: &str| {
        let source = Arc::new(SourceText { name: "example".into(), text: text.to_owned() });
        let blocks = blocks(&source)?;
        let [block] = blocks.as_slice() else { panic!("one line") };
        let mut head = block.cursor();
        assert!(head.take_word(KIND.keyword));
        (KIND.parse)(super::StepText { head, lines: Vec::new() }).map(|step| step.to_string())
    };
    assert_eq!(parsed(KIND.example).unwrap_or_default(), KIND.example);
    assert!(parsed("skip 'ten'").is_err());
    assert!(parsed("skip 10 20").is_err());
}
