//! One file a command: its arguments, then what it does.

use std::time::Duration;

pub mod amend;
pub mod arrivals;
pub mod bulk;
pub mod cases;
pub mod check;
pub mod compare;
pub mod connection;
pub mod console;
pub mod deploy;
pub mod discard;
pub mod edi;
pub mod fire;
pub mod flow;
pub mod let_through;
pub mod map;
pub mod messages;
pub mod orders;
pub mod outline;
pub mod reasons;
pub mod rehearse;
pub mod releases;
pub mod resend;
pub mod secret;
pub mod serve;
pub mod show_command;
pub mod status;
pub mod table;
pub mod tray;
pub mod watch;

/// A span of time as an argument.
fn span(text: &str) -> Result<Duration, String> {
    wirewatch_core::duration::parse(text).ok_or_else(|| "write a span of time such as 30m or 4h".to_owned())
}
