//! The signs that charts in characters are made of.

use super::Screen;

/// From nothing to full.
pub(super) const SHADES: [char; 6] = [' ', '·', '░', '▒', '▓', '█'];

/// Colours of the table of 256 that are seen on dark ground and on light.
const COLOURS: [u8; 12] = [68, 166, 29, 168, 98, 100, 31, 160, 65, 132, 95, 60];

/// What bars of a key are filled with, where colours do not tell them apart.
const FILLS: [char; 12] = ['█', '▒', '▓', '░', '▚', '▤', '▥', '▦', '▧', '▨', '▩', '▣'];
const PLAIN_FILLS: [char; 12] = ['#', '=', '-', ':', '+', '%', '@', '*', 'o', 'x', '~', '.'];

/// What a key's bars are filled with.
pub(super) fn fill(number: usize, screen: Screen) -> char {
    let of = |fills: [char; 12]| fills.get(number % 12).copied().unwrap_or('#');
    match (screen.is_ascii, screen.has_colours) {
        (true, _) => of(PLAIN_FILLS),
        (false, true) => '█',
        (false, false) => of(FILLS),
    }
}

/// What a key's points are marked with.
pub(super) fn letter(number: usize, screen: Screen) -> char {
    if screen.has_colours { '●' } else { char::from(b'a' + (number % 12) as u8) }
}

/// A text in the colour of a key.
pub(super) fn coloured(text: &str, number: usize, screen: Screen) -> String {
    if !screen.has_colours || text.is_empty() {
        return text.to_owned();
    }
    let colour = COLOURS.get(number % 12).copied().unwrap_or(68);
    format!("\u{1b}[38;5;{colour}m{text}\u{1b}[0m")
}

/// A text without its colours.
pub(super) fn bare(text: &str) -> String {
    let mut out = String::new();
    let mut is_code = false;
    for c in text.chars() {
        match c {
            '\u{1b}' => is_code = true,
            'm' if is_code => is_code = false,
            c if !is_code => out.push(c),
            _ => {}
        }
    }
    out
}

/// A chart in ASCII: signs become others that look alike, letters stay as they are.
pub(super) fn plain(text: &str) -> String {
    let ascii = |c: char| match c {
        '█' | '▓' => '#',
        '▒' => '+',
        '░' => ':',
        '·' => '.',
        '│' => '|',
        '─' => '-',
        '┼' | '├' | '┤' | '└' | '╵' => '+',
        '●' => 'o',
        '…' => '~',
        '\u{a0}' => ' ',
        c => c,
    };
    text.chars().map(ascii).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Red, green and blue of the cube of 256 colours.
    fn cube(colour: u8) -> crate::colour::Colour {
        let level = |n: u8| if n == 0 { 0 } else { 55 + n * 40 };
        let n = colour - 16;
        crate::colour::Colour([level(n / 36), level(n / 6 % 6), level(n % 6)])
    }

    #[test]
    fn colours_are_seen_on_dark_and_on_light_ground() {
        for colour in COLOURS {
            for ground in [[0, 0, 0], [255, 255, 255]] {
                let contrast = cube(colour).contrast(crate::colour::Colour(ground));
                assert!(contrast >= 3.0, "{colour}: {contrast}");
            }
        }
    }
}
