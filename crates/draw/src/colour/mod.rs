//! Colours: twelve for keys, ramps for values, and those of grounds, lines and words; each for a light and a dark ground.
//!
//! They were found by a search over OKLab (Ottosson, *A perceptual color space for image processing*, 2020) for colours of
//! keys that differ from their neighbours, and the first eight from one another, also for eyes that lack one kind of cone
//! (Machado, Oliveira and Fernandes, *A physiologically-based model for simulation of color vision deficiency*, 2009) and in
//! grey, and that stand out from the ground by 3 : 1 or more. The tests here compute it again.

mod ramp;
#[cfg(test)]
mod sight;

pub use ramp::Ramp;

/// A colour of sRGB.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Colour(pub [u8; 3]);

impl Colour {
    const fn of(hex: u32) -> Colour {
        Colour([(hex >> 16) as u8, (hex >> 8) as u8, hex as u8])
    }

    /// As it is written in SVG: `#1b6ca8`.
    pub fn hex(self) -> String {
        let Colour([red, green, blue]) = self;
        format!("#{red:02x}{green:02x}{blue:02x}")
    }

    /// Red, green and blue as amounts of light, from 0 to 1.
    pub(crate) fn light(self) -> [f64; 3] {
        self.0.map(|part| {
            let part = f64::from(part) / 255.0;
            if part <= 0.04045 { part / 12.92 } else { ((part + 0.055) / 1.055).powf(2.4) }
        })
    }

    /// How bright it is, from 0 to 1.
    pub fn luminance(self) -> f64 {
        let [red, green, blue] = self.light();
        0.2126 * red + 0.7152 * green + 0.0722 * blue
    }

    /// The ratio of contrast to another colour, from 1 to 21.
    pub fn contrast(self, other: Colour) -> f64 {
        let (a, b) = (self.luminance(), other.luminance());
        (a.max(b) + 0.05) / (a.min(b) + 0.05)
    }
}

/// What charts are drawn on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Ground {
    /// Dark marks on light ground.
    #[default]
    Light,
    /// Light marks on dark ground.
    Dark,
}

/// The colours of a ground.
#[derive(Clone, Copy, Debug)]
pub struct Palette {
    /// The ground itself.
    pub ground: Colour,
    /// Titles and labels.
    pub words: Colour,
    /// Captions and the marks of axes.
    pub quiet: Colour,
    /// Lines behind the marks.
    pub grid: Colour,
    /// The lines that axes start from.
    pub axis: Colour,
    /// One for each key, in the order of keys.
    pub keys: [Colour; MOST_KEYS],
    /// From few to many, or from the least value to the greatest.
    pub ramp: Ramp,
    /// From values below zero to those above.
    pub both_sides: Ramp,
}

/// Keys that have a colour each.
pub const MOST_KEYS: usize = 12;

impl Ground {
    /// Its colours.
    pub fn palette(self) -> &'static Palette {
        match self {
            Ground::Light => &LIGHT,
            Ground::Dark => &DARK,
        }
    }
}

const fn all(hexes: [u32; MOST_KEYS]) -> [Colour; MOST_KEYS] {
    let mut colours = [Colour([0; 3]); MOST_KEYS];
    let mut place = 0;
    while place < MOST_KEYS {
        colours[place] = Colour::of(hexes[place]);
        place += 1;
    }
    colours
}

static LIGHT: Palette = Palette {
    ground: Colour::of(0x00fc_fcfa),
    words: Colour::of(0x0022_262b),
    quiet: Colour::of(0x005c_646c),
    grid: Colour::of(0x00e4_e5e2),
    axis: Colour::of(0x0080_868c),
    keys: all(LIGHT_KEYS),
    ramp: Ramp([Colour::of(0x00c6_c0e2), Colour::of(0x008d_7fc0), Colour::of(0x0033_1d63)]),
    both_sides: Ramp([Colour::of(0x0096_5a00), Colour::of(0x00e6_e4e0), Colour::of(0x0051_4295)]),
};

static DARK: Palette = Palette {
    ground: Colour::of(0x0015_181c),
    words: Colour::of(0x00e8_eaec),
    quiet: Colour::of(0x00a2_a9b0),
    grid: Colour::of(0x002c_3137),
    axis: Colour::of(0x0078_8088),
    keys: all(DARK_KEYS),
    ramp: Ramp([Colour::of(0x003f_3a68), Colour::of(0x008a_7ad8), Colour::of(0x00f0_eaff)]),
    both_sides: Ramp([Colour::of(0x00f5_a420), Colour::of(0x003c_4047), Colour::of(0x009a_8cf0)]),
};

const LIGHT_KEYS: [u32; MOST_KEYS] = [
    0x0051_4295,
    0x0089_8d18,
    0x0079_1b0c,
    0x00cf_5582,
    0x0019_187c,
    0x004e_87d3,
    0x0090_502c,
    0x004e_133a,
    0x0094_7aa5,
    0x0065_1675,
    0x0031_9a84,
    0x000f_4e3b,
];

const DARK_KEYS: [u32; MOST_KEYS] = [
    0x007e_6cd9,
    0x00f5_a420,
    0x00ae_4388,
    0x00e1_e85d,
    0x0038_a1b9,
    0x00ad_eedc,
    0x00e1_6a3e,
    0x0071_c3ec,
    0x00a2_5c43,
    0x00f3_d0fb,
    0x0031_835d,
    0x0085_e585,
];

#[cfg(test)]
mod tests {
    use super::sight::{EYES, distance, grey, seen};
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn keys_stand_out_from_the_ground(#[values(Ground::Light, Ground::Dark)] ground: Ground) {
        let palette = ground.palette();
        for key in palette.keys {
            assert!(key.contrast(palette.ground) >= 3.0, "{}: {}", key.hex(), key.contrast(palette.ground));
        }
        assert!(palette.words.contrast(palette.ground) >= 7.0);
        assert!(palette.quiet.contrast(palette.ground) >= 4.5);
    }

    #[rstest]
    fn neighbours_differ_for_all_eyes(#[values(Ground::Light, Ground::Dark)] ground: Ground) {
        let keys = ground.palette().keys;
        for eye in EYES {
            for pair in keys.windows(2) {
                assert!(distance(seen(pair[0], eye), seen(pair[1], eye)) >= 0.15, "{pair:?}");
            }
            for (i, a) in keys.iter().enumerate().take(8) {
                for b in &keys[..i] {
                    assert!(distance(seen(*a, eye), seen(*b, eye)) >= 0.08, "{a:?} {b:?}");
                }
            }
        }
        for pair in keys.windows(2) {
            assert!((grey(pair[0]) - grey(pair[1])).abs() >= 0.1, "in grey: {pair:?}");
        }
    }

    #[rstest]
    fn ramps_rise_evenly(#[values(Ground::Light, Ground::Dark)] ground: Ground) {
        let palette = ground.palette();
        let greys: Vec<f64> = (0..=20).map(|i| grey(palette.ramp.at(f64::from(i) / 20.0))).collect();
        let is_rising = greys.windows(2).all(|pair| pair[1] > pair[0]);
        let is_falling = greys.windows(2).all(|pair| pair[1] < pair[0]);
        assert!(is_rising || is_falling, "{greys:?}");
        // What few rows are is seen, too.
        assert!(palette.ramp.at(0.0).contrast(palette.ground) >= 1.5);
        assert!(palette.ramp.at(1.0).contrast(palette.ground) >= 7.0);
    }
}
