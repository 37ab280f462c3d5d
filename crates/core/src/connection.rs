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
    /// For people: whose it is, what must be set up there; empty when nothing is said.
    pub notes: String,
}

/// What is at the other end.
#[derive(Debug, Clone, PartialEq)]
pub enum ConnectionKind {
    Folder {
        /// Relative paths start at the service's folder for files.
        path: String,
        /// How long a file must be unchanged when nothing else shows that it is whole.
        settle: Duration,
    },
    Http(Box<Http>),
    /// An address of ours that the other side calls.
    Webhook(Box<Webhook>),
    /// A message broker, by AMQP 0-9-1.
    Amqp(Box<Broker>),
    /// What the service itself has to tell: see [`incident`](crate::incident).
    Incidents,
}

/// A server that is called over HTTP.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Http {
    /// `https://host:port/base`, without a slash at the end.
    pub address: String,
    /// How long an answer may take.
    pub timeout: Duration,
    pub auth: Option<Auth>,
    /// A path that answers to everybody who is let in, for tests; the address itself when left out.
    pub probe: Option<String>,
    /// Certificates (PEM) of the authority whose word counts for this server alone; otherwise the system's authorities count.
    pub authority: Option<String>,
    /// Name of the secret with our own certificate and its key (PEM), where the server wants one.
    pub certificate: Option<String>,
    /// `http://host:port` through which it is reached.
    pub proxy: Option<String>,
}

/// How requests are signed in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Auth {
    /// Name of the secret.
    pub secret: String,
    pub with: AuthMethod,
}

/// Where the secret stands in a request.
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
    /// A token asked for with our own credentials (RFC 6749, 4.4), the secret being the client's.
    ClientCredentials(Box<TokenRequest>),
    /// SASL PLAIN, the secret being the password (RFC 4616); at brokers.
    Plain { user: String },
}

/// Where a token is asked for, and what for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TokenRequest {
    pub token_at: String,
    /// Who we are there.
    pub client: String,
    /// What the token is to allow; empty when the server decides.
    pub scope: String,
}

impl Auth {
    /// In words for people.
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

/// What repeating an effect at this receiver does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RepeatRule {
    /// The receiver honours our key: a repeat takes effect once.
    Key,
    /// A repeat changes nothing, as when a file of the same name is written again.
    Safe,
    /// Nothing is known: after a crash in between, a person decides.
    Never,
}

impl RepeatRule {
    /// The word in a connection's file.
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
    /// The word for its kind in files and lists.
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

    /// Where it is: a path or an address.
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
