//! Different values where they do not fit in memory.

use std::sync::Arc;

use arrow_array::builder::StringViewBuilder;
use arrow_array::{ArrayRef, Int64Array};
use churn_core::{Result, Type};

use super::super::external::{ExternalValues, FromSorted};
use super::counted;
use super::texts::DistinctTexts;
use super::words::DistinctWords;

/// Values sorted, so that different ones are counted where they begin.
pub(super) struct ExternalDistinct;

impl ExternalValues<DistinctWords> for ExternalDistinct {
    fn kind(&self) -> Type {
        Type::Int
    }

    fn drain(&self, state: &mut DistinctWords) -> Vec<ArrayRef> {
        let words = state.take().into_iter().map(u64::cast_signed);
        vec![Arc::new(Int64Array::from_iter_values(words))]
    }

    fn sorted(&self, rows: &[u64]) -> Box<dyn FromSorted> {
        Box::new(Begun(vec![0; rows.len()]))
    }
}

impl ExternalValues<DistinctTexts> for ExternalDistinct {
    fn kind(&self) -> Type {
        Type::Text
    }

    fn drain(&self, state: &mut DistinctTexts) -> Vec<ArrayRef> {
        let mut texts = StringViewBuilder::new();
        std::mem::take(state).each(|text| texts.append_value(String::from_utf8_lossy(text)));
        vec![Arc::new(texts.finish())]
    }

    fn sorted(&self, rows: &[u64]) -> Box<dyn FromSorted> {
        Box::new(Begun(vec![0; rows.len()]))
    }
}

/// How many different values each group has so far.
struct Begun(Vec<usize>);

impl FromSorted for Begun {
    fn add(&mut self, groups: &[usize], is_new: &[bool], _: &[ArrayRef]) -> Result<()> {
        for (group, is_new) in groups.iter().zip(is_new) {
            if let Some(count) = self.0.get_mut(*group) {
                *count += usize::from(*is_new);
            }
        }
        Ok(())
    }

    fn finish(self: Box<Self>) -> Result<ArrayRef> {
        counted(self.0.into_iter())
    }
}
