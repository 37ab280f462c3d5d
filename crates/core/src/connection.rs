//! Connections: where outside systems are, and what may be expected of them. Always the current ones apply.

use crate::broker::Broker;
use crate::webhook::Webhook;
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// An outside system as the workspace describes it.
#[derive(Debug, Clone, PartialEq)]
pub struct Connection {
    pub name: String,
    pub title: String,
    pub kind: ConnectionKind,
    pub repeat: RepeatRule,
    /// Effects at a time, at most.
    pub in_flight: u32,
    /// Effects in a minute, at most, evenly spread.
    pub per_minute: Option<u32>,
    /// The other side's own page, for people.
    pub page: Option<String>,
    /// For people: the owner, and what must be set up there; may be empty.
    pub notes: String,
}

/// Kind of a connection, with its settings.
#[derive(Debug, Clone, PartialEq)]
pub enum ConnectionKind {
    Folder {
        /// Relative paths start at the service's folder for files.
        path: String,
        /// How long a file must be unchanged when nothing else shows that it is complete.
        settle: Duration,
    },
    Http(Box<Http>),
    /// An address of ours that the other side calls.
    Webhook(Box<Webhook>),
    /// A message broker, by AMQP 0-9-1.
    Amqp(Box<Broker>),
    /// Incidents of the service itself: see [`incident`](crate::incident).
    Incidents,
}

/// A server that is called over HTTP.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Http {
    /// `https://host:port/base`, without a slash at the end.
    pub address: String,
    /// Longest time for an answer.
    pub timeout: Duration,
    pub auth: Option<Auth>,
    /// A path that answers to everybody who is let in, for tests; the address itself when left out.
    pub probe: Option<String>,
    /// Certificates (PEM) of the only authority trusted for this server; the system's authorities when left out.
    pub authority: Option<String>,
    /// Name of the secret with our own certificate and its key (PEM), if the server requires one.
    pub certificate: Option<String>,
    /// `http://host:port` through which it is reached.
    pub proxy: Option<String>,
}

/// How requests are authenticated.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Auth {
    /// Name of the secret.
    pub secret: String,
    pub with: AuthMethod,
}

/// Where the secret is in a request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AuthMethod {
    /// `Authorization: Bearer …` (RFC 6750).
    Bearer,
    /// `Authorization: Basic …`, the secret being the password (RFC 7617).
    Basic { user: String },
    /// A header of that name.
    Header { name: String },
    /// A parameter of that name in the query.
    Query { name: String },
    /// An access token obtained with our own credentials (RFC 6749, 4.4); the secret is the client's.
    ClientCredentials(Box<TokenRequest>),
    /// SASL PLAIN, the secret being the password (RFC 4616); at brokers.
    Plain { user: String },
}

/// Where an access token is obtained, and for what.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TokenRequest {
    pub token_at: String,
    /// Client id of this service there.
    pub client: String,
    /// The requested scope; empty when the server decides.
    pub scope: String,
}

impl Auth {
    /// Returns it in words for people.
    #[must_use]
    pub fn words(&self) -> String {
        match &self.with {
            AuthMethod::Bearer => "with a bearer token".to_owned(),
            AuthMethod::Basic { user } | AuthMethod::Plain { user } => format!("as {user}, with a password"),
            AuthMethod::ClientCredentials(request) => format!("as {}, with a token from {}", request.client, request.token_at),
            AuthMethod::Header { name } => format!("with a key in the header {name}"),
            AuthMethod::Query { name } => format!("with a key in the parameter {name}"),
        }
    }
}

/// Effect of a repeated request at this receiver.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RepeatRule {
    /// Idempotent: the receiver ignores repeats of the same key.
    Key,
    /// A repeat changes nothing, as when a file of the same name is written again.
    Safe,
    /// Not known: after a crash in between, a person decides.
    Never,
}

impl RepeatRule {
    /// Returns the word in a connection's file.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Key => "key",
            Self::Safe => "safe",
            Self::Never => "never",
        }
    }
}

impl Connection {
    /// Returns the word for its kind in files and lists.
    #[must_use]
    pub fn kind_name(&self) -> &'static str {
        match self.kind {
            ConnectionKind::Folder { .. } => "folder",
            ConnectionKind::Http(_) => "http",
            ConnectionKind::Webhook(_) => "webhook",
            ConnectionKind::Amqp(_) => "amqp",
            ConnectionKind::Incidents => "incidents",
        }
    }

    /// The webhook it is, if it is one.
    #[must_use]
    pub fn webhook(&self) -> Option<&Webhook> {
        match &self.kind {
            ConnectionKind::Webhook(webhook) => Some(webhook),
            ConnectionKind::Folder { .. } | ConnectionKind::Http(_) | ConnectionKind::Amqp(_) | ConnectionKind::Incidents => None,
        }
    }

    /// The broker it is, if it is one.
    #[must_use]
    pub fn broker(&self) -> Option<&Broker> {
        match &self.kind {
            ConnectionKind::Amqp(broker) => Some(broker),
            ConnectionKind::Folder { .. } | ConnectionKind::Http(_) | ConnectionKind::Webhook(_) | ConnectionKind::Incidents => {
                None
            }
        }
    }

    /// Every secret it needs.
    pub fn secrets(&self) -> impl Iterator<Item = &str> {
        let certificate = match &self.kind {
            ConnectionKind::Http(http) => http.certificate.as_deref(),
            ConnectionKind::Folder { .. } | ConnectionKind::Webhook(_) | ConnectionKind::Amqp(_) | ConnectionKind::Incidents => {
                None
            }
        };
        self.secret().into_iter().chain(certificate)
    }

    /// The secret that lets us or others in, if there is one.
    #[must_use]
    pub fn secret(&self) -> Option<&str> {
        match &self.kind {
            ConnectionKind::Webhook(webhook) => webhook.signature.as_ref().map(|signature| signature.secret.as_str()),
            ConnectionKind::Http(http) => http.auth.as_ref().map(|auth| auth.secret.as_str()),
            ConnectionKind::Amqp(broker) => broker.auth.as_ref().map(|auth| auth.secret.as_str()),
            ConnectionKind::Folder { .. } | ConnectionKind::Incidents => None,
        }
    }

    /// Returns its path or address.
    #[must_use]
    pub fn place(&self) -> &str {
        match &self.kind {
            ConnectionKind::Folder { path, .. } => path,
            ConnectionKind::Http(http) => &http.address,
            ConnectionKind::Webhook(webhook) => &webhook.path,
            ConnectionKind::Amqp(broker) => &broker.address,
            ConnectionKind::Incidents => "this service",
        }
    }
}
