//! The columns of a block, as they take the values of plain records.

use super::columns::JsonColumn;
use super::decode::Places;
use super::direct::{Fields, JsonPlace, NotPlain, Plain};
use super::source::JsonOptions;
use super::values::{of_bool, of_text};

/// The columns, as they take the values of plain records.
pub(super) struct PlainFields<'r, 'a> {
    pub(super) places: &'r Places,
    pub(super) options: &'r JsonOptions,
    pub(super) columns: &'r mut [JsonColumn<'a>],
}

impl<'a> PlainFields<'_, 'a> {
    #[inline]
    fn column(&mut self, field: usize) -> Plain<&mut JsonColumn<'a>> {
        self.columns.get_mut(field).ok_or(NotPlain)
    }
}

/// Not plain, unless a value was taken.
#[inline]
fn taken(is: bool) -> Plain<()> {
    if is { Ok(()) } else { Err(NotPlain) }
}

impl Fields for PlainFields<'_, '_> {
    fn place(&mut self, path: &str) -> JsonPlace {
        match self.places.get(path) {
            Some(Some(column)) => JsonPlace::Field(*column),
            Some(None) => JsonPlace::Unneeded,
            None => JsonPlace::None,
        }
    }

    #[inline]
    fn text(&mut self, field: usize, text: &str) -> Plain<()> {
        let options = self.options;
        if options.means_null(text) {
            return Ok(());
        }
        let column = self.column(field)?;
        if !column.set_text(text) {
            column.set(of_text(text, column.kind(), options).ok_or(NotPlain)?);
        }
        Ok(())
    }

    #[inline]
    fn int(&mut self, field: usize, value: i64) -> Plain<()> {
        taken(self.column(field)?.set_int(value))
    }

    #[inline]
    fn float(&mut self, field: usize, value: f64) -> Plain<()> {
        taken(self.column(field)?.set_float(value))
    }

    fn bool(&mut self, field: usize, value: bool) -> Plain<()> {
        let column = self.column(field)?;
        column.set(of_bool(value, column.kind()).ok_or(NotPlain)?);
        Ok(())
    }

    fn null(&mut self, _: usize) -> Plain<()> {
        Ok(())
    }

    /// Those that were taken are taken again, or the record is not plain.
    #[inline]
    fn again(&mut self) {}
}
