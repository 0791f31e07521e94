//! The command line: commands, their answers as text and for programs, the full-screen view.
//!
//! A library beside a program of three lines, since cargo begins with a library while what it stands on is still being
//! compiled, and with a program only afterwards. Nothing else uses it: what others can use is in the other crates, see
//! `docs/library.md`.

mod about;
mod answers;
mod changing;
mod cli;
mod commands;
mod complete;
mod demo;
mod examples;
mod explore;
mod failure;
mod found;
mod history;
mod open;
mod print;
mod progress;
mod revision;
mod shells;
mod terminal;
mod tidy;
mod whole;

pub use cli::main;
