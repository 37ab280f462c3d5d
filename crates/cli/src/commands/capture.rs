mod flow;

use crate::api::{Client, ClientArgs, api_path};
use crate::error::CommandError;
use crate::terminal::{errln, outln};
use crate::ui::{self, BAD, PLAIN, cell, clock, paint};
use std::path::PathBuf;
use std::time::Duration;
use wirewatch_links::http::Means;
use wirewatch_service::view::words::CaptureType;
use wirewatch_service::view::{CaptureRequest, CaptureStory, CaptureView, CaughtView, Handed};

/// Open a temporary address, or tap an exchange, and show what arrives
///
/// A capture shows what the other side really sends before there is a flow for it. It keeps the newest hundred requests or
/// messages, and closes after its time.
#[derive(Debug, clap::Args)]
pub struct CaptureArgs {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, clap::Subcommand)]
enum Command {
    /// Open an address for webhook calls, and show what arrives until Ctrl-C; the capture stays open for its time
    Http {
        #[command(flatten)]
        how: How,
    },
    /// Listen at an exchange of a broker, taking nothing from its queues
    Queue {
        /// The broker's connection
        connection: String,
        /// The exchange, by its name at the broker
        #[arg(long)]
        exchange: String,
        /// Pattern of routing keys
        #[arg(long, default_value = "#")]
        pattern: String,
        #[command(flatten)]
        how: How,
    },
    /// List open captures
    List {
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Show what a capture keeps; with a number, one item in full
    Show {
        name: String,
        n: Option<u64>,
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Save one item as a file, unchanged
    Save { name: String, n: u64, file: PathBuf },
    /// Send one item to a flow, or to another address
    #[command(group = clap::ArgGroup::new("where").required(true))]
    Pass {
        name: String,
        n: u64,
        /// The flow that receives it, as if by its first intake
        #[arg(long, group = "where")]
        flow: Option<String>,
        /// The address that gets it, by POST
        #[arg(long, group = "where", value_name = "URL")]
        to: Option<String>,
    },
    /// Make a flow of one item: connection or queue, schema, flow and case, as files of a workspace
    Flow(flow::FlowArgs),
    /// Close a capture and delete what it keeps
    Close { name: String },
}

#[derive(Debug, clap::Args)]
struct How {
    /// How long the capture stays open
    #[arg(long, default_value = "1h", value_parser = super::span)]
    open: Duration,
    /// Print the capture and return, without following it
    #[arg(long)]
    detach: bool,
    /// Print as JSON: the capture, then a line for each item
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &CaptureArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    match &args.command {
        Command::Http { how } => open(&client, request(CaptureType::Http), how).await,
        Command::Queue { connection, exchange, pattern, how } => {
            let (connection, exchange, pattern) = (connection.clone(), exchange.clone(), pattern.clone());
            open(&client, CaptureRequest { connection, exchange, pattern, ..request(CaptureType::Queue) }, how).await
        }
        Command::List { json } => list(&client, *json).await,
        Command::Show { name, n, json } => show(&client, name, *n, *json).await,
        Command::Save { name, n, file } => {
            let bytes = client.bytes(&api_path!("captures/{}/{}/bytes", name, n)).await?;
            let failed = |error| CommandError::Failed(format!("{}: {error}", file.display()));
            std::fs::write(file, &bytes).map_err(failed)?;
            outln!("{} bytes are in {}", bytes.len(), file.display());
            Ok(())
        }
        Command::Pass { name, n, flow, to } => pass(&client, name, *n, flow.as_deref(), to.as_deref()).await,
        Command::Flow(args) => flow::run(&client, args).await,
        Command::Close { name } => {
            client.delete(&api_path!("captures/{}", name)).await?;
            outln!("{name} is closed");
            Ok(())
        }
    }
}

async fn open(client: &Client, request: CaptureRequest, how: &How) -> Result<(), CommandError> {
    let minutes = u32::try_from(how.open.as_secs().div_ceil(60)).unwrap_or(u32::MAX);
    let capture: CaptureView = client.post("/api/captures", &CaptureRequest { minutes: Some(minutes), ..request }).await?;
    if how.json {
        ui::json_line(&capture);
    } else {
        outln!("{}", capture.address);
        let local = if capture.local_only { "; only this machine can reach it" } else { "" };
        errln!("{} is open until {}{local}", capture.name, clock(&capture.until));
    }
    if how.detach {
        return Ok(());
    }
    let mut seen = 0;
    loop {
        let story = story(client, &capture.name).await?;
        for caught in story.caught.iter().rev().filter(|caught| caught.n > seen) {
            if how.json { ui::json_line(caught) } else { print_line(caught) }
        }
        seen = story.capture.arrived;
        if !story.capture.says.is_empty() {
            return Err(CommandError::Failed(format!("nothing more arrives here: {}", story.capture.says)));
        }
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
}

async fn story(client: &Client, name: &str) -> Result<CaptureStory, CommandError> {
    client.get(&api_path!("captures/{}", name), &[]).await
}

async fn list(client: &Client, json: bool) -> Result<(), CommandError> {
    let captures: Vec<CaptureView> = client.get("/api/captures", &[]).await?;
    if json {
        ui::json(&captures);
        return Ok(());
    }
    if captures.is_empty() {
        outln!("no capture is open; `wirewatch capture http` opens one");
        return Ok(());
    }
    let row = |capture: &CaptureView| {
        let state = if capture.says.is_empty() { cell(format!("until {}", clock(&capture.until))) } else { cell(&capture.says) };
        vec![cell(&capture.name), cell(&capture.address), cell(capture.arrived.to_string()), state]
    };
    ui::table(&["CAPTURE", "AT", "ARRIVED", "OPEN"], &captures.iter().map(row).collect::<Vec<_>>());
    Ok(())
}

async fn show(client: &Client, name: &str, n: Option<u64>, json: bool) -> Result<(), CommandError> {
    let story = story(client, name).await?;
    let Some(n) = n else {
        if json {
            ui::json(&story);
        } else {
            story.caught.iter().rev().for_each(print_line);
        }
        return Ok(());
    };
    let caught = numbered(&story, n)?;
    if json {
        ui::json(caught);
        return Ok(());
    }
    print_line(caught);
    for (name, value) in &caught.headers {
        outln!("  {name}: {}", value.as_str().map_or_else(|| value.to_string(), str::to_owned));
    }
    outln!("\n{}", caught.text.trim_end());
    Ok(())
}

/// Returns the request to open a capture of this kind.
fn request(kind: CaptureType) -> CaptureRequest {
    let (connection, exchange, pattern) = Default::default();
    CaptureRequest { kind, connection, exchange, pattern, minutes: None }
}

fn numbered(story: &CaptureStory, n: u64) -> Result<&CaughtView, CommandError> {
    let missing = || CommandError::Failed(format!("{} has no item {n} (any more)", story.capture.name));
    story.caught.iter().find(|caught| caught.n == n).ok_or_else(missing)
}

fn print_line(caught: &CaughtView) {
    let form = match (caught.size, caught.fault.as_str()) {
        (0, _) => paint(PLAIN, "without a body"),
        (_, "") => paint(PLAIN, format!("{}, {} bytes", caught.form, caught.size)),
        (_, fault) => paint(BAD, format!("cannot be read: {fault}")),
    };
    outln!("{:>4}  {}  {}  {form}", caught.n, clock(&caught.at), caught.line);
}

async fn pass(client: &Client, name: &str, n: u64, flow: Option<&str>, to: Option<&str>) -> Result<(), CommandError> {
    let story = story(client, name).await?;
    let caught = numbered(&story, n)?;
    let bytes = client.bytes(&api_path!("captures/{}/{}/bytes", name, n)).await?;
    if let Some(flow) = flow {
        let called = [("name", format!("{name} {n}"))];
        let handed: Handed = client.post_bytes(&api_path!("flows/{}/submit", flow), &called, bytes).await?;
        outln!("{} {} {}", handed.arrival, handed.verdict, handed.says);
        return Ok(());
    }
    let Some(to) = to else { return Ok(()) };
    let kind = ["content-type", "content_type"]
        .iter()
        .find_map(|name| caught.headers.get(*name)?.as_str())
        .unwrap_or("application/octet-stream");
    let http = wirewatch_links::http::client(Means::default()).map_err(CommandError::Failed)?;
    let sent = http.post(to).header("content-type", kind).body(bytes).send().await;
    let status = sent.map_err(|error| CommandError::Failed(format!("{to}: {error}")))?.status();
    outln!("{to} answered {status}");
    if status.is_success() { Ok(()) } else { Err(CommandError::Failed("the call was rejected there".to_owned())) }
}
