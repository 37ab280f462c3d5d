//! The outside: HTTP, folders and brokers, each behind the engine's `Links`.

pub mod amqp;
pub mod folder;
pub mod http;

use amqp::{Access, Publishers};
use http::Credentials;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use wirewatch_core::broker::Broker;
use wirewatch_core::connection::{Connection, ConnectionKind, SignIn, SignInWith};
use wirewatch_core::machine::{Effect, Outcome, Work};
use wirewatch_engine::Links;

/// Where the values of secrets are.
pub trait Secrets: std::fmt::Debug + Send + Sync {
    /// The newest value of a secret; `None` when it is not set.
    fn newest(&self, name: &str) -> Option<String>;
}

/// Performs effects over the network and in folders.
#[derive(Debug, Clone)]
pub struct Outside {
    http: reqwest::Client,
    files: PathBuf,
    secrets: Arc<dyn Secrets>,
    publishers: Arc<Publishers>,
}

impl Outside {
    /// `files` is where relative folder paths start.
    #[must_use]
    pub fn new(files: PathBuf, secrets: Arc<dyn Secrets>) -> Self {
        Self { http: http::client(), files, secrets, publishers: Arc::default() }
    }

    /// What a connection signs in with.
    ///
    /// # Errors
    /// A sentence when its secret is not set.
    fn credentials(&self, sign_in: Option<&SignIn>) -> Result<Option<Credentials>, String> {
        let Some(SignIn { secret: name, with }) = sign_in else { return Ok(None) };
        let missing = || format!("the secret `{name}` is not set; `wirewatch secret set {name}` sets it");
        let secret = self.secrets.newest(name).ok_or_else(missing)?;
        Ok(Some(Credentials { with: with.clone(), secret }))
    }

    /// What signs us in at a broker.
    ///
    /// # Errors
    /// A sentence when its secret is not set.
    pub fn access(&self, broker: &Broker) -> Result<Access, String> {
        let credentials = self.credentials(broker.sign_in.as_ref())?;
        let user = credentials.and_then(|Credentials { with, secret }| match with {
            SignInWith::Plain { user } => Some((user, secret)),
            SignInWith::Bearer | SignInWith::Basic { .. } | SignInWith::Header { .. } | SignInWith::Query { .. } => None,
        });
        Ok(Access { user })
    }

    /// The folder of a connection.
    #[must_use]
    pub fn folder(&self, path: &str) -> PathBuf {
        self.files.join(Path::new(path))
    }

    /// Reaches the other side without changing anything there; a sentence says what is wrong.
    ///
    /// # Errors
    /// The sentence, with what to do.
    pub async fn test(&self, connection: &Connection) -> Result<String, String> {
        match &connection.kind {
            ConnectionKind::Http { address, wait, sign_in, look_at } => {
                let credentials = self.credentials(sign_in.as_ref())?;
                http::test(&self.http, address, look_at.as_deref(), *wait, credentials.as_ref()).await
            }
            ConnectionKind::Folder { path, .. } => folder::test(&self.folder(path)).await,
            ConnectionKind::Amqp(broker) => amqp::test(broker, &self.access(broker)?).await,
            ConnectionKind::Webhook(_) => Ok("it is called by the other side; fire a call there to test it".to_owned()),
        }
    }
}

impl Links for Outside {
    async fn perform(&self, connection: &Connection, work: &Work) -> Outcome {
        match (&connection.kind, &work.effect) {
            (ConnectionKind::Http { address, wait, sign_in, .. }, Effect::Call { method, path, body, .. }) => {
                let credentials = match self.credentials(sign_in.as_ref()) {
                    Ok(credentials) => credentials,
                    Err(says) => return Outcome::Held { says, status: 0 },
                };
                let (wait, method, body, key) = (*wait, *method, body.as_ref(), work.key);
                let request = http::Request { address, wait, method, path, body, key, credentials };
                http::call(&self.http, &request, connection.repeat).await
            }
            (ConnectionKind::Folder { path, .. }, Effect::Send { file, body, .. }) => {
                folder::write(&self.folder(path), file, &body.0).await
            }
            (ConnectionKind::Amqp(broker), Effect::Publish { post, body, .. }) => match self.access(broker) {
                Ok(access) => {
                    let publisher = self.publishers.at(&connection.name, broker, &access);
                    publisher.send(post, body, work.key, connection.repeat).await
                }
                Err(says) => Outcome::Held { says, status: 0 },
            },
            (ConnectionKind::Http { .. }, Effect::Send { .. } | Effect::Publish { .. })
            | (ConnectionKind::Folder { .. }, Effect::Call { .. } | Effect::Publish { .. })
            | (ConnectionKind::Amqp(_), Effect::Call { .. } | Effect::Send { .. })
            | (ConnectionKind::Webhook(_), Effect::Send { .. } | Effect::Call { .. } | Effect::Publish { .. }) => {
                let kind = connection.kind_name();
                let says = format!("the connection {} cannot do this: it is of the kind {kind}", connection.name);
                Outcome::Held { says, status: 0 }
            }
        }
    }
}
