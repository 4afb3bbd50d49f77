//! The language as text: recipes into steps, and back to text; queries into steps.

pub(crate) mod recipe;
#[cfg(feature = "sql")]
pub(crate) mod sql;
