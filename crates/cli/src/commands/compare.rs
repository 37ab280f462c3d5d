use crate::api::{ClientArgs, message_path};
use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui::{self, paint};
use serde_json::{Value, json};
use std::path::Path;
use wirewatch_core::compare::{Difference, differences};
use wirewatch_service::view::{DocumentView, Story};

/// Compare two documents field by field: files, messages, or the results of steps
///
/// A document is a JSON file, a message by its id or key, or a message and a step, MESSAGE/STEP: the document after the step, or
/// what it sent. Messages are compared by content, whatever their form. The order of fields does not count; items of a list are
/// matched when others were inserted before them. For X12 files there is `wirewatch edi diff`. Exit code 1 when they differ.
#[derive(Debug, clap::Args)]
pub struct CompareArgs {
    /// The document before: a file, - for standard input, MESSAGE, or MESSAGE/STEP
    before: String,
    /// The document after
    after: String,
    /// Print the differences as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &CompareArgs) -> Result<(), CommandError> {
    let found = differences(&document(client, &args.before).await?, &document(client, &args.after).await?);
    if args.json {
        ui::json(&json!({ "same": found.is_empty(), "differences": found }));
    } else if found.is_empty() {
        outln!("no differences");
    } else {
        show(&found, "");
    }
    if found.is_empty() { Ok(()) } else { Err(CommandError::Found) }
}

async fn document(client: &ClientArgs, what: &str) -> Result<Value, CommandError> {
    let file = Path::new(what);
    if what == "-" || file.exists() {
        return parsed(what, &local::bytes(file)?);
    }
    let (message, step) = what.split_once('/').map_or((what, None), |(message, step)| (message, Some(step)));
    let looks_like_a_file = what.contains(['.', '\\']) && message.parse::<wirewatch_core::Id>().is_err();
    if looks_like_a_file {
        return Err(CommandError::Failed(format!("{what}: there is no such file")));
    }
    let client = client.client()?;
    let path = message_path(message);
    let Some(step) = step else {
        let query = [("tree", "true".to_owned())];
        let whole: DocumentView = client.get(&format!("{path}/document"), &query).await?;
        return parsed(what, whole.text.as_bytes());
    };
    let story: Story = client.get(&path, &[]).await?;
    let Some(found) = story.steps.iter().find(|one| one.step == step) else {
        let known: Vec<&str> = story.steps.iter().map(|one| one.step.as_str()).collect();
        return Err(CommandError::Usage(format!("message {message} has no step `{step}`; it has {}", known.join(", "))));
    };
    if found.after.is_some() {
        let query = [("step", step.to_owned()), ("tree", "true".to_owned())];
        let whole: DocumentView = client.get(&format!("{path}/document"), &query).await?;
        return parsed(what, whole.text.as_bytes());
    }
    let sent = found.request.as_ref().and_then(|request| request.body.as_ref());
    let sent =
        sent.ok_or_else(|| CommandError::Failed(format!("the step `{step}` of {message} neither made nor sent a document")))?;
    if sent.cut {
        return Err(CommandError::Failed(format!(
            "the document that the step `{step}` of {message} sent is too large to be compared"
        )));
    }
    parsed(what, sent.text.as_bytes())
}

fn parsed(what: &str, bytes: &[u8]) -> Result<Value, CommandError> {
    serde_json::from_slice(bytes).map_err(|error| {
        let help = if bytes.trim_ascii_start().starts_with(b"ISA") { "; `wirewatch edi diff` compares X12" } else { "" };
        CommandError::Failed(format!("{what}: not JSON: {error}{help}"))
    })
}

/// Prints each field with its values before and after.
pub fn show(found: &[Difference], indent: &str) {
    for one in found {
        let at = if one.at.is_empty() { "the whole document" } else { one.at.as_str() };
        outln!("{indent}{}", paint(ui::BOLD, at));
        let side = |style, sign: &str, value: &Option<Value>| {
            for line in value.iter().flat_map(|value| {
                let text = serde_json::to_string_pretty(value).unwrap_or_default();
                text.lines().map(str::to_owned).collect::<Vec<_>>()
            }) {
                outln!("{indent}  {}", paint(style, format!("{sign} {line}")));
            }
        };
        side(ui::BAD, "-", &one.before);
        side(ui::GOOD, "+", &one.after);
    }
}
