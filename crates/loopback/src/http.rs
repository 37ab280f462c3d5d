//! Calls to servers on loopback.

use rustls::client::ClientConfig;
use rustls::crypto::ring;
use rustls::{DEFAULT_VERSIONS, RootCertStore};
use std::sync::Arc;
use std::time::Duration;

/// A client for what is on this machine: past any proxy, and without an authority, since nothing here is reached over TLS.
///
/// # Panics
/// Never: the protocol versions are those of the provider.
pub fn http() -> reqwest::ClientBuilder {
    // Clients of other crates, such as the one that drives the browser, use it too. It may be set already.
    let _ = ring::default_provider().install_default();
    let config = ClientConfig::builder_with_provider(Arc::new(ring::default_provider()))
        .with_protocol_versions(DEFAULT_VERSIONS)
        .expect("the provider knows the usual versions")
        .with_root_certificates(RootCertStore::empty())
        .with_no_client_auth();
    reqwest::Client::builder().no_proxy().tls_backend_preconfigured(config)
}

/// Returns such a client with defaults.
///
/// # Panics
/// When the system has no randomness.
#[must_use]
pub fn http_client() -> reqwest::Client {
    // A request without an answer fails its test instead of blocking the whole run.
    http().read_timeout(Duration::from_secs(100)).build().expect("a client")
}
