//! Colours as eyes see them, for tests: with all cones, without one kind of them, in grey.

use super::Colour;
use super::ramp::lab;

type Eye = [[f64; 3]; 3];

/// All cones; without those for long, middle, short waves (Machado, Oliveira and Fernandes 2009, severity 1).
pub(super) const EYES: [Eye; 4] = [
    [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]],
    [[0.152286, 1.052583, -0.204868], [0.114503, 0.786281, 0.099216], [-0.003882, -0.048116, 1.051998]],
    [[0.367322, 0.860646, -0.227968], [0.280085, 0.672501, 0.047413], [-0.011820, 0.042940, 0.968881]],
    [[1.255528, -0.076749, -0.178779], [-0.078411, 0.930809, 0.147602], [0.004733, 0.691367, 0.303900]],
];

/// What an eye sees of a colour, in OKLab.
pub(super) fn seen(colour: Colour, eye: Eye) -> [f64; 3] {
    let light = colour.light();
    lab(eye.map(|row| row.iter().zip(light).map(|(a, b)| a * b).sum::<f64>().clamp(0.0, 1.0)))
}

pub(super) fn distance(a: [f64; 3], b: [f64; 3]) -> f64 {
    a.iter().zip(b).map(|(a, b)| (a - b) * (a - b)).sum::<f64>().sqrt()
}

/// The lightness of a colour printed in grey.
pub(super) fn grey(colour: Colour) -> f64 {
    let luminance = colour.luminance();
    lab([luminance; 3])[0]
}
