//! Charts: the figures of a table as marks, and marks as SVG, PNG or characters.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `statistics` | many numbers in bounded memory: bins, spreads, grids |
//! | `figure` | a chart as figures: axes, panels, series |
//! | `scale` | where a number lies on an axis, and which are marked |
//! | `colour`, `font` | the palette and the font, measured |
//! | `layout` | where figures lie in a picture: marks |
//! | `svg`, `png` | marks, written |
//! | `terminal` | figures in characters |
//! | `text` | texts as documents hold them |

#![forbid(unsafe_code)]

pub mod colour;
pub mod figure;
pub mod font;
pub mod layout;
pub mod mark;
pub mod png;
pub mod scale;
pub mod statistics;
pub mod svg;
pub mod terminal;
pub mod text;
