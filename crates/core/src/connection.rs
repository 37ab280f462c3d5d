//! Connections: where outside systems are, and what may be expected of them. Always the current ones apply.

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
    /// The other side's own page, for people.
    pub page: Option<String>,
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
    Http {
        /// `http://host:port/base`, without a slash at the end.
        address: String,
        /// How long an answer may take.
        wait: Duration,
    },
    /// An address of ours that the other side calls.
    Webhook(Box<Webhook>),
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
            ConnectionKind::Http { .. } => "http",
            ConnectionKind::Webhook(_) => "webhook",
        }
    }

    /// The webhook it is, if it is one.
    #[must_use]
    pub fn webhook(&self) -> Option<&Webhook> {
        match &self.kind {
            ConnectionKind::Webhook(webhook) => Some(webhook),
            ConnectionKind::Folder { .. } | ConnectionKind::Http { .. } => None,
        }
    }

    /// Where it is: a path or an address.
    #[must_use]
    pub fn place(&self) -> &str {
        match &self.kind {
            ConnectionKind::Folder { path, .. } => path,
            ConnectionKind::Http { address, .. } => address,
            ConnectionKind::Webhook(webhook) => &webhook.path,
        }
    }
}
