use crate::api::{Client, ClientArgs, api_path};
use crate::error::CommandError;
use crate::terminal::outln;
use crate::ui::{self, BAD, GOOD, cell, span, styled};
use serde_json::{Value, json};
use wirewatch_service::view::words::QueueListening;
use wirewatch_service::view::{ConnectionView, FileFault, QueueView};

/// List the connections; test, probe, hold or resume one
#[derive(Debug, clap::Args)]
pub struct ConnectionArgs {
    #[command(subcommand)]
    act: ConnectionAct,
}

#[derive(Debug, clap::Subcommand)]
enum ConnectionAct {
    /// List connections with their state, and what waits in their queues
    List {
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Test a connection with a real request that changes nothing there
    Test {
        connection: String,
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Send the next message to a connection on hold at once, to see whether it responds again
    Probe { connection: String },
    /// Put a connection on hold: nothing is received from it and nothing sent to it until it is resumed
    Hold {
        connection: String,
        /// Why, for the others
        #[arg(long, value_name = "WORDS")]
        why: String,
    },
    /// Resume a connection on hold, whoever put it on hold
    Resume { connection: String },
}

pub async fn run(client: &ClientArgs, args: &ConnectionArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    match &args.act {
        ConnectionAct::List { json } => list(&client, *json).await,
        ConnectionAct::Test { connection, json } => test(&client, connection, *json).await,
        ConnectionAct::Probe { connection } => act(&client, connection, "probe", &json!({})).await,
        ConnectionAct::Hold { connection, why } => act(&client, connection, "hold", &json!({ "why": why })).await,
        ConnectionAct::Resume { connection } => act(&client, connection, "resume", &json!({})).await,
    }
}

async fn test(client: &Client, connection: &str, json: bool) -> Result<(), CommandError> {
    let tested: Value = client.post(&api_path!("connections/{}/test", connection), &json!({})).await?;
    let says = tested["says"].as_str().unwrap_or_default();
    if json {
        ui::json(&tested);
    }
    if tested["reached"] != true {
        return Err(CommandError::Failed(says.to_owned()));
    }
    if !json {
        outln!("{says}");
    }
    Ok(())
}

async fn act(client: &Client, connection: &str, act: &str, body: &Value) -> Result<(), CommandError> {
    let view: ConnectionView = client.post(&api_path!("connections/{}/{}", connection, act), body).await?;
    match view.on_hold {
        Some(held) => match &held.by {
            None => outln!("{connection} is on hold: {}; the next message probes it", held.says),
            Some(by) => outln!("{connection} was put on hold by {by}: {}", held.says),
        },
        None => outln!("{connection} is in use"),
    }
    Ok(())
}

async fn list(client: &Client, json: bool) -> Result<(), CommandError> {
    let connections: Vec<ConnectionView> = client.get("/api/connections", &[]).await?;
    if json {
        ui::json(&connections);
        return Ok(());
    }
    let row = |connection: &ConnectionView| {
        let state = match &connection.on_hold {
            Some(held) => styled(BAD, format!("on hold {}: {}", span(&held.since, None), held.says)),
            None => styled(GOOD, "in use"),
        };
        vec![
            cell(&connection.name),
            cell(connection.kind.as_str()),
            cell(&connection.place),
            cell(connection.used_by.join(", ")),
            state,
        ]
    };
    let rows: Vec<_> = connections.iter().map(row).collect();
    ui::table(&["CONNECTION", "KIND", "PLACE", "USED BY", "STATE"], &rows);
    let queues = connections.iter().flat_map(|one| one.queues.iter().map(move |queue| queue_row(one, queue)));
    let rows: Vec<_> = queues.collect();
    if !rows.is_empty() {
        outln!();
        ui::table(&["QUEUE", "AT", "WAITING", "CONSUMERS", "TAKEN BY"], &rows);
    }
    let files = connections.iter().flat_map(|one| one.files.iter().map(move |file| file_row(one, file)));
    let rows: Vec<_> = files.collect();
    if !rows.is_empty() {
        outln!();
        ui::table(&["FILE", "AT", "SINCE", "IN THE WAY"], &rows);
    }
    Ok(())
}

fn file_row(connection: &ConnectionView, file: &FileFault) -> Vec<ui::Cell> {
    let name = if file.file.is_empty() { "the folder itself" } else { &file.file };
    vec![cell(name), cell(&connection.name), cell(span(&file.since, None)), styled(BAD, &file.says)]
}

fn queue_row(connection: &ConnectionView, queue: &QueueView) -> Vec<ui::Cell> {
    let number = |n: Option<u32>| cell(n.map_or_else(|| "–".to_owned(), |n| n.to_string()));
    let flows = queue.flows.join(", ");
    let of = connection.queues.iter().find(|other| other.dead_letters.as_ref() == Some(&queue.name));
    let taken = match queue.listening {
        QueueListening::Yes => cell(flows),
        QueueListening::Stopped => styled(BAD, format!("not by {flows}: {}", queue.says)),
        QueueListening::No if !queue.says.is_empty() => styled(BAD, &queue.says),
        QueueListening::No => cell(of.map_or_else(String::new, |of| format!("dead letters of {}", of.name))),
    };
    vec![cell(&queue.name), cell(&connection.name), number(queue.messages), number(queue.consumers), taken]
}
