//! HTTP (RFC 9110) with limits: nobody is followed elsewhere, no proxy is asked, and a body has an end.

use crate::{Failed, said, tls};
use std::io::Read;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use ureq::config::ConfigBuilder;
use ureq::http::{Response, header};
use ureq::tls::{Certificate, RootCerts, TlsConfig, TlsProvider};
use ureq::typestate::AgentScope;
use ureq::{Agent, Body};

/// How a service is asked: over secret connections that believe the [`authorities`](tls::authorities) of a file or the
/// system's. Every status is an answer; what times apply is for the asker to add.
///
/// # Errors
/// As for [`tls::authorities`].
pub fn secret(authority: Option<&str>, root: &Path) -> Result<ConfigBuilder<AgentScope>, Failed> {
    let authorities = tls::authorities(authority, root)?;
    let roots: Vec<Certificate> = authorities.iter().map(|der| Certificate::from_der(der).to_owned()).collect();
    let tls = TlsConfig::builder()
        .provider(TlsProvider::Rustls)
        .root_certs(RootCerts::Specific(Arc::new(roots)))
        .unversioned_rustls_crypto_provider(tls::provider())
        .build();
    Ok(clear().tls_config(tls).https_only(true))
}

/// How a service is asked over a connection that anybody on the way can read.
pub fn clear() -> ConfigBuilder<AgentScope> {
    Agent::config_builder()
        .max_redirects(0)
        .http_status_as_error(false)
        // Whom to ask is said by a manifest alone.
        .proxy(None)
        .user_agent("bastide")
}

/// How long a busy service asks to wait: in seconds, or until a time (RFC 9110, 10.2.3).
pub fn retry_after(response: &Response<Body>) -> Option<Duration> {
    let text = response.headers().get(header::RETRY_AFTER)?.to_str().ok()?.trim();
    if let Ok(seconds) = text.parse() {
        return Some(Duration::from_secs(seconds));
    }
    let until = jiff::fmt::rfc2822::parse(text).ok()?.timestamp();
    Some(Duration::try_from(until.duration_since(jiff::Timestamp::now())).unwrap_or_default())
}

/// Where an answer sends to, which is not gone to.
pub fn elsewhere(response: &Response<Body>) -> &str {
    response.headers().get(header::LOCATION).and_then(|place| place.to_str().ok()).unwrap_or("somewhere")
}

/// Why a body is of no use.
pub enum Cut {
    /// It is longer than it may be.
    TooLong,
    /// It broke off, and why.
    Broken(String),
}

/// The bytes of an answer: no more than `longest`.
///
/// # Errors
/// They are more, or come to an end too soon.
pub fn body(mut response: Response<Body>, longest: u64) -> Result<Vec<u8>, Cut> {
    let mut bytes = Vec::new();
    let mut reader = response.body_mut().with_config().limit(longest.saturating_add(1)).reader();
    let read = Read::take(&mut reader, longest.saturating_add(1)).read_to_end(&mut bytes);
    match read {
        _ if bytes.len() as u64 > longest => Err(Cut::TooLong),
        Ok(_) => Ok(bytes),
        Err(error) => Err(Cut::Broken(said(&error))),
    }
}
