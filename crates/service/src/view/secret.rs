//! Secrets, without their values.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A secret.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SecretView {
    pub name: String,
    /// When it was set; `null` while it is not.
    pub set: Option<String>,
    pub by: String,
    /// Until when the value before it is as good.
    pub before_until: Option<String>,
    /// Connections that use it.
    pub used_by: Vec<String>,
}

/// New value of a secret.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SecretRequest {
    /// Left out, the service makes one up and shows it once.
    #[serde(default)]
    pub value: Option<String>,
    /// For how many seconds the value it had stays good.
    #[serde(default)]
    pub keep_seconds: u64,
}

/// A secret that was set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SecretSet {
    pub secret: SecretView,
    /// The value that was made up; shown this once.
    pub value: Option<String>,
}
