//! Stripes that cannot hold a row of the answer, by the statistics that the file keeps of them.

use churn_core::Scalar;
use orc_rust::statistics::TypeStatistics;

use super::file::OrcFile;
use crate::ranges::Range;

/// Whether a stripe may hold a row within all ranges, which are of columns at the root, by their places there. Where the file does
/// not tell, it may.
pub(super) fn may_hold(file: &OrcFile, stripe: usize, ranges: &[(usize, &Range)]) -> bool {
    let Some(stripe) = file.metadata.stripe_metadatas().get(stripe) else { return true };
    let columns = file.metadata.root_data_type().children();
    ranges.iter().all(|(root, range)| {
        let column = columns.get(*root).map(|column| column.data_type().column_index());
        let told = column.and_then(|column| stripe.column_statistics().get(column));
        match told.and_then(|told| bounds(told.type_statistics()?)) {
            // NaN comes after all numbers and is in no statistics.
            Some((Scalar::Float(_), _)) if range.high.is_none() => true,
            Some((least, greatest)) => range.meets(&least, &greatest),
            None => true,
        }
    })
}

/// The least and the greatest value that statistics tell; those of times and decimals are not told in the precision of values.
fn bounds(told: &TypeStatistics) -> Option<(Scalar, Scalar)> {
    Some(match told {
        TypeStatistics::Integer { min, max, .. } => (Scalar::Int(*min), Scalar::Int(*max)),
        TypeStatistics::Double { min, max, .. } if min <= max => (Scalar::Float(*min), Scalar::Float(*max)),
        TypeStatistics::Date { min, max } => (Scalar::Date(*min), Scalar::Date(*max)),
        TypeStatistics::String { lower_bound, upper_bound, is_exact_max: true, .. } => {
            (Scalar::Text(lower_bound.clone()), Scalar::Text(upper_bound.clone()))
        }
        _ => return None,
    })
}
