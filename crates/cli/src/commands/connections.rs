use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::ui::{self, cell, span, styled, tone};
use serde_json::{Value, json};
use wirewatch_service::view::{ConnectionView, QueueView};

/// List connections with their state; test, hold or free one
#[derive(Debug, clap::Args)]
pub struct ConnectionsArgs {
    /// Really reach this connection, changing nothing there
    #[arg(long, value_name = "NAME", group = "act")]
    test: Option<String>,
    /// Let the next message look at once whether this held connection is of use again
    #[arg(long, value_name = "NAME", group = "act")]
    look: Option<String>,
    /// Take nothing from this connection and send nothing to it, until it is freed
    #[arg(long, value_name = "NAME", group = "act", requires = "why")]
    hold: Option<String>,
    /// Free this connection, whoever held it
    #[arg(long, value_name = "NAME", group = "act")]
    free: Option<String>,
    /// Why it is held, for the others
    #[arg(long, value_name = "TEXT", requires = "hold")]
    why: Option<String>,
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

fn queue_row(connection: &ConnectionView, queue: &QueueView) -> Vec<ui::Cell> {
    let number = |n: Option<u32>| cell(n.map_or_else(|| "–".to_owned(), |n| n.to_string()));
    let flows = queue.flows.join(", ");
    let of = connection.queues.iter().find(|other| other.dead_letters.as_ref() == Some(&queue.name));
    let taken = match queue.listening.as_str() {
        "yes" => cell(flows),
        "stopped" => styled(tone("held"), format!("not by {flows}: {}", queue.says)),
        _ if !queue.says.is_empty() => styled(tone("held"), &queue.says),
        _ => cell(of.map_or_else(String::new, |of| format!("dead letters of {}", of.name))),
    };
    vec![cell(&queue.name), cell(&connection.name), number(queue.messages), number(queue.consumers), taken]
}

pub async fn run(client: &ClientArgs, args: &ConnectionsArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    if let Some(name) = &args.test {
        let tested: Value = client.post(&format!("/api/connections/{name}/test"), &json!({})).await?;
        let says = tested["says"].as_str().unwrap_or_default();
        if args.json {
            ui::json(&tested);
        }
        if tested["reached"] != true {
            return Err(CommandError::Failed(says.to_owned()));
        }
        if !args.json {
            println!("{says}");
        }
        return Ok(());
    }
    let why = args.why.as_deref().unwrap_or_default();
    let acts = [(&args.look, "look", json!({})), (&args.hold, "hold", json!({ "why": why })), (&args.free, "free", json!({}))];
    for (name, act, body) in acts {
        let Some(name) = name else { continue };
        let view: ConnectionView = client.post(&format!("/api/connections/{name}/{act}"), &body).await?;
        match view.held {
            Some(held) if held.by.is_empty() => println!("{name} is held: {}; the next message looks now", held.says),
            Some(held) => println!("{name} is held by {}: {}", held.by, held.says),
            None => println!("{name} is not held"),
        }
        return Ok(());
    }
    let connections: Vec<ConnectionView> = client.get("/api/connections", &[]).await?;
    if args.json {
        ui::json(&connections);
        return Ok(());
    }
    let row = |connection: &ConnectionView| {
        let state = match &connection.held {
            Some(held) => styled(tone("held"), format!("held {}: {}", span(&held.since, None), held.says)),
            None => styled(tone("free"), "in use"),
        };
        vec![cell(&connection.name), cell(&connection.kind), cell(&connection.place), cell(connection.used_by.join(", ")), state]
    };
    let rows: Vec<_> = connections.iter().map(row).collect();
    ui::table(&["CONNECTION", "KIND", "PLACE", "USED BY", "STATE"], &rows);
    let queues = connections.iter().flat_map(|one| one.queues.iter().map(move |queue| queue_row(one, queue)));
    let rows: Vec<_> = queues.collect();
    if !rows.is_empty() {
        println!();
        ui::table(&["QUEUE", "AT", "WAITING", "CONSUMERS", "TAKEN BY"], &rows);
    }
    Ok(())
}
