//! Several files of one table: columns by name, types united, names of nested fields joined with points.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;

use crate::{store, streams};
use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, StringViewArray, make_array, new_null_array};
use arrow_buffer::NullBuffer;
use arrow_schema::{DataType, Fields};
use churn_core::names::name;
use churn_core::readable::plural;
use churn_core::widen::{check_range, widen};
use churn_core::{Batch, Error, ErrorKind, Events, Result, Type};
use churn_expr::{Bound, Node, cast};

use super::source::{Lacking, SourceColumn};

/// A column within a file: its name, and the way to it through nested records.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Flat {
    pub(crate) name: String,
    pub(crate) path: Vec<usize>,
    pub(crate) data: DataType,
}

/// What a schema's columns become, and what should be told of them.
#[derive(Debug, Default)]
pub(crate) struct Flattened {
    pub(crate) columns: Vec<Flat>,
    /// Columns of types that are not read.
    left_out: Vec<String>,
    /// Columns that have another name than in the file, as one of that name stands before them.
    renamed: Vec<String>,
}

/// The columns of a schema; a record's fields are columns of their own. A second column of one name gets a number.
pub(crate) fn flat(fields: &Fields) -> Flattened {
    fn walk(fields: &Fields, path: &[usize], prefix: &str, flat: &mut Vec<Flat>, left_out: &mut Vec<String>) {
        for (i, field) in fields.iter().enumerate() {
            let path: Vec<usize> = path.iter().copied().chain([i]).collect();
            let name = format!("{prefix}{}", field.name());
            match field.data_type() {
                DataType::Struct(inner) => walk(inner, &path, &format!("{name}."), flat, left_out),
                data if Type::of(data).is_some() => flat.push(Flat { name, path, data: data.clone() }),
                data => left_out.push(format!("{name} ({data})")),
            }
        }
    }
    let (mut columns, mut left_out) = (Vec::new(), Vec::new());
    walk(fields, &[], "", &mut columns, &mut left_out);
    let all: HashSet<String> = columns.iter().map(|c| c.name.clone()).collect();
    let (mut seen, mut renamed) = (HashSet::new(), Vec::new());
    for column in &mut columns {
        let mut unique = column.name.clone();
        for number in 2.. {
            if !seen.contains(&unique) && (unique == column.name || !all.contains(&unique)) {
                break;
            }
            unique = format!("{}_{number}", column.name);
        }
        if unique != column.name {
            renamed.push(format!("a second {} is called {unique}", column.name));
            column.name.clone_from(&unique);
        }
        seen.insert(unique);
    }
    Flattened { columns, left_out, renamed }
}

impl Flattened {
    /// What should be told of a file's columns.
    pub(crate) fn notes(&self, shown: &str) -> Vec<String> {
        let what = plural(self.left_out.len() as u64, "column");
        let left_out =
            || format!("{shown}: {what} of types that are not read left out: {}.", self.left_out.join(", "));
        let renamed = || format!("{shown}: {}.", self.renamed.join(", "));
        let left_out = (!self.left_out.is_empty()).then(left_out);
        left_out.into_iter().chain((!self.renamed.is_empty()).then(renamed)).collect()
    }
}

/// The column at the end of a way, null where a record on the way is.
fn followed(column: &ArrayRef, path: &[usize]) -> ArrayRef {
    let mut column = column.clone();
    for step in path {
        let Some(record) = column.as_struct_opt() else { break };
        let Some(inner) = record.columns().get(*step) else { break };
        let nulls = NullBuffer::union(record.nulls(), inner.logical_nulls().as_ref());
        column = match nulls {
            Some(_) if record.nulls().is_none() => inner.clone(),
            Some(nulls) => {
                let data = inner.to_data().into_builder().nulls(Some(nulls)).build();
                data.map_or_else(|_| inner.clone(), make_array)
            }
            None => inner.clone(),
        };
    }
    column
}

