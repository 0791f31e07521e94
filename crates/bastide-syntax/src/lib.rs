//! Text to tree: the lexer, the parser and the tree of the policy language, and the [`Diagnostic`]
//! that every part of Bastide reports with. Knows nothing of estates, files on disk or terminals.
//!
//! ```
//! use bastide_syntax::{FileId, parse};
//!
//! let text = "rule staff-read { because \"Staff read.\" who members of staff may read what anything }";
//! let parsed = parse(FileId(0), text);
//! assert!(parsed.diagnostics.is_empty());
//! assert_eq!(parsed.tree.declarations.len(), 1);
//!
//! // A mistake has a code and a place; what stands beside it is read all the same.
//! let parsed = parse(FileId(0), &text.replace("may read", "my read"));
//! let mistake = &parsed.diagnostics[0];
//! assert!(mistake.is_error() && mistake.place.is_some());
//! ```
//!
//! The main types: [`tree::File`] and what it holds, [`Diagnostic`], [`Sources`] for showing places.
#![warn(clippy::print_stdout)]

pub mod codes;
pub mod diagnostic;
pub mod format;
pub mod hidden;
pub mod lexer;
pub mod mentions;
pub mod nearest;
pub mod parser;
pub mod quote;
pub mod source;
pub mod tree;
mod visible;

pub use codes::Severity;
pub use diagnostic::{Diagnostic, Diagnostics, Edit, Help, Label};
pub use parser::{Wanted, parse, wanted};
pub use source::{FileId, Position, Sources, Span};
pub use visible::{escaped_json, no_commands, visible};
