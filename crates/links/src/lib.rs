//! The outside: HTTP, folders and brokers, each behind the engine's `Links`.

pub mod amqp;
pub mod folder;
pub mod http;
mod tls;
mod tokens;

use amqp::{Access, Publishers, Sessions, Unreached};
use folder::Roots;
use http::{Credentials, Means};
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use tokens::Tokens;
use tokio::sync::Notify;
use tokio::sync::futures::Notified;
use wirewatch_core::Digest;
use wirewatch_core::broker::Broker;
use wirewatch_core::connection::{Auth, AuthMethod, Connection, ConnectionKind, Http, RepeatRule};
use wirewatch_core::flow::Method;
use wirewatch_core::machine::{Body, Effect, Outcome, Work};
use wirewatch_engine::Links;

/// Source of the values of secrets.
pub trait Secrets: std::fmt::Debug + Send + Sync {
    /// The newest value of a secret; `None` when it is not set.
    fn newest(&self, name: &str) -> Option<String>;
}

/// HTTP clients by TLS and proxy settings; each reuses its connections.
#[derive(Debug, Default)]
struct Callers {
    known: Mutex<HashMap<Digest, reqwest::Client>>,
}

/// Most clients in the cache; more arise only from changed certificates, and then the old ones are not used any more.
const CALLERS: usize = 64;

impl Callers {
    fn with(&self, means: Means<'_>) -> Result<reqwest::Client, String> {
        let parts = [means.authority, means.certificate, means.proxy].map(|part| part.unwrap_or_default().as_bytes());
        let name = Digest::of(&parts);
        let mut known = self.known.lock().expect("no holder panics");
        if let Some(client) = known.get(&name) {
            return Ok(client.clone());
        }
        let client = http::client(means)?;
        if known.len() >= CALLERS {
            known.clear();
        }
        known.insert(name, client.clone());
        Ok(client)
    }
}

/// Performs effects over the network and in folders.
#[derive(Debug, Clone)]
pub struct Outside {
    callers: Arc<Callers>,
    tokens: Arc<Tokens>,
    folders: Roots,
    secrets: Arc<dyn Secrets>,
    changed: Arc<Notify>,
    publishers: Arc<Publishers>,
    sessions: Arc<Sessions>,
}

impl Outside {
    /// Creates the links; `folders` are the allowed roots.
    #[must_use]
    pub fn new(folders: Roots, secrets: Arc<dyn Secrets>) -> Self {
        Self {
            callers: Arc::default(),
            tokens: Arc::default(),
            folders,
            secrets,
            changed: Arc::default(),
            publishers: Arc::default(),
            sessions: Arc::default(),
        }
    }

    /// Wakes intakes that could not receive, since secrets have changed: they try again at once.
    pub fn secrets_changed(&self) {
        self.changed.notify_waiters();
    }

