//! Loops over columns and bytes: the only crate of the workspace that holds `unsafe` code.
//!
//! Nothing here knows of plans, files or schemas. Each kernel takes slices and gives slices; each has a plain
//! twin in its tests that it must agree with.
//!
//! | module | what it is for |
//! | --- | --- |
//! | [`numbering`] | keys of 16 bytes numbered by first appearance |
//! | [`byte_numbering`] | keys of any length numbered by first appearance |
//! | [`structure`] | separators and line ends of delimited text, quotes respected |
//! | [`grid`] | rows of delimited text, and the places of the cells that are needed |
//! | [`cells`] | columns of numbers, days and texts from their cells |
//! | [`number`] | whole numbers and decimal fractions from text |
//! | [`calendar`] | days, times and timestamps from and to text and fields |
//! | [`columns`] | element-wise loops over one or two columns |
//! | [`digits`] | numbers as text |
//! | [`double`] | sums that carry their own rounding error |
//! | [`gather`] | rows taken from the parts of a column in any order |
//! | [`distinct`] | about how many different keys there are |
//! | [`lines`] | rows as lines of text, copied to their places |
//! | [`hash`] | hashes of fixed-width and byte keys |
//! | [`dense`] | numbers of keys that stand close together |
//! | [`memory`] | how the process gives memory back |
//! | [`pool`] | blocks of bytes that are used again |
//! | [`prefetch`] | memory brought near before it is needed |
//! | [`search`] | values looked for among bounds |
//! | [`sorting`] | numbers of a narrow range put in order |
//! | [`sums`] | sums that carry their rounding error, many at once |
//! | [`text_search`] | a text that is looked for within the texts of a column |
//! | [`threads`] | a pool of threads for the parts of a run |
//! | [`views`] | text columns that point into a block of text |

mod borders;
pub mod byte_numbering;
pub mod calendar;
pub mod cells;
mod chunk;
pub mod columns;
mod date_parsing;
pub mod dense;
pub mod digits;
pub mod distinct;
pub mod double;
pub mod gather;
pub mod grid;
pub mod hash;
pub mod json_ends;
pub mod known;
pub mod lines;
mod long_rows;
mod masks;
pub mod memory;
pub mod moments;
pub mod number;
mod number_parsing;
pub mod numbering;
pub mod passthrough;
mod perfect_hash;
pub mod pool;
pub mod prefetch;
pub mod search;
pub mod sorting;
pub mod structure;
pub mod sums;
pub mod text_search;
pub mod threads;
pub mod views;
pub mod word_set;
