use super::bulk;
use crate::api::{Client, ClientArgs, message_path};
use crate::error::CommandError;
use crate::terminal::outln;
use crate::{show, ui};
use std::io::Write;
use std::path::PathBuf;
use std::process::Command;
use wirewatch_service::view::words::{AnswerRule, DocumentForm, MessageAct};
use wirewatch_service::view::{ActRequest, ActResult, BulkRequest, CorrectionView, DocumentView};

/// Correct the document of a message and resend it
///
/// Opens the document in $EDITOR, or reads it from a file. The document, the maps and the next request are tried first: with
/// errors in them, nothing is done.
///
/// With --replace, one value is replaced in the documents of several messages, or of all that failed for one reason. One message
/// is tried first; if it fails again for the same reason, the others are left as they are.
#[derive(Debug, clap::Args)]
pub struct AmendArgs {
    /// The message, by id or key; several with --replace
    #[arg(required_unless_present = "reason", conflicts_with = "reason")]
    messages: Vec<String>,
    /// With --replace: all messages that failed for this reason, an id of `wirewatch reasons`
    #[arg(long, value_name = "REASON", requires = "replace")]
    reason: Option<String>,
    /// Replace this value: a whole value as the documents have it
    #[arg(long, value_name = "VALUE", requires = "with", conflicts_with_all = ["file", "save"])]
    replace: Option<String>,
    /// The value to put in its place; may be empty
    #[arg(long, value_name = "VALUE", requires = "replace")]
    with: Option<String>,
    /// Replace the value only in this field: PO107, or lines.sku in JSON, XML, CSV and records
    #[arg(long, value_name = "FIELD", requires = "replace")]
    field: Option<String>,
    /// Take the corrected document from this file
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
    /// Write the document to this file, to correct it there; nothing else is done
    #[arg(long, value_name = "FILE", conflicts_with = "file")]
    save: Option<PathBuf>,
    /// Completed steps whose request has changed: ask, keep their answers, or run again (`again` runs every step again)
    #[arg(long, default_value = "ask", value_parser = super::words(AnswerRule::ALL))]
    answers: AnswerRule,
    /// Number of the release to run [default: the current one if the completed steps fit it, else the one that it ran before]
    #[arg(long, value_name = "N")]
    release: Option<i64>,
    /// Show what would be sent; do nothing
    #[arg(long, conflicts_with = "save")]
    preview: bool,
    /// Why: stored with the act
    #[arg(long, default_value = "")]
    why: String,
    /// With --replace: do not wait for the end: the service continues in the background
    #[arg(long, requires = "replace", conflicts_with = "preview")]
    detach: bool,
    /// With --replace: print the outcome as JSON
    #[arg(long, requires = "replace")]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &AmendArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    if args.replace.is_some() {
        return replace(&client, args).await;
    }
    let [message] = args.messages.as_slice() else {
        return Err(CommandError::Usage("name one message; several are amended together with --replace and --with".to_owned()));
    };
    let path = message_path(message);
    let document = match &args.file {
        Some(file) => {
            std::fs::read_to_string(file).map_err(|error| CommandError::Failed(format!("{}: {error}", file.display())))?
        }
        None => {
            let before: DocumentView = client.get(&format!("{path}/document"), &[]).await?;
            if let Some(save) = &args.save {
                std::fs::write(save, before.text)?;
                outln!("written to {}; correct it and give it back with --file", save.display());
                return Ok(());
            }
            let after = edit(&before)?;
            if after == before.text {
                outln!("the document was not changed, so nothing was done");
                return Ok(());
            }
            after
        }
    };
    let request = ActRequest {
        act: MessageAct::Amend,
        why: args.why.clone(),
        answers: args.answers,
        release: args.release,
        document,
        preview: args.preview,
    };
    let result: ActResult = client.post(&format!("{path}/acts"), &request).await?;
    if args.preview {
        ui::findings(&result.findings);
        if let Some(plan) = &result.plan {
            show::plan(plan);
        }
        outln!("nothing was done");
        return if result.plan.is_some() { Ok(()) } else { Err(CommandError::Found) };
    }
    if let Some(plan) = &result.plan {
        show::release(plan);
    }
    outln!("{} {} amended and resent", result.message.flow, result.message.key);
    Ok(())
}

/// Replaces a value in many documents.
async fn replace(client: &Client, args: &AmendArgs) -> Result<(), CommandError> {
    let AmendArgs { messages, reason, replace, with, field, answers, release, why, .. } = args;
    let correction = CorrectionView {
        replace: replace.clone().unwrap_or_default(),
        with: with.clone().unwrap_or_default(),
        field: field.clone(),
    };
    let request = BulkRequest {
        messages: messages.clone(),
        why: why.clone(),
        answers: *answers,
        release: *release,
        correction: Some(correction),
        ..bulk::request(MessageAct::Amend, reason.as_deref().unwrap_or_default())
    };
    bulk::all_with(client, &request, bulk::Manner { preview: args.preview, detach: args.detach, json: args.json }).await
}

fn edit(document: &DocumentView) -> Result<String, CommandError> {
    let editor = std::env::var("VISUAL").or_else(|_| std::env::var("EDITOR"));
    let editor = editor.map_err(|_| CommandError::Usage("no $EDITOR is set; use --save and --file instead".to_owned()))?;
    let ending = if document.form == DocumentForm::Json { ".json" } else { ".edi" };
    let mut file = tempfile::Builder::new().prefix("amend-").suffix(ending).tempfile()?;
    file.write_all(document.text.as_bytes())?;
    let status = Command::new("sh").arg("-c").arg(format!("{editor} \"$0\"")).arg(file.path()).status()?;
    if !status.success() {
        return Err(CommandError::Failed(format!("`{editor}` ended with {status}; nothing was done")));
    }
    Ok(std::fs::read_to_string(file.path())?)
}
