use crate::api::{Client, ClientArgs, api_path};
use crate::error::CommandError;
use crate::terminal::{errln, outln};
use crate::ui::{self, BAD, cell, clock, styled};
use std::io::Read;
use wirewatch_service::view::{SecretRequest, SecretSet, SecretView};

/// Set, change and remove secrets, such as those that webhooks are signed with
///
/// They are stored encrypted, with a key in the service's state folder, and never shown again.
#[derive(Debug, clap::Args)]
pub struct SecretArgs {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, clap::Subcommand)]
enum Command {
    /// Set a secret; its value is read from standard input
    Set {
        name: String,
        /// Make one up instead, and print it once
        #[arg(long)]
        generate: bool,
    },
    /// Change a secret; the old value stays good for a while, so that the other side can follow
    Rotate {
        name: String,
        /// Make one up instead of reading it from standard input, and print it once
        #[arg(long)]
        generate: bool,
        /// How long the previous value stays valid
        #[arg(long, default_value = "24h", value_parser = span)]
        keep: std::time::Duration,
    },
    /// List secrets, without their values
    List {
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Remove a secret: calls signed with it are rejected from then on
    Remove { name: String },
}

fn span(text: &str) -> Result<std::time::Duration, String> {
    wirewatch_core::duration::parse(text).ok_or_else(|| "expected a duration such as 30m, 24h or 7d".to_owned())
}

pub async fn run(client: &ClientArgs, args: &SecretArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    match &args.command {
        Command::Set { name, generate } => set(&client, name, *generate, 0).await,
        Command::Rotate { name, generate, keep } => set(&client, name, *generate, keep.as_secs()).await,
        Command::List { json } => list(&client, *json).await,
        Command::Remove { name } => {
            client.delete(&path(name)).await?;
            outln!("{name} is removed");
            Ok(())
        }
    }
}

fn path(name: &str) -> String {
    api_path!("secrets/{}", name)
}

async fn set(client: &Client, name: &str, generate: bool, keep_seconds: u64) -> Result<(), CommandError> {
    let value = if generate { None } else { Some(read()?) };
    let set: SecretSet = client.put(&path(name), &SecretRequest { value, keep_seconds }).await?;
    if let Some(value) = &set.value {
        outln!("{value}");
        errln!("{name} is set; it is shown only once");
    } else {
        outln!("{name} is set");
    }
    if let Some(until) = &set.secret.before_until {
        errln!("the earlier value stays valid until {}", clock(until));
    }
    Ok(())
}

/// Reads the value from standard input, so that it appears in no history and no list of processes; a final line end is dropped.
fn read() -> Result<String, CommandError> {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).map_err(|error| CommandError::Failed(format!("standard input: {error}")))?;
    match text.trim_end_matches(['\r', '\n']) {
        "" => {
            Err(CommandError::Failed("standard input is empty: type or pipe the value, or generate one with --generate".into()))
        }
        value => Ok(value.to_owned()),
    }
}

async fn list(client: &Client, json: bool) -> Result<(), CommandError> {
    let secrets: Vec<SecretView> = client.get("/api/secrets", &[]).await?;
    if json {
        ui::json(&secrets);
        return Ok(());
    }
    let row = |secret: &SecretView| {
        let state = match (&secret.set, &secret.before_until) {
            (None, _) => styled(BAD, "not set"),
            (Some(at), None) => cell(format!("set {} by {}", clock(at), secret.by)),
            (Some(at), Some(until)) => {
                cell(format!("changed {} by {}; the earlier value stays valid until {}", clock(at), secret.by, clock(until)))
            }
        };
        vec![cell(&secret.name), cell(secret.used_by.join(", ")), state]
    };
    ui::table(&["SECRET", "USED BY", "STATE"], &secrets.iter().map(row).collect::<Vec<_>>());
    Ok(())
}
