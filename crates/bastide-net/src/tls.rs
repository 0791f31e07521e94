//! Whom a secret connection believes: the authorities of the system, or those of a file that a manifest names.

use crate::Failed;
use rustls::crypto::CryptoProvider;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use std::path::Path;
use std::sync::Arc;

/// The certificates of the authorities that are believed: those of a file, relative to `root`, or the system's.
///
/// # Errors
/// The file cannot be read or holds none, or the system has none.
pub fn authorities(file: Option<&str>, root: &Path) -> Result<Vec<CertificateDer<'static>>, Failed> {
    let found = match file {
        Some(file) => {
            let unread = |why: String| Failed::new(format!("the authorities in `{file}` cannot be read: {why}"));
            let certificates = CertificateDer::pem_file_iter(root.join(file));
            let certificates: Result<Vec<CertificateDer>, _> =
                certificates.map_err(|e| unread(e.to_string()))?.collect();
            let certificates = certificates.map_err(|e| unread(e.to_string()))?;
            if certificates.is_empty() {
                return Err(unread("it holds no certificate".to_string()));
            }
            certificates
        }
        None => rustls_native_certs::load_native_certs().certs,
    };
    match found.is_empty() {
        true => Err(Failed::new("the system names no authorities to believe: name a file by `authority`")),
        false => Ok(found),
    }
}

/// What connections are made secret with.
pub fn provider() -> Arc<CryptoProvider> {
    Arc::new(rustls::crypto::ring::default_provider())
}

/// The configuration of connections, for [`authorities`] as they are said there.
///
/// # Errors
/// As for [`authorities`], or one of a file cannot be believed.
pub fn config(file: Option<&str>, root: &Path) -> Result<Arc<ClientConfig>, Failed> {
    let mut roots = RootCertStore::empty();
    let found = authorities(file, root)?;
    if file.is_some() {
        for certificate in found {
            roots.add(certificate).map_err(|e| Failed::new(format!("an authority cannot be believed: {e}")))?;
        }
    } else {
        // Of the system's, some may be of a kind that is not known here.
        roots.add_parsable_certificates(found);
    }
    let builder = ClientConfig::builder_with_provider(provider()).with_safe_default_protocol_versions();
    let builder = builder.map_err(|e| Failed::new(format!("no secret connection can be made: {e}")))?;
    Ok(Arc::new(builder.with_root_certificates(roots).with_no_client_auth()))
}
