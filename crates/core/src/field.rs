//! The columns of a relation: their numbers, names and types.

use arrow_schema::DataType;

use crate::Type;

/// A column's number, unique in a plan.
pub type ColumnId = u32;

/// A column of a relation.
#[derive(Clone, Debug, PartialEq)]
pub struct Field {
    /// Its number in the plan.
    pub id: ColumnId,
    /// Its name.
    pub name: String,
    /// How the values are carried; may be narrower than the language's type.
    pub data: DataType,
    /// The language's type; `Unknown` after a mistake.
    pub kind: Type,
}

impl Field {
    /// A computed column, carried as its type is.
    pub fn new(id: ColumnId, name: impl Into<String>, kind: Type) -> Field {
        Field { id, name: name.into(), data: kind.arrow(), kind }
    }
}
