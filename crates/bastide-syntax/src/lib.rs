//! Text to tree: the lexer, the parser and the tree of the policy language, and the [`Diagnostic`]
//! that every part of Bastide reports with. Knows nothing of estates, files on disk or terminals.
#![warn(clippy::print_stdout)]

pub mod codes;
pub mod diagnostic;
pub mod format;
pub mod hidden;
pub mod lexer;
pub mod nearest;
pub mod parser;
pub mod quote;
pub mod source;
pub mod tree;
mod visible;

pub use diagnostic::{Diagnostic, Diagnostics, Edit, Help, Label, Severity};
pub use parser::parse;
pub use source::{FileId, Position, Sources, Span};
pub use visible::{escaped_json, no_commands, visible};
