use crate::api::{Client, ClientArgs, api_path, message_path};
use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui::{self, paint, tone};
use serde_json::Value;
use std::cell::Cell;
use std::path::PathBuf;
use std::sync::Arc;
use wirewatch_core::Timestamp;
use wirewatch_core::machine::{Body, Effect, Outcome, Work};
use wirewatch_core::trial::{Answer, Answering, Answers, DryRun, Passage, Stage, dry_run};
use wirewatch_service::view::{AskRequest, Asked};

/// Run a document through a whole flow: every effect shown, none performed
///
/// Each request gets an empty object as its answer, unless --answer or --answers-of give another. Only --answers-of and --really
/// need the service. Exit code 1 when a message or the document itself would fail.
#[derive(Debug, clap::Args)]
pub struct DryRunArgs {
    /// The flow, as its file is called
    flow: String,
    /// The document; - for standard input
    #[arg(long, value_name = "FILE")]
    given: PathBuf,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
    /// The sender's name of the event, for intakes that select by event
    #[arg(long, value_name = "NAME", default_value = "")]
    event: String,
    /// Answer to a step's request: STEP=STATUS, STEP=FILE or both, STEP=STATUS:FILE
    #[arg(long = "answer", value_name = "STEP=ANSWER")]
    answers: Vec<String>,
    /// Answer every request as those of this message were answered when it really ran, by id or key
    #[arg(long, value_name = "MESSAGE")]
    answers_of: Option<String>,
    /// Make the requests at this connection really, through the service, with real effects; the caller is recorded
    #[arg(long, value_name = "CONNECTION")]
    really: Vec<String>,
    /// Messages to show, at most
    #[arg(long, value_name = "N", default_value_t = 5)]
    limit: usize,
    /// Print it as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &DryRunArgs) -> Result<(), CommandError> {
    let workspace = Arc::new(local::workspace(&args.workspace)?);
    let Some(flow) = workspace.flows.get(&args.flow) else {
        return Err(local::unknown(&args.workspace, "flow", &args.flow, workspace.flows.keys().map(String::as_str)));
    };
    let mut answers = match &args.answers_of {
        None => Answers::new(),
        Some(message) => {
            let client = client.client()?;
            super::cases::answers(&client.get(&message_path(message), &[]).await?)
        }
    };
    for text in &args.answers {
        let (step, answer) = answer(text)?;
        if flow.step(&step).is_none() {
            let steps = flow.steps.iter().map(|step| step.name.as_str());
            return Err(local::unknown(&args.workspace, &format!("step of {}", args.flow), &step, steps));
        }
        answers.insert(step, answer);
    }
    let bytes = local::bytes(&args.given)?;
    let now = Timestamp(jiff::Timestamp::now().as_microsecond());
    for name in &args.really {
        if !workspace.connections.contains_key(name) {
            return Err(local::unknown(&args.workspace, "connection", name, workspace.connections.keys().map(String::as_str)));
        }
    }
    let client = if args.really.is_empty() { None } else { Some(client.client()?) };
    let outside = Outside { answers, really: &args.really, client, asked: Cell::new(0) };
    let shown = dry_run(&workspace, flow, &bytes, &args.event, &outside, args.limit, now);
    if args.json {
        ui::json(&shown);
    } else {
        show(&shown);
        match outside.asked.get() {
            0 => outln!("\nDry run: nothing was sent and nothing was stored."),
            n => outln!("\n{} sent for real. Nothing else was sent, and nothing was stored.", ui::count(n, "request")),
        }
    }
    let failed = shown.verdict == "failed" || shown.messages.iter().any(|message| message.ends == "failed");
    if failed { Err(CommandError::Found) } else { Ok(()) }
}

/// `STEP=201:answer.json`, `STEP=503`, `STEP=answer.json`.
fn answer(text: &str) -> Result<(String, Answer), CommandError> {
    let wrong = || CommandError::Usage(format!("--answer {text}: write STEP=STATUS, STEP=FILE or STEP=STATUS:FILE"));
    let (step, answer) = text.split_once('=').ok_or_else(wrong)?;
    let (status, file) = match answer.split_once(':') {
        Some((status, file)) => (status.parse().map_err(|_| wrong())?, Some(file)),
        None => answer.parse().map_or_else(|_| (Answer::default().status, Some(answer)), |status| (status, None)),
    };
    let body = match file {
        None => Answer::default().body,
        Some(file) => {
            let bytes = local::bytes(file.as_ref())?;
            serde_json::from_slice(&bytes).unwrap_or_else(|_| Value::from(String::from_utf8_lossy(&bytes)))
        }
    };
    Ok((step.to_owned(), Answer { status, body }))
}

