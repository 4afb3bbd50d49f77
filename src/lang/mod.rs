//! The language as text: recipes and expressions into steps, and back to text.

pub(crate) mod recipe;
pub(crate) mod text;