    /// Resolves at the next change of any secret after this call.
    fn secrets_change(&self) -> Notified<'_> {
        self.changed.notified()
    }

    /// Returns the credentials of a connection.
    ///
    /// # Errors
    /// A sentence when its secret is not set.
    fn credentials(&self, auth: Option<&Auth>) -> Result<Option<Credentials>, String> {
        let Some(Auth { secret: name, with }) = auth else { return Ok(None) };
        let secret = self.secret(name)?;
        Ok(Some(Credentials { with: with.clone(), secret }))
    }

    fn secret(&self, name: &str) -> Result<String, String> {
        let missing = || format!("the secret `{name}` is not set; `wirewatch secret set {name}` sets it");
        self.secrets.newest(name).ok_or_else(missing)
    }

    /// Returns the client and credentials for a server, with an access token if it needs one.
    ///
    /// # Errors
    /// A sentence when a secret is not set, a certificate cannot be used, or no token can be obtained.
    async fn caller(&self, http: &Http) -> Result<(reqwest::Client, Option<Credentials>), String> {
        let certificate = http.certificate.as_ref().map(|name| self.secret(name)).transpose()?;
        let (authority, proxy) = (http.authority.as_deref(), http.proxy.as_deref());
        let client = self.callers.with(Means { authority, certificate: certificate.as_deref(), proxy })?;
        let mut credentials = self.credentials(http.auth.as_ref())?;
        if let Some(Credentials { with: AuthMethod::ClientCredentials(request), secret }) = &mut credentials {
            *secret = self.tokens.get(&client, request, secret, http.timeout).await?;
        }
        Ok((client, credentials))
    }

    /// Performs a call; a rejected access token is replaced for the next call.
    async fn call(&self, http: &Http, work: &Work, method: Method, path: &str, body: Option<&Body>, rule: RepeatRule) -> Outcome {
        let (client, credentials) = match self.caller(http).await {
            Ok(caller) => caller,
            Err(says) => return Outcome::Held { says, status: 0 },
        };
        let Http { address, timeout, .. } = http;
        let request = http::Request { address, timeout: *timeout, method, path, body, key: work.key, credentials };
        let outcome = http::call(&client, &request, rule).await;
        if let (401, Some(Auth { secret, with: AuthMethod::ClientCredentials(token) })) = (outcome.status(), &http.auth)
            && let Ok(secret) = self.secret(secret)
        {
            self.tokens.forget(token, &secret);
        }
        outcome
    }

    /// Returns the credentials for a broker.
    ///
    /// # Errors
    /// A sentence when its secret is not set.
    pub fn access(&self, broker: &Broker) -> Result<Access, String> {
        let credentials = self.credentials(broker.auth.as_ref())?;
        let user = credentials.and_then(|Credentials { with, secret }| match with {
            AuthMethod::Plain { user } => Some((user, secret)),
            AuthMethod::Bearer
            | AuthMethod::Basic { .. }
            | AuthMethod::Header { .. }
            | AuthMethod::Query { .. }
            | AuthMethod::ClientCredentials(_) => None,
        });
        Ok(Access { user })
    }

    /// Returns a connection to a broker, shared by intakes.
    ///
    /// # Errors
    /// A sentence when a secret is not set or the broker cannot be reached.
    async fn session(&self, connection: &str, broker: &Broker) -> Result<Arc<lapin::Connection>, Unreached> {
        let access = self.access(broker).map_err(Unreached)?;
        self.sessions.open(connection, broker, &access).await
    }

    /// Returns the folder of a connection.
    ///
    /// # Errors
    /// A sentence with what to do, when it is outside the allowed roots.
    pub fn folder(&self, path: &str) -> Result<PathBuf, String> {
        self.folders.folder(path)
    }

    /// Connects to the other side without changing anything there, and returns a sentence about it.
    ///
    /// # Errors
    /// A sentence about the fault, with what to do.
    pub async fn test(&self, connection: &Connection) -> Result<String, String> {
        match &connection.kind {
            ConnectionKind::Http(http) => {
                let (client, credentials) = self.caller(http).await?;
                http::test(&client, &http.address, http.probe.as_deref(), http.timeout, credentials.as_ref()).await
            }
            ConnectionKind::Folder { path, .. } => folder::test(&self.folder(path)?).await,
            ConnectionKind::Amqp(broker) => amqp::test(broker, &self.access(broker)?).await,
            ConnectionKind::Incidents => Ok("it reports incidents of this service; there is nothing to reach".to_owned()),
            ConnectionKind::Webhook(_) => Ok("the other side calls it; to test it, submit a call".to_owned()),
        }
    }
}

impl Links for Outside {
    async fn perform(&self, connection: &Connection, work: &Work) -> Outcome {
        match (&connection.kind, &work.effect) {
            (ConnectionKind::Http(http), Effect::Call { method, path, body, .. }) => {
                self.call(http, work, *method, path, body.as_ref(), connection.repeat).await
            }
            (ConnectionKind::Folder { path, .. }, Effect::Send { file, body, .. }) => match self.folder(path) {
                Ok(folder) => folder::write(&folder, file, &body.0).await,
                Err(says) => Outcome::Held { says, status: 0 },
            },
            (ConnectionKind::Amqp(broker), Effect::Publish { post, body, .. }) => match self.access(broker) {
                Ok(access) => {
                    let publisher = self.publishers.at(&connection.name, broker, &access);
                    publisher.send(post, body, work.key, connection.repeat).await
                }
                Err(says) => Outcome::Held { says, status: 0 },
            },
            (ConnectionKind::Http(_), Effect::Send { .. } | Effect::Publish { .. })
            | (ConnectionKind::Folder { .. }, Effect::Call { .. } | Effect::Publish { .. })
            | (ConnectionKind::Amqp(_), Effect::Call { .. } | Effect::Send { .. })
            | (
                ConnectionKind::Webhook(_) | ConnectionKind::Incidents,
                Effect::Send { .. } | Effect::Call { .. } | Effect::Publish { .. },
            ) => {
                let kind = connection.kind_name();
                let says = format!("the connection {} cannot do this, because its kind is {kind}", connection.name);
                Outcome::Held { says, status: 0 }
            }
        }
    }
}
