use crate::api::{Client, ClientArgs, api_path, message_path};
use crate::error::CommandError;
use crate::follow::{StreamItem, follow};
use crate::local;
use crate::terminal::outln;
use crate::ui::{self, paint, tone};
use serde_json::Value;
use std::collections::BTreeSet;
use std::path::PathBuf;
use std::time::Duration;
use wirewatch_service::view::words::{MessageState, SubmitOutcome, Verdict};
use wirewatch_service::view::{ArrivalStory, Handed, LiveEvent, Submitted, Workspace};

/// Submit one real message by hand and follow it to its end
///
/// To a flow, it is received as if by the flow's first intake and watched to its end. To a connection, it is sent where a flow
/// would send it: --queue or --exchange with --key at a broker, --post /path at a server; a webhook is called as its sender would
/// call it, signed. The effects are real.
#[derive(Debug, clap::Args)]
pub struct SubmitArgs {
    /// The flow, or the connection
    #[arg(value_name = "FLOW|CONNECTION")]
    target: String,
    /// The document; - for standard input
    #[arg(required_unless_present = "like")]
    file: Option<PathBuf>,
    /// Take the document of this message or arrival
    #[arg(long, value_name = "ID", conflicts_with = "file")]
    like: Option<String>,
    /// Change a field of a JSON document first: path=value, where the value is JSON or plain text
    #[arg(long = "set", value_name = "PATH=VALUE")]
    changes: Vec<String>,
    /// At a broker: the queue
    #[arg(long, value_name = "NAME")]
    queue: Option<String>,
    /// At a broker: the exchange
    #[arg(long, value_name = "NAME", conflicts_with = "queue")]
    exchange: Option<String>,
    /// The routing key at the exchange
    #[arg(long, value_name = "ROUTING.KEY", requires = "exchange", default_value = "")]
    key: String,
    /// At a broker: the message's type
    #[arg(long, value_name = "NAME", default_value = "")]
    kind: String,
    /// At a server: the path to post to
    #[arg(long, value_name = "/PATH")]
    post: Option<String>,
    /// At a flow: return without waiting for its messages
    #[arg(long)]
    no_watch: bool,
    /// Print the outcome as JSON; does not wait
    #[arg(long)]
    json: bool,
}

impl SubmitArgs {
    /// Returns the document to submit, and a name for it.
    async fn document(&self, client: &Client) -> Result<(String, Vec<u8>), CommandError> {
        let (name, bytes) = match (&self.like, &self.file) {
            (Some(id), _) => (id.clone(), like(client, id).await?),
            (None, Some(file)) => {
                let own = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
                (if own == "-" { "by hand".to_owned() } else { own }, local::bytes(file)?)
            }
            (None, None) => {
                return Err(CommandError::Failed("a document is needed: name a file, or `-` for standard input".to_owned()));
            }
        };
        if self.changes.is_empty() {
            return Ok((name, bytes));
        }
        let mut document: Value = serde_json::from_slice(&bytes)
            .map_err(|error| CommandError::Failed(format!("--set needs a JSON document; {name} is not JSON: {error}")))?;
        for change in &self.changes {
            set(&mut document, change)?;
        }
        Ok((name, serde_json::to_vec(&document).unwrap_or_default()))
    }

    /// Returns whether the target is a connection, not a flow.
    async fn is_connection(&self, client: &Client) -> Result<bool, CommandError> {
        if self.queue.is_some() || self.exchange.is_some() || self.post.is_some() {
            return Ok(true);
        }
        let workspace: Workspace = client.get("/api/workspace", &[]).await?;
        let has = |all: &[wirewatch_service::view::Named]| all.iter().any(|one| one.name == self.target);
        Ok(!has(&workspace.flows) && has(&workspace.connections))
    }
}

/// The document of a message, or the bytes of an arrival.
async fn like(client: &Client, id: &str) -> Result<Vec<u8>, CommandError> {
    match client.bytes(&api_path!("arrivals/{}/bytes", id)).await {
        Ok(bytes) => Ok(bytes),
        Err(CommandError::Refused(_)) => {
            let path = format!("{}/document", message_path(id));
            let document: wirewatch_service::view::DocumentView = client.get(&path, &[]).await?;
            Ok(document.text.into_bytes())
        }
        Err(other) => Err(other),
    }
}

/// Changes one field: `lines.0.quantity=3`. What is missing on the way is made.
fn set(document: &mut Value, change: &str) -> Result<(), CommandError> {
    let wrong = |says: String| CommandError::Failed(format!("--set {change}: {says}"));
    let (path, text) = change.split_once('=').ok_or_else(|| wrong("write path=value".to_owned()))?;
    let value = serde_json::from_str(text).unwrap_or_else(|_| Value::from(text));
    let mut at = document;
    for part in path.split('.') {
        at = match at {
            Value::Array(list) => {
                let length = list.len();
                let place = part.parse::<usize>().ok().and_then(|place| list.get_mut(place));
                place.ok_or_else(|| wrong(format!("the list has {length} items, counted from 0; it has no `{part}`")))?
            }
            Value::Object(fields) => fields.entry(part).or_insert_with(|| Value::Object(serde_json::Map::new())),
            other => return Err(wrong(format!("cannot set `{part}`: its parent is not an object but {other}"))),
        };
    }
    *at = value;
    Ok(())
}

