//! Access tokens obtained with our own credentials (RFC 6749, 4.4), cached until shortly before they expire.

use serde::Deserialize;
use std::collections::HashMap;
use std::sync::Mutex;
use std::time::{Duration, Instant};
use wirewatch_core::Digest;
use wirewatch_core::connection::TokenRequest;

/// A token is not used in its last seconds: it would expire on the way.
const EARLY: Duration = Duration::from_secs(30);
/// Lifetime of a token when the server does not give one.
const UNSAID: Duration = Duration::from_secs(300);

/// The tokens in use.
#[derive(Default)]
pub struct Tokens {
    known: Mutex<HashMap<Digest, (String, Instant)>>,
}

impl std::fmt::Debug for Tokens {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Tokens").finish_non_exhaustive()
    }
}

#[derive(Deserialize)]
struct Granted {
    access_token: String,
    expires_in: Option<u64>,
}

impl Tokens {
    /// Returns a token; requests one if none is valid.
    ///
    /// # Errors
    /// A sentence when no token can be obtained.
    pub async fn get(
        &self,
        client: &reqwest::Client,
        request: &TokenRequest,
        secret: &str,
        timeout: Duration,
    ) -> Result<String, String> {
        let name = Self::name(request, secret);
        if let Some((token, until)) = self.known.lock().expect("no holder panics").get(&name)
            && *until > Instant::now()
        {
            return Ok(token.clone());
        }
        let TokenRequest { token_at, client: who, scope } = request;
        let mut form = vec![("grant_type", "client_credentials")];
        form.extend((!scope.is_empty()).then_some(("scope", scope.as_str())));
        let failed = |says: String| format!("no token from {token_at}: {says}");
        let asked = client.post(token_at).basic_auth(who, Some(secret)).timeout(timeout).form(&form).send().await;
        let response = asked.map_err(|error| failed(super::http::deepest(&error.without_url())))?;
        let status = response.status().as_u16();
        if status == 400 || status == 401 {
            return Err(failed(format!("it answers {status}: {who} or its secret is wrong")));
        }
        if status != 200 {
            return Err(failed(format!("it answers {status}")));
        }
        let granted: Granted = response.json().await.map_err(|_| failed("its answer has no access_token".to_owned()))?;
        let lasts = granted.expires_in.map_or(UNSAID, Duration::from_secs).saturating_sub(EARLY);
        let until = Instant::now() + lasts;
        self.known.lock().expect("no holder panics").insert(name, (granted.access_token.clone(), until));
        Ok(granted.access_token)
    }

    /// Records that a server rejected the token: the next call requests a new one.
    pub fn forget(&self, request: &TokenRequest, secret: &str) {
        self.known.lock().expect("no holder panics").remove(&Self::name(request, secret));
    }

    fn name(request: &TokenRequest, secret: &str) -> Digest {
        Digest::of(&[request.token_at.as_bytes(), request.client.as_bytes(), request.scope.as_bytes(), secret.as_bytes()])
    }
}