/// What one file has.
pub(crate) struct FileColumns<'a> {
    pub(crate) shown: &'a str,
    pub(crate) columns: Vec<(&'a str, &'a DataType)>,
}

/// Columns by name over all files, in order of first appearance.
#[derive(Debug)]
pub(crate) struct MergedSchema {
    pub(crate) columns: Vec<SourceColumn>,
    /// For each file, for each column of the table, its place among the file's.
    pub(crate) places: Vec<Vec<Option<usize>>>,
    /// The first column that a file lacks.
    pub(crate) lacking: Option<Lacking>,
    /// The column that holds each row's file, if there is one.
    pub(crate) file_column: Option<usize>,
}

/// Some rows of a file of several.
pub(crate) struct FileRows<'a> {
    /// Its place among the files, and what messages call it.
    pub(crate) file: usize,
    pub(crate) shown: &'a str,
    /// The columns that it has.
    pub(crate) columns: &'a [Flat],
    pub(crate) rows: usize,
}

impl MergedSchema {
    /// Unites the columns of files by their names as messages show them.
    ///
    /// # Errors
    /// As [`MergedSchema::new`].
    pub(crate) fn of_files<'a>(
        files: impl Iterator<Item = (&'a str, &'a [Flat])>,
        file_column: Option<&str>,
    ) -> Result<MergedSchema> {
        let columns = |flat: &'a [Flat]| flat.iter().map(|c| (c.name.as_str(), &c.data)).collect();
        let parts: Vec<FileColumns<'a>> =
            files.map(|(shown, flat)| FileColumns { shown, columns: columns(flat) }).collect();
        MergedSchema::new(&parts, file_column)
    }

    /// Unites the columns of some files; `file_column` adds one for the file's name.
    ///
    /// # Errors
    /// Columns of one name have types that do not go together.
    pub(crate) fn new(parts: &[FileColumns<'_>], file_column: Option<&str>) -> Result<MergedSchema> {
        let mut columns: Vec<(SourceColumn, &str)> = Vec::new();
        for part in parts {
            for (column, data) in &part.columns {
                match columns.iter_mut().find(|(c, _)| c.name == *column) {
                    None => {
                        let column =
                            SourceColumn { name: (*column).to_owned(), data: (*data).clone(), open: false };
                        columns.push((column, part.shown));
                    }
                    Some((united, first)) => {
                        united.data = both(column, (&united.data, first), (data, part.shown))?
                    }
                }
            }
        }
        let mut columns: Vec<SourceColumn> = columns.into_iter().map(|(c, _)| c).collect();
        let mut places: Vec<Vec<Option<usize>>> = parts
            .iter()
            .map(|part| columns.iter().map(|c| part.columns.iter().position(|(n, _)| *n == c.name)).collect())
            .collect();
        let files = parts.iter().zip(&places).map(|(part, places)| (part.shown, places.as_slice()));
        let lacking = Lacking::first(&columns, files);
        let place = file_column.map(|_| columns.len());
        if let Some(file_column) = file_column {
            if columns.iter().any(|c| c.name == file_column) {
                let what = format!("There is a column {} already.", name(file_column));
                return Err(Error::new(ErrorKind::Name, what).next("Give file_column another name."));
            }
            columns.push(SourceColumn {
                name: file_column.to_owned(),
                data: DataType::Utf8View,
                open: false,
            });
            places.iter_mut().for_each(|p| p.push(None));
        }
        Ok(MergedSchema { columns, places, lacking, file_column: place })
    }
}

