//! TLS: trusted authorities, and our own certificate.

use rustls::RootCertStore;
use rustls::client::ClientConfig;
use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::sync::{Arc, OnceLock};

/// Returns the configuration with the system's authorities, or with `authority` (PEM) alone, and with our own `certificate` and
/// its key (PEM) if given.
///
/// # Errors
/// A sentence that names the PEM text at fault.
pub fn config(authority: Option<&str>, certificate: Option<&str>) -> Result<ClientConfig, String> {
    let roots = match authority {
        None => system().clone(),
        Some(pem) => {
            let mut roots = RootCertStore::empty();
            for certificate in certificates(pem).map_err(|says| format!("the authority's certificate: {says}"))? {
                roots.add(certificate).map_err(|error| format!("the authority's certificate: {error}"))?;
            }
            Arc::new(roots)
        }
    };
    let builder = ClientConfig::builder_with_provider(Arc::new(ring::default_provider()))
        .with_safe_default_protocol_versions()
        .map_err(|error| error.to_string())?
        .with_root_certificates(roots);
    let Some(pem) = certificate else { return Ok(builder.with_no_client_auth()) };
    let ours = |says: String| format!("our client certificate: {says}");
    let chain = certificates(pem).map_err(ours)?;
    let key = PrivateKeyDer::from_pem_slice(pem.as_bytes()).map_err(|error| ours(format!("its key cannot be read: {error}")))?;
    builder.with_client_auth_cert(chain, key).map_err(|error| ours(error.to_string()))
}

fn certificates(pem: &str) -> Result<Vec<CertificateDer<'static>>, String> {
    let all: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(pem.as_bytes()).collect();
    match all {
        Ok(all) if all.is_empty() => Err("the text has none".to_owned()),
        Ok(all) => Ok(all),
        Err(error) => Err(error.to_string()),
    }
}

/// The system's authorities, read once. Without any, every server is unknown, and that is reported.
fn system() -> &'static Arc<RootCertStore> {
    static SYSTEM: OnceLock<Arc<RootCertStore>> = OnceLock::new();
    SYSTEM.get_or_init(|| {
        let mut roots = RootCertStore::empty();
        let found = rustls_native_certs::load_native_certs();
        for error in &found.errors {
            tracing::warn!(%error, "an authority of the system cannot be read");
        }
        roots.add_parsable_certificates(found.certs);
        Arc::new(roots)
    })
}

/// Returns what is wrong with a TLS connection and what to do, if TLS is the cause.
#[must_use]
pub fn trouble(cause: &str) -> Option<String> {
    let does = |what: &str| Some(format!("{what} ({cause})"));
    // A signature is bad too where another authority bears the same name.
    if cause.contains("UnknownIssuer") || cause.contains("BadSignature") {
        does(
            "its certificate is from an unknown authority: put the authority's certificate into authorities/NAME.pem and write authority = \"NAME\"",
        )
    } else if cause.contains("NotValidForName") || cause.contains("not valid for name") {
        does("its certificate is for another host name: check the host in the address")
    } else if cause.contains("Expired") || cause.contains("expired") {
        does("its certificate has expired: have it renewed there")
    } else if cause.contains("CertificateRequired") || cause.contains("HandshakeFailure") || cause.contains("BadCertificate") {
        does("it needs a client certificate, or does not accept ours: write certificate = \"SECRET\"")
    } else if cause.contains("UnknownCA") {
        does("it does not know the issuer of our certificate")
    } else if cause.contains("InvalidContentType") || cause.contains("corrupt message") {
        does("it does not speak TLS: write http://, or check the port")
    } else {
        None
    }
}
