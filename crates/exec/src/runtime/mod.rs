//! What all operators run on: pipelines over morsels, their hand-over in order, the contracts of operators and sinks, the
//! budget, and what is counted.

pub(crate) mod budget;
pub(crate) mod context;
pub(crate) mod figures;
pub(crate) mod gathered;
pub(crate) mod ledger;
pub(crate) mod materialized;
pub(crate) mod materialized_source;
pub(crate) mod morsel_output;
pub(crate) mod output;
pub(crate) mod pipeline;
pub(crate) mod scan_test;
pub(crate) mod serial;
pub(crate) mod settings;
pub(crate) mod sink;
pub(crate) mod stream;
