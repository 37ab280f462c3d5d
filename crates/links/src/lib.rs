//! The outside: HTTP and folders, each behind the engine's `Links`.

pub mod folder;
pub mod http;

use std::path::{Path, PathBuf};
use wirewatch_core::connection::{Connection, ConnectionKind};
use wirewatch_core::machine::{Effect, Outcome, Work};
use wirewatch_engine::Links;

/// Performs effects over the network and in folders.
#[derive(Debug, Clone)]
pub struct Outside {
    http: reqwest::Client,
    files: PathBuf,
}

impl Outside {
    /// `files` is where relative folder paths start.
    #[must_use]
    pub fn new(files: PathBuf) -> Self {
        Self { http: http::client(), files }
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
            ConnectionKind::Http { address, wait } => http::test(&self.http, address, *wait).await,
            ConnectionKind::Folder { path, .. } => folder::test(&self.folder(path)).await,
            ConnectionKind::Webhook(_) => Ok("it is called by the other side; fire a call there to test it".to_owned()),
        }
    }
}

impl Links for Outside {
    async fn perform(&self, connection: &Connection, work: &Work) -> Outcome {
        match (&connection.kind, &work.effect) {
            (ConnectionKind::Http { address, wait }, Effect::Call { method, path, body, .. }) => {
                let request = http::Request { address, wait: *wait, method: *method, path, body: body.as_ref(), key: work.key };
                http::call(&self.http, &request, connection.repeat).await
            }
            (ConnectionKind::Folder { path, .. }, Effect::Send { file, body, .. }) => {
                folder::write(&self.folder(path), file, &body.0).await
            }
            (ConnectionKind::Http { .. }, Effect::Send { .. })
            | (ConnectionKind::Folder { .. }, Effect::Call { .. })
            | (ConnectionKind::Webhook(_), Effect::Send { .. } | Effect::Call { .. }) => {
                let kind = connection.kind_name();
                let says = format!("the connection {} cannot do this: it is of the kind {kind}", connection.name);
                Outcome::Held { says, status: 0 }
            }
        }
    }
}
