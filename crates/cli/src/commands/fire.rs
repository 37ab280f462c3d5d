use crate::api::{Client, ClientArgs};
use crate::error::CommandError;
use crate::follow::{Told, follow};
use crate::ui::{self, paint, tone};
use std::collections::BTreeSet;
use std::path::PathBuf;
use std::time::Duration;
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
    let mut followed = Followed::default();
    followed.look(&client, &handed.arrival).await?;
    while !followed.is_over() {
        let event = match tokio::time::timeout(Duration::from_secs(1), events.recv()).await {
            Ok(Some(Told::Event(event, _))) => Some(event),
            Ok(Some(Told::Ready | Told::Reset | Told::Broken)) | Err(_) => None,
            Ok(None) => break,
        };
        let known = event.as_ref().is_some_and(|event| followed.ours.contains(&event.id));
        if !known || followed.unfolding {
            followed.look(&client, &handed.arrival).await?;
        }
        if let Some(event) = event.filter(|event| followed.ours.contains(&event.id)) {
            anstream::println!("{}", super::watch::line(&event));
            if rests(&event.state) {
                followed.open.remove(&event.id);
            }
        }
    }
    following.abort();
    let story: ArrivalStory = client.get(&format!("/api/arrivals/{}", handed.arrival), &[]).await?;
    println!();
    crate::show::messages(&story.messages);
    Ok(())
}

/// The messages of the arrival, as far as they are known.
#[derive(Default)]
struct Followed {
    ours: BTreeSet<String>,
    /// Those whose end has not been told.
    open: BTreeSet<String>,
    unfolding: bool,
}

impl Followed {
    fn is_over(&self) -> bool {
        !self.unfolding && self.open.is_empty()
    }

    /// Asks how the arrival stands. New messages are followed from here on; what has come to rest is over, though its
    /// event may still be told.
    async fn look(&mut self, client: &Client, arrival: &str) -> Result<(), CommandError> {
        let story: ArrivalStory = client.get(&format!("/api/arrivals/{arrival}"), &[]).await?;
        self.unfolding = story.arrival.verdict == "unfolding";
        for message in &story.messages {
            self.ours.insert(message.id.clone());
            if rests(&message.state) {
                self.open.remove(&message.id);
            } else {
                self.open.insert(message.id.clone());
            }
        }
        Ok(())
    }
}

fn told(handed: &Handed) {
    anstream::println!("arrival {}  {}  {}", handed.arrival, paint(tone(&handed.verdict), &handed.verdict), handed.says);
}

/// Whether nothing more happens to a message by itself.
fn rests(state: &str) -> bool {
    matches!(state, "done" | "aside" | "skipped" | "discarded")
}
