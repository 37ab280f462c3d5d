//! One file for each command: its arguments, then the function.

use clap::builder::{PossibleValuesParser, TypedValueParser};
use std::time::Duration;

pub mod accept;
pub mod amend;
pub mod arrivals;
pub mod assign;
pub mod bulk;
pub mod capture;
pub mod cases;
pub mod check;
pub mod compare;
pub mod connection;
pub mod console;
pub mod deploy;
pub mod discard;
pub mod dry_run;
pub mod edi;
pub mod flow;
pub mod map;
pub mod messages;
pub mod orders;
pub mod reasons;
pub mod releases;
pub mod resend;
pub mod schema;
pub mod secret;
pub mod serve;
pub mod show_command;
pub mod status;
pub mod submit;
pub mod table;
pub mod watch;

/// Parses a word of a closed set of the API; help and errors list all of them.
fn words<W: Copy + Send + Sync + AsRef<str> + 'static>(all: &'static [W]) -> impl TypedValueParser<Value = W> {
    let names = all.iter().map(AsRef::as_ref);
    PossibleValuesParser::new(names)
        .map(|given| *all.iter().find(|word| word.as_ref() == given).expect("the value comes from the list of allowed values"))
}

/// A span of time as an argument.
fn span(text: &str) -> Result<Duration, String> {
    wirewatch_core::duration::parse(text).ok_or_else(|| "expected a duration such as 30m or 4h".to_owned())
}
