//! Row groups and pages that cannot hold a row of the answer, by the statistics that the file keeps of them.

use arrow_array::{Array, ArrayRef, UInt64Array};
use churn_core::Scalar;
use churn_core::widen::widen;
use parquet::arrow::arrow_reader::statistics::StatisticsConverter;
use parquet::arrow::arrow_reader::{ParquetRecordBatchReaderBuilder, RowSelection};
use parquet::bloom_filter::Sbbf;

use super::file::ParquetFile;
use crate::ranges::Range;

/// The parts of a row group that may hold rows within all ranges; `None` if no part may.
///
/// Ranges are of top-level columns, by their names.
pub(super) fn parts(
    file: &ParquetFile,
    group: usize,
    ranges: &[(&str, &Range)],
) -> Option<Option<RowSelection>> {
    let mut selection: Option<RowSelection> = None;
    for (column, range) in ranges {
        if !may_hold(file, group, column, range) {
            return None;
        }
        if let Some(pages) = pages(file, group, column, range) {
            let both = match selection {
                Some(before) => before.intersection(&pages),
                None => pages,
            };
            if !both.selects_any() {
                return None;
            }
            selection = Some(both);
        }
    }
    Some(selection)
}

fn converter<'a>(file: &'a ParquetFile, column: &str) -> Option<StatisticsConverter<'a>> {
    let schema = file.metadata.schema();
    StatisticsConverter::try_new(column, schema, file.metadata.parquet_schema()).ok()
}

/// Whether the statistics and the bloom filter of a row group leave room for a value within the range.
fn may_hold(file: &ParquetFile, group: usize, column: &str, range: &Range) -> bool {
    let Some(converter) = converter(file, column) else { return true };
    let Some(metadata) = file.metadata.metadata().row_groups().get(group) else { return true };
    let (Ok(least), Ok(greatest)) =
        (converter.row_group_mins([metadata]), converter.row_group_maxes([metadata]))
    else {
        return true;
    };
    let nans = converter.row_group_nan_counts([metadata]).ok();
    if !meets(range, &least, &greatest, nans.as_ref(), 0) {
        return false;
    }
    match (range.only(), converter.parquet_column_index()) {
        (Some(value), Some(leaf)) => bloom(file, group, leaf).is_none_or(|filter| holds(&filter, value)),
        _ => true,
    }
}

/// Whether the part with these least and greatest values may hold one within the range.
fn meets(
    range: &Range,
    least: &ArrayRef,
    greatest: &ArrayRef,
    nans: Option<&UInt64Array>,
    part: usize,
) -> bool {
    let value = |array: &ArrayRef| widen(array).map_or(Scalar::Null, |wide| Scalar::from_array(&wide, part));
    let (least, greatest) = (value(least), value(greatest));
    if let Scalar::Float(_) = least {
        // NaN comes after all numbers and is in no statistics of least and greatest values.
        let none = nans.is_some_and(|n| n.is_valid(part) && n.value(part) == 0);
        if range.high.is_none() && !none {
            return true;
        }
    }
    range.meets(&least, &greatest)
}

fn bloom(file: &ParquetFile, group: usize, leaf: usize) -> Option<Sbbf> {
    let column = file.metadata.metadata().row_groups().get(group)?.columns().get(leaf)?;
    column.bloom_filter_offset()?;
    let builder =
        ParquetRecordBatchReaderBuilder::new_with_metadata(file.reader.clone(), file.metadata.clone());
    builder.get_row_group_column_bloom_filter(group, leaf).ok().flatten()
}

/// Whether a filter may have seen a value; values of types whose bytes are not known here may be in it.
fn holds(filter: &Sbbf, value: &Scalar) -> bool {
    match value {
        Scalar::Text(text) => filter.check(&text.as_str()),
        _ => true,
    }
}

/// The rows of the pages that may hold a value within the range; `None` where the file does not tell.
fn pages(file: &ParquetFile, group: usize, column: &str, range: &Range) -> Option<RowSelection> {
    let metadata = file.metadata.metadata();
    let index = metadata.page_index()?.as_ref();
    let converter = converter(file, column)?;
    let groups = [group];
    let least = converter.data_page_mins(index, &groups).ok()?;
    let greatest = converter.data_page_maxes(index, &groups).ok()?;
    let counts = converter.data_page_row_counts(index, metadata.row_groups(), &groups).ok()??;
    let nans = converter.data_page_nan_counts(index, &groups).ok();
    if least.len() != counts.len() || greatest.len() != counts.len() {
        return None;
    }
    let mut from = 0usize;
    let mut kept = Vec::new();
    for (page, rows) in counts.iter().enumerate() {
        let to = from + rows? as usize;
        if meets(range, &least, &greatest, nans.as_ref(), page) {
            kept.push(from..to);
        }
        from = to;
    }
    Some(RowSelection::from_consecutive_ranges(kept.into_iter(), from))
}
