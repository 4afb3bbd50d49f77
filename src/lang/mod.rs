//! The language as text: recipes into steps, and back to text.

pub(crate) mod recipe;
