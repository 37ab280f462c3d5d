//! Support for tests: a database per test, queues per test, a service under test, waiting without sleeping, redaction.

mod broker;
pub mod conformance;
mod database;
mod redact;
mod relay;
mod service;
mod wait;

pub use broker::{BROKER, TestBroker, private_broker};
pub use database::{ADMIN_URL, Database, private_cluster};
pub use redact::redact;
pub use relay::Relay;
pub use service::{Service, target_binary};
pub use wait::{What, eventually, eventually_within};
pub use wirewatch_loopback::{http, http_client};
