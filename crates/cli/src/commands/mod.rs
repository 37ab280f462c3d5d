//! One file a command: its arguments, then what it does.

pub mod amend;
pub mod arrivals;
pub mod cases;
pub mod check;
pub mod compare;
pub mod connections;
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
pub mod reasons;
pub mod rehearse;
pub mod releases;
pub mod resend;
pub mod secret;
pub mod serve;
pub mod show_command;
pub mod status;
pub mod tray;
pub mod watch;
