use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::follow::{Told, follow};
use crate::ui::{self, paint, tone};
use std::collections::BTreeSet;
use std::path::PathBuf;
use wirewatch_service::view::{ArrivalStory, Handed};

/// Hand a document in by hand and watch what becomes of it
///
/// It comes in as if by the flow's first intake: real effects, real acknowledgments.
#[derive(Debug, clap::Args)]
pub struct FireArgs {
    /// The flow
    flow: String,
    /// The document
    file: PathBuf,
    /// Do not wait for its messages
    #[arg(long)]
    no_watch: bool,
    /// Print the outcome as JSON; does not wait
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &FireArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let bytes = std::fs::read(&args.file).map_err(|error| CommandError::Failed(format!("{}: {error}", args.file.display())))?;
    let name = args.file.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let path = format!("/api/flows/{}/fire", args.flow);
    if args.json || args.no_watch {
        let handed: Handed = client.post_bytes(&path, &[("name", name)], bytes).await?;
        if args.json {
            ui::json(&handed)
        } else {
            told(&handed)
        }
        return Ok(());
    }
    // Followed from before it is handed in, so that nothing of it is missed.
    let (events_out, mut events) = tokio::sync::mpsc::unbounded_channel();
    let following = {
        let client = client.clone();
        tokio::spawn(async move { follow(&client, |told| events_out.send(told).is_ok()).await })
    };
    match events.recv().await {
        Some(Told::Ready) => {}
        _ => return Err(CommandError::Failed("the live stream did not open".to_owned())),
    }
    let handed: Handed = client.post_bytes(&path, &[("name", name)], bytes).await?;
    told(&handed);
    if !matches!(handed.verdict.as_str(), "taken" | "unfolding") {
        following.abort();
        return Err(CommandError::Found);
    }
    let arrival: ArrivalStory = client.get(&format!("/api/arrivals/{}", handed.arrival), &[]).await?;
    let mut open: BTreeSet<String> = BTreeSet::new();
    let mut ours: BTreeSet<String> = arrival.messages.iter().map(|message| message.id.clone()).collect();
    let mut unfolding = arrival.arrival.verdict == "unfolding";
    open.extend(arrival.messages.iter().filter(|message| !rests(&message.state)).map(|message| message.id.clone()));
    while unfolding || !open.is_empty() {
        let Some(event) = events.recv().await else { break };
        let Told::Event(event, _) = event else { continue };
        if !ours.contains(&event.id) && event.kind == "message" {
            let story: ArrivalStory = client.get(&format!("/api/arrivals/{}", handed.arrival), &[]).await?;
            unfolding = story.arrival.verdict == "unfolding";
            for message in story.messages.iter().filter(|message| ours.insert(message.id.clone()) && !rests(&message.state)) {
                open.insert(message.id.clone());
            }
        }
        if ours.contains(&event.id) {
            anstream::println!("{}", super::watch::line(&event));
            if rests(&event.state) {
                open.remove(&event.id);
            }
        }
    }
    following.abort();
    let story: ArrivalStory = client.get(&format!("/api/arrivals/{}", handed.arrival), &[]).await?;
    println!();
    crate::show::messages(&story.messages);
    Ok(())
}

fn told(handed: &Handed) {
    anstream::println!("arrival {}  {}  {}", handed.arrival, paint(tone(&handed.verdict), &handed.verdict), handed.says);
}

/// Whether nothing more happens to a message by itself.
fn rests(state: &str) -> bool {
    matches!(state, "done" | "aside" | "skipped" | "discarded")
}
