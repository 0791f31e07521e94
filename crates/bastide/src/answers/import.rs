//! What `import` answers.

use super::verify::Verified;
use bastide_answers::answer;
use bastide_answers::difference::{Blocks, Movement, Radius};
use bastide_answers::prove::Proof;

answer! {
    /// What came of an import, and what it does.
    pub struct Imported of crate::found::import::Imported {
        /// The systems that were read.
        pub imports: Vec<Source>,
        /// Whether there was no estate to compare with.
        pub first: bool,
        /// What came and went.
        pub movements: Vec<Movement>,
        /// How far it reaches.
        pub radius: Option<Radius>,
        /// Gains and losses, the most consequential first.
        pub blocks: Option<Blocks>,
        /// Expectations and guarantees that held before and would not any more.
        pub broken: Vec<Proof>,
        /// Our decisions beside those of the systems, where these were asked.
        pub verified: Option<Verified>,
        /// Files that were written.
        pub written: Vec<String>,
    }

    /// A system that was read.
    pub struct Source of crate::found::import::Source {
        /// The name of the import.
        pub name: String,
        /// Where it was read.
        pub from: String,
        /// The files that hold what came.
        pub files: Vec<Text>,
        /// What could not be taken along.
        pub left: Vec<Left>,
    }

    /// A file that holds what came.
    pub struct Text of crate::found::import::Text {
        /// The file.
        pub file: String,
        /// Whether it is another one than is saved, or none is.
        pub differs: bool,
        /// Whether none is saved.
        pub new: bool,
        /// Whether the manifest names it anywhere; otherwise nobody reads it.
        pub read: bool,
    }

    /// Something that could not be taken along.
    pub struct Left of crate::found::import::Left {
        /// What it is.
        pub what: String,
        /// How many of them.
        pub count: usize,
        /// Some of them by name.
        pub some: Vec<String>,
    }
}
