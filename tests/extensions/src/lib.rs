//! The examples of what a user adds to churn, compiled as a crate of its own that depends on `churn` and nothing else, and
//! held to what they promise.

#[path = "../../../examples/own_aggregate.rs"]
pub mod own_aggregate;
#[path = "../../../examples/own_format.rs"]
pub mod own_format;
#[path = "../../../examples/own_function.rs"]
pub mod own_function;
#[path = "../../../examples/own_source.rs"]
pub mod own_source;
#[path = "../../../examples/own_store.rs"]
pub mod own_store;
#[path = "../../../examples/own_window.rs"]
pub mod own_window;

#[cfg(test)]
mod tests;
