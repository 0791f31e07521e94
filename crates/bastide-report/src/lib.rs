//! What is handed over: one page for people who do not use terminals, and pictures.
//!
//! [`Report`] gathers everything the page says, in plain values; [`page`] puts it into one file that needs no
//! network, no other file and no program but a browser. No input or output, no clock.
#![warn(clippy::print_stdout)]

mod exposure;
mod findings;
mod folded;
mod heat;
mod overview;
mod page;
pub mod picture;
mod power;
mod report;

pub use exposure::{Exposed, Exposure};
pub use findings::{FindingGroup, MOST_FINDINGS};
pub use folded::{Folded, Line, PersonRef, Place};
pub use heat::{Heat, HeatPlace, HeatRow};
pub use overview::{First, Overview, Tile};
pub use page::page;
pub use power::{FullPower, Weight};
pub use report::{Changes, Report, Sources};