/// The type that columns of two files have together: as they are carried where they agree.
fn both(column: &str, (a, first): (&DataType, &str), (b, second): (&DataType, &str)) -> Result<DataType> {
    if a == b {
        return Ok(a.clone());
    }
    let kinds = (Type::of(a).unwrap_or(Type::Unknown), Type::of(b).unwrap_or(Type::Unknown));
    match kinds.0.common_type(&kinds.1) {
        Some(united) => Ok(united.arrow()),
        None => {
            let (a, b) = kinds;
            let what = format!("{} is {a} in one file and {b} in another.", name(column));
            Err(Error::new(ErrorKind::Type, what).why(format!("{first}: {a}\n{second}: {b}")).next(format!(
                "Read them apart, cast one of them, and append: add {0} = cast({0} as text).",
                name(column)
            )))
        }
    }
}

impl MergedSchema {
    /// Where a column of the table stands in a file: the column of the file, and the way within it.
    pub(crate) fn way<'a>(
        &self,
        column: usize,
        file: usize,
        columns: &'a [Flat],
    ) -> Option<(usize, &'a [usize])> {
        let place = self.places.get(file)?.get(column).copied().flatten()?;
        columns.get(place)?.path.split_first().map(|(root, path)| (*root, path))
    }

    /// Some columns of rows of a file as the table has them; `read` gives the columns of the file that were read.
    ///
    /// # Errors
    /// As [`MergedSchema::column_of`].
    pub(crate) fn columns_of<'a>(
        &self,
        wanted: &[usize],
        of: &FileRows<'_>,
        read: impl Fn(usize) -> Option<&'a ArrayRef>,
    ) -> Result<Vec<ArrayRef>> {
        let column = |column: &usize| {
            if self.file_column == Some(*column) {
                return Ok(file_name(of.shown, of.rows));
            }
            let found =
                self.way(*column, of.file, of.columns).and_then(|(root, path)| Some((read(root)?, path)));
            self.column_of(*column, found, (of.shown, of.rows))
        };
        wanted.iter().map(column).collect()
    }

    /// A column of some rows of a file as the table has it: of what was read, and the way from there to the column, or
    /// nulls where the file has no such column.
    ///
    /// # Errors
    /// Some values do not fit; the error names the file and the column.
    pub(crate) fn column_of(
        &self,
        column: usize,
        found: Option<(&ArrayRef, &[usize])>,
        (shown, rows): (&str, usize),
    ) -> Result<ArrayRef> {
        let wanted = self.columns.get(column);
        let data = wanted.map_or(DataType::Null, |wanted| wanted.data.clone());
        let Some((read, path)) = found else { return Ok(new_null_array(&data, rows)) };
        let array = followed(read, path);
        check_range(&array).map_err(|e| e.in_file(shown, None, wanted.map(|wanted| wanted.name.as_str())))?;
        cast_to(array, &data)
    }
}

/// A column as another Arrow type of the same language type, or of a wider one.
pub fn cast_to(array: ArrayRef, to: &DataType) -> Result<ArrayRef> {
    if array.data_type() == to {
        return Ok(array);
    }
    let wide = widen(&array)?;
    if wide.data_type() == to {
        return Ok(wide);
    }
    let lost = || Error::new(ErrorKind::Internal, format!("A column of {} is no {to}.", array.data_type()));
    let (from, to) = (Type::of(wide.data_type()).ok_or_else(lost)?, Type::of(to).ok_or_else(lost)?);
    if from == Type::Null {
        return Ok(new_null_array(&to.arrow(), wide.len()));
    }
    let column = Bound { node: Node::Column(0), kind: from };
    let batch = Batch { rows: wide.len(), columns: vec![wide.clone()] };
    cast::silently(column, &to).ok_or_else(lost)?.evaluate_array(&batch, &mut Events::default())
}

/// A column with a file's name in every row.
pub(crate) fn file_name(shown: &str, rows: usize) -> ArrayRef {
    Arc::new(StringViewArray::from_iter_values(std::iter::repeat_n(shown, rows)))
}

/// A path as messages show it.
pub(crate) fn shown(file: &Path, base: &Path) -> String {
    if store::is_address(file) {
        return streams::shown(file);
    }
    file.strip_prefix(base).unwrap_or(file).display().to_string()
}
