//! What is sorted by.

use arrow_array::ArrayRef;
use arrow_row::{RowConverter, SortField};
use arrow_schema::SortOptions;
use churn_core::{Batch, Result, StepId, Type};
use churn_expr::{Bound, Node};

use crate::keys::normal;
use crate::runtime::morsel_output::MorselOutput;

/// What is sorted by, placed.
pub(crate) struct Order {
    pub(crate) keys: Vec<OrderKey>,
    pub(crate) step: StepId,
    pub(crate) text: String,
}

/// One key.
pub(crate) struct OrderKey {
    pub(crate) by: Bound,
    pub(crate) kind: Type,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
}

impl OrderKey {
    /// A column, placed.
    pub(crate) fn column(place: usize, kind: Type, descending: bool, nulls_first: bool) -> OrderKey {
        let by = Bound { node: Node::Column(place as u32), kind: kind.clone() };
        OrderKey { by, kind, descending, nulls_first }
    }
}

impl Order {
    /// The key columns of a batch, as they are compared.
    pub(crate) fn columns(&self, batch: &Batch, work: &mut MorselOutput) -> Result<Vec<ArrayRef>> {
        let column = |key: &OrderKey| {
            let array = work
                .with_events(self.step, |events| key.by.evaluate_array(batch, events))
                .map_err(|e| e.in_step(&self.text))?;
            normal(&array)
        };
        self.keys.iter().map(column).collect()
    }

    /// What makes bytes of keys that compare as rows are ordered.
    pub(crate) fn converter(&self) -> Result<RowConverter> {
        let field = |key: &OrderKey| {
            let options = SortOptions { descending: key.descending, nulls_first: key.nulls_first };
            SortField::new_with_options(key.kind.arrow(), options)
        };
        RowConverter::new(self.keys.iter().map(field).collect()).map_err(churn_core::arrow_error)
    }

    /// Whether all keys are numbers, days, times or truth, each of which 64 bits hold, or texts, of which words hold the start.
    pub(super) fn is_of_words(&self) -> bool {
        self.keys.iter().all(|key| key.kind == Type::Text || is_word(&key.kind))
    }
}

/// Whether 64 bits hold any value of a type, in order.
pub(crate) fn is_word(kind: &Type) -> bool {
    matches!(kind, Type::Int | Type::Float | Type::Date | Type::Time | Type::Timestamp | Type::Bool)
}