fn show(shown: &DryRun) {
    let says = if shown.says.is_empty() { String::new() } else { format!("  {}", shown.says) };
    outln!("arrival  {}{says}", paint(tone(shown.verdict), shown.verdict));
    for acknowledgment in &shown.acknowledgments {
        outln!("         {acknowledgment} would be sealed and sent");
    }
    for message in &shown.messages {
        outln!();
        passage(message);
    }
    if shown.left_out > 0 {
        outln!("\nand {} more; --limit N shows more", ui::count(shown.left_out, "message"));
    }
}

/// Answers given on the command line, except for the connections that are called really.
struct Outside<'a> {
    answers: Answers,
    really: &'a [String],
    client: Option<Client>,
    /// Number of requests really made.
    asked: Cell<usize>,
}

impl Answering for Outside<'_> {
    fn answer(&self, work: &Work) -> Outcome {
        match (&self.client, &work.effect) {
            (Some(client), Effect::Call { connection, method, path, body }) if self.really.contains(connection) => {
                self.asked.set(self.asked.get() + 1);
                let request = AskRequest {
                    method: method.as_str().to_owned(),
                    path: path.clone(),
                    body: body.as_ref().map(Body::text),
                    key: work.key.to_string(),
                };
                let at = api_path!("connections/{}/ask", connection);
                let asking = client.post::<Asked>(&at, &request);
                // A dry run runs its machine in one go; the answer is waited for where it is needed.
                let asked = tokio::task::block_in_place(|| tokio::runtime::Handle::current().block_on(asking));
                match asked {
                    Ok(Asked { status: Some(status), body, .. }) => {
                        let body = serde_json::from_str(&body).unwrap_or(Value::from(body));
                        Answer { status, body }.outcome()
                    }
                    Ok(Asked { says, .. }) => Outcome::Refused { says, status: 0, body: Body::default() },
                    Err(CommandError::Refused(problem)) => {
                        Outcome::Refused { says: problem.title, status: 0, body: Body::default() }
                    }
                    Err(CommandError::Failed(says) | CommandError::Usage(says) | CommandError::Unreachable(says)) => {
                        Outcome::Refused { says, status: 0, body: Body::default() }
                    }
                    Err(CommandError::Found) => Outcome::Refused { says: String::new(), status: 0, body: Body::default() },
                }
            }
            _ => self.answers.answer(work),
        }
    }
}

fn passage(message: &Passage) {
    let way = if message.way.is_empty() { String::new() } else { format!("  way {}", message.way) };
    let key = if message.key.is_empty() { "message" } else { message.key.as_str() };
    let ends = paint(tone(message.ends), message.ends);
    let says = if message.says.is_empty() { String::new() } else { format!("  {}", message.says) };
    outln!("{}{way}  {ends}{says}", paint(ui::BOLD, key));
    let width = message.stages.iter().map(|stage| stage.step.chars().count()).max().unwrap_or(0);
    let mut shown: Option<&Value> = None;
    for stage in &message.stages {
        let name = format!("{}{}", stage.step, " ".repeat(width - stage.step.chars().count()));
        let (verb, does) = (stage.verb, line(stage));
        let verb = if does.is_empty() { verb.to_owned() } else { format!("{verb:<6}") };
        let does = if does.is_empty() { does } else { format!("  {does}") };
        outln!("  {name}  {}{does}", paint(ui::DIM, verb));
        let body = stage.request.as_ref().map(|request| &request.body).or(stage.document.as_ref());
        // A body that equals the document was printed at the step that made it.
        let body = body.filter(|body| !body.is_null() && shown != Some(*body));
        shown = stage.document.as_ref().or(shown);
        if let Some(body) = body {
            let text = match body {
                Value::String(text) => text.clone(),
                other => serde_json::to_string_pretty(other).unwrap_or_default(),
            };
            for line in text.lines() {
                outln!("    {}", paint(ui::DIM, line));
            }
        }
    }
}

/// Returns what the step did, in one line.
fn line(stage: &Stage) -> String {
    let Some(request) = &stage.request else { return stage.says.clone() };
    let with: Vec<String> = request.properties.iter().map(|(name, value)| format!("{name} {value}")).collect();
    let with = if with.is_empty() { String::new() } else { format!(" ({})", with.join(", ")) };
    let answer = if request.status == 0 { String::new() } else { format!(", answered {}", request.status) };
    format!("{} at {}{with}{answer}", request.line, request.connection)
}
