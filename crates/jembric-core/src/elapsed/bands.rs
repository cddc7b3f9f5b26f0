//! Bands of numbers: their names, and the band of each number.

use crate::error::Result;
use arrow_array::{
    ArrayRef, StringViewArray, UInt32Array,
    cast::AsArray,
    types::{Float64Type, Int64Type},
};
use arrow_select::take::take;

/// The names of the bands, in order: `under 0`, `0-29`, `30-59`, `60+`.
pub(super) fn band_labels(bands: &[i64]) -> Vec<String> {
    let mut labels: Vec<String> =
        bands.first().map(|least| format!("under {least}")).into_iter().collect();
    labels.extend(bands.windows(2).map(|band| match (band[0], band[1] - 1) {
        (least, greatest) if least == greatest => least.to_string(),
        (least, greatest) if least < 0 => format!("{least} to {greatest}"),
        (least, greatest) => format!("{least}-{greatest}"),
    }));
    labels.extend(bands.last().map(|greatest| format!("{greatest}+")));
    labels
}

/// The band of each number, by its whole part.
pub(super) fn in_bands(numbers: &ArrayRef, bands: &[i64], labels: &[String]) -> Result<ArrayRef> {
    let band = |number: i64| bands.partition_point(|&least| least <= number) as u32;
    let index: UInt32Array = match numbers.as_primitive_opt::<Int64Type>() {
        Some(numbers) => numbers.iter().map(|number| number.map(band)).collect(),
        None => {
            let hours = numbers.as_primitive::<Float64Type>().iter();
            hours.map(|hours| hours.map(|hours| band(hours.floor() as i64))).collect()
        }
    };
    Ok(take(&StringViewArray::from_iter_values(labels), &index, None)?)
}