pub async fn run(client: &ClientArgs, args: &SubmitArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let (name, bytes) = args.document(&client).await?;
    if args.is_connection(&client).await? {
        return at_connection(&client, args, name, bytes).await;
    }
    let path = api_path!("flows/{}/submit", args.target);
    if args.json || args.no_watch {
        let handed: Handed = client.post_bytes(&path, &[("name", name)], bytes).await?;
        if args.json {
            ui::json(&handed)
        } else {
            print_handed(&handed)
        }
        return Ok(());
    }
    // The stream is opened before the document is submitted, so that no event is missed.
    let (events_out, mut events) = tokio::sync::mpsc::unbounded_channel();
    let following = {
        let client = client.clone();
        tokio::spawn(async move { follow(&client, |item| events_out.send(item).is_ok()).await })
    };
    match events.recv().await {
        Some(StreamItem::Ready) => {}
        _ => return Err(CommandError::Failed("the live stream could not be opened".to_owned())),
    }
    let handed: Handed = client.post_bytes(&path, &[("name", name)], bytes).await?;
    print_handed(&handed);
    if !matches!(handed.verdict, Verdict::Received | Verdict::Splitting) {
        following.abort();
        return Err(CommandError::Found);
    }
    let mut followed = Followed::default();
    followed.look(&client, &handed.arrival).await?;
    while !followed.is_over() {
        let event = match tokio::time::timeout(Duration::from_secs(1), events.recv()).await {
            Ok(Some(StreamItem::Event(event, _))) => Some(event),
            Ok(Some(StreamItem::Ready | StreamItem::Reset | StreamItem::Broken)) | Err(_) => None,
            Ok(None) => break,
        };
        let known = event.as_ref().is_some_and(|event| followed.knows(event));
        if !known || followed.splitting {
            followed.look(&client, &handed.arrival).await?;
        }
        if let Some(event) = event.filter(|event| followed.knows(event)) {
            outln!("{}", super::watch::line(&event));
            if MessageState::parse(&event.state).is_some_and(rests) {
                followed.open.retain(|open| event.id.as_ref() != Some(open));
            }
        }
    }
    following.abort();
    let story: ArrivalStory = client.get(&api_path!("arrivals/{}", handed.arrival), &[]).await?;
    outln!();
    crate::show::messages(&story.messages);
    Ok(())
}

/// The messages of the arrival, as far as they are known.
#[derive(Default)]
struct Followed {
    ours: BTreeSet<String>,
    /// Messages whose end has not been seen.
    open: BTreeSet<String>,
    splitting: bool,
}

impl Followed {
    fn knows(&self, event: &LiveEvent) -> bool {
        event.id.as_ref().is_some_and(|id| self.ours.contains(id))
    }

    fn is_over(&self) -> bool {
        !self.splitting && self.open.is_empty()
    }

    /// Reads the arrival. New messages are followed from now on; messages at rest are finished, although their event may still
    /// arrive.
    async fn look(&mut self, client: &Client, arrival: &str) -> Result<(), CommandError> {
        let story: ArrivalStory = client.get(&api_path!("arrivals/{}", arrival), &[]).await?;
        self.splitting = story.arrival.verdict == Verdict::Splitting;
        for message in &story.messages {
            self.ours.insert(message.id.clone());
            if rests(message.state) {
                self.open.remove(&message.id);
            } else {
                self.open.insert(message.id.clone());
            }
        }
        Ok(())
    }
}

async fn at_connection(client: &Client, args: &SubmitArgs, name: String, bytes: Vec<u8>) -> Result<(), CommandError> {
    let text = |value: &Option<String>| value.clone().unwrap_or_default();
    let at = [
        ("queue", text(&args.queue)),
        ("exchange", text(&args.exchange)),
        ("key", args.key.clone()),
        ("kind", args.kind.clone()),
        ("path", text(&args.post)),
        ("name", name),
    ];
    let submitted: Submitted = client.post_bytes(&api_path!("connections/{}/submit", args.target), &at, bytes).await?;
    if args.json {
        ui::json(&submitted);
    } else {
        let status = submitted.status.map(|status| format!(" {status}")).unwrap_or_default();
        outln!("{}  {}{status}", submitted.request, paint(tone(submitted.what), submitted.what));
        for line in [&submitted.says, &submitted.answer].into_iter().filter(|line| !line.is_empty()) {
            outln!("{line}");
        }
    }
    if submitted.what == SubmitOutcome::Done { Ok(()) } else { Err(CommandError::Found) }
}

fn print_handed(handed: &Handed) {
    outln!("arrival {}  {}  {}", handed.arrival, paint(tone(handed.verdict), handed.verdict), handed.says);
}

/// Returns whether a message in this state does not change by itself.
fn rests(state: MessageState) -> bool {
    match state {
        MessageState::Running | MessageState::Waiting | MessageState::Retrying => false,
        MessageState::Done | MessageState::Failed | MessageState::Skipped | MessageState::Discarded => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn fields_are_changed_by_path() {
        let mut document = json!({ "number": "A-1", "lines": [{ "pieces": 1 }] });
        for change in ["number=A-2", "lines.0.pieces=3", "to.city=Fern Hill", "paid=true"] {
            set(&mut document, change).unwrap();
        }
        assert_eq!(document, json!({ "number": "A-2", "lines": [{ "pieces": 3 }], "to": { "city": "Fern Hill" }, "paid": true }));
        for change in ["number", "lines.7.pieces=1", "number.of=1"] {
            assert!(set(&mut document, change).is_err(), "{change}");
        }
    }
}
