//! Pictures: a heat map of profiles and places, how a rule narrows, and the graph of one decision.
//!
//! Each picture is drawn once, for both media: SVG, whose texts stay texts, and PNG. Names are cut to the
//! room there is; what is left out is said in the picture's last line.

mod canvas;
mod chain;
mod dot;
mod matrix;
mod narrowing;

pub use chain::chain;
pub use dot::dot;
pub use matrix::heat_map;
pub use narrowing::narrowing;

/// What a picture is made as.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Medium {
    /// Scalable Vector Graphics.
    Svg,
    /// Portable Network Graphics, 8 bits a channel.
    Png,
}
