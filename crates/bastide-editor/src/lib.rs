//! While rules are written: the Language Server Protocol (3.17) for policy files, the manifest and the tables of an estate.
//!
//! [`serve`] speaks with one client. Texts that are open count as they stand in the editor, saved or not. All that is known of
//! estates lies with one thread, which answers in the order in which it is asked; what takes long (what rules reach, findings)
//! is worked out while nobody waits, and given up as soon as anything comes in.
#![warn(clippy::print_stdout)]

mod commands;
mod complete;
mod desk;
mod documents;
mod hover;
mod lens;
mod lines;
mod names;
mod outline;
mod publish;
mod service;
mod subject;
mod tables;
mod words;

use bastide_audit::Finding;
use bastide_engine::Snapshot;
use bastide_engine::access::Reached;
use bastide_formats::Loaded;
use bastide_model::{ActionId, Moment, ResourceId, UserId};
use jiff::civil::Date;
use std::path::Path;

pub use complete::{Offered, offered_in};
pub use lsp_server::Connection;
pub use service::{Ended, serve};

/// How answers are put into words, and what the audit goes by: the program's own way.
pub trait Voice: Send + Sync {
    /// The day it is.
    fn today(&self) -> Date;
    /// What the audit finds.
    fn audit(&self, loaded: &Loaded, root: &Path, moment: &Moment) -> Vec<Finding>;
    /// What a rule reaches.
    fn reach(&self, reached: &Reached) -> String;
    /// One decision.
    fn why(&self, snapshot: &Snapshot, user: UserId, action: ActionId, resource: ResourceId) -> String;
    /// What changes from one snapshot to another.
    fn change(&self, before: &Snapshot, after: &Snapshot) -> String;
}
