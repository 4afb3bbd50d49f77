//! Colours between others, mixed in OKLab.

use super::Colour;

/// The colours from one through a second to a third.
#[derive(Clone, Copy, Debug)]
pub struct Ramp(pub [Colour; 3]);

impl Ramp {
    /// The colour of a share from 0 to 1.
    pub fn at(&self, share: f64) -> Colour {
        let share = if share.is_finite() { share.clamp(0.0, 1.0) } else { 0.0 };
        let Ramp([low, middle, high]) = *self;
        if share < 0.5 { mixed(low, middle, share * 2.0) } else { mixed(middle, high, share * 2.0 - 1.0) }
    }
}

/// A colour between two others.
fn mixed(a: Colour, b: Colour, share: f64) -> Colour {
    let (a, b) = (lab(a.light()), lab(b.light()));
    let between = [0, 1, 2].map(|i: usize| {
        let (a, b) = (a.get(i).copied().unwrap_or(0.0), b.get(i).copied().unwrap_or(0.0));
        a + (b - a) * share
    });
    of_light(unlab(between))
}

fn of_light(light: [f64; 3]) -> Colour {
    Colour(light.map(|part| {
        let part = part.clamp(0.0, 1.0);
        let part = if part <= 0.003_130_8 { part * 12.92 } else { 1.055 * part.powf(1.0 / 2.4) - 0.055 };
        (part * 255.0).round() as u8
    }))
}

fn times(matrix: [[f64; 3]; 3], [x, y, z]: [f64; 3]) -> [f64; 3] {
    matrix.map(|[a, b, c]| a * x + b * y + c * z)
}

/// Lightness and two axes of colour, of amounts of light.
pub(super) fn lab(light: [f64; 3]) -> [f64; 3] {
    let cones = times(
        [
            [0.412_221_470_8, 0.536_332_536_3, 0.051_445_992_9],
            [0.211_903_498_2, 0.680_699_545_1, 0.107_396_956_6],
            [0.088_302_461_9, 0.281_718_837_6, 0.629_978_700_5],
        ],
        light,
    );
    times(
        [
            [0.210_454_255_3, 0.793_617_785_0, -0.004_072_046_8],
            [1.977_998_495_1, -2.428_592_205_0, 0.450_593_709_9],
            [0.025_904_037_1, 0.782_771_766_2, -0.808_675_766_0],
        ],
        cones.map(f64::cbrt),
    )
}

fn unlab(lab: [f64; 3]) -> [f64; 3] {
    let cones = times(
        [
            [1.0, 0.396_337_777_4, 0.215_803_757_3],
            [1.0, -0.105_561_345_8, -0.063_854_172_8],
            [1.0, -0.089_484_177_5, -1.291_485_548_0],
        ],
        lab,
    );
    times(
        [
            [4.076_741_662_1, -3.307_711_591_3, 0.230_969_929_2],
            [-1.268_438_004_6, 2.609_757_401_1, -0.341_319_396_5],
            [-0.004_196_086_3, -0.703_418_614_7, 1.707_614_701_0],
        ],
        cones.map(|cone| cone * cone * cone),
    )
}
