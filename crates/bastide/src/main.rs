//! Who can do what, where, why, what changes if, and what is wrong.

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

fn main() -> std::process::ExitCode {
    cli::main()
}
