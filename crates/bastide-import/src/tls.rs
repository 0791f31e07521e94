//! Whom a secret connection believes: the authorities of the system, or those of a file that the manifest names.

use crate::{Asking, Failed};
use bastide_formats::manifest::Import;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use std::sync::Arc;

/// The configuration of connections for an import.
pub fn config(import: &Import, asking: &Asking) -> Result<Arc<ClientConfig>, Failed> {
    let mut roots = RootCertStore::empty();
    match &import.authority {
        Some(file) => {
            let unread = |why: String| Failed::new(format!("the authorities in `{}` cannot be read: {why}", file.text));
            let certificates =
                CertificateDer::pem_file_iter(asking.root.join(&file.text)).map_err(|e| unread(e.to_string()))?;
            for certificate in certificates {
                let certificate = certificate.map_err(|e| unread(e.to_string()))?;
                roots.add(certificate).map_err(|e| unread(e.to_string()))?;
            }
            if roots.is_empty() {
                return Err(unread("it holds no certificate".to_string()));
            }
        }
        None => {
            let found = rustls_native_certs::load_native_certs();
            roots.add_parsable_certificates(found.certs);
            if roots.is_empty() {
                return Err(Failed::new("the system names no authorities to believe: name a file by `authority`"));
            }
        }
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let builder = builder.map_err(|e| Failed::new(format!("no secret connection can be made: {e}")))?;
    Ok(Arc::new(builder.with_root_certificates(roots).with_no_client_auth()))
}
