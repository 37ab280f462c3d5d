use crate::api::{ClientArgs, message_path};
use crate::error::CommandError;
use crate::terminal::outln;
use crate::{show, ui};
use std::io::Write;
use std::path::PathBuf;
use std::process::Command;
use wirewatch_service::view::words::{AnswerRule, DocumentForm, MessageAct};
use wirewatch_service::view::{ActRequest, ActResult, DocumentView};

/// Correct the document of a message and resend it
///
/// Opens the document in $EDITOR, or reads it from a file. The document, the maps and the next request are tried first: with
/// errors in them, nothing is done.
#[derive(Debug, clap::Args)]
pub struct AmendArgs {
    /// The message, by id or key
    message: String,
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
}

pub async fn run(client: &ClientArgs, args: &AmendArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let path = message_path(&args.message);
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
