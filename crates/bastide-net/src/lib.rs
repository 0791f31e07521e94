//! What is needed to read from other machines: where secrets are, whom a secret connection believes, HTTP with limits, and
//! object storage.
//!
//! Nothing here knows what an estate is. What comes from outside is believed in nothing: sizes have limits, whoever sends
//! elsewhere is not followed, and no secret is in any message.
//!
//! ```no_run
//! use bastide_net::objects::{Settings, Storage};
//!
//! let settings = Settings { at: "https://storage.example".to_string(), ..Settings::default() };
//! let storage = Storage::open(&settings, std::path::Path::new("."))?;
//! for object in storage.list("catalog", "2026/part-")? {
//!     println!("{}: {} bytes", object.key, storage.read("catalog", &object)?.len());
//! }
//! # Ok::<(), bastide_net::Failed>(())
//! ```

pub mod http;
pub mod objects;
pub mod secret;
pub mod tls;

/// Why nothing came of another machine. Nothing of a secret is in it.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{0}")]
pub struct Failed(pub String);

impl Failed {
    /// For a reason, in words.
    pub fn new(message: impl Into<String>) -> Failed {
        Failed(message.into())
    }
}

/// What went wrong on the way, with the causes that an error of a library holds.
pub fn said(error: &dyn std::error::Error) -> String {
    let mut said = error.to_string();
    let mut cause = error.source();
    while let Some(deeper) = cause {
        let text = deeper.to_string();
        if !said.contains(&text) {
            said = format!("{said}: {text}");
        }
        cause = deeper.source();
    }
    said
}

/// Whether a host is this machine itself, where nobody else listens.
pub fn is_here(host: &str) -> bool {
    let host = host.trim_start_matches('[').trim_end_matches(']');
    host.is_empty() || host == "localhost" || host.parse().is_ok_and(|ip: std::net::IpAddr| ip.is_loopback())
}
