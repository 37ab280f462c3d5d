//! Private servers on loopback, for the demo and the tests: found, started, ended, and never left behind.

mod postgres;
mod process;

pub use postgres::{Cluster, Options, StartError};
pub use process::{Kept, free_port};
