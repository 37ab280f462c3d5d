//! Private servers on loopback for the demo and the tests: found, started, stopped, and never left behind.

mod broker;
mod http;
mod place;
mod postgres;
mod process;
mod secret;

pub use broker::{BrokerError, BrokerOptions, LoopbackBroker};
pub use http::{http, http_client};
pub use place::moved;
pub use postgres::{Cluster, Options, StartError};
pub use process::{OwnedProcess, free_port};
