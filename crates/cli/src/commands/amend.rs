use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::terminal::outln;
use std::io::Write;
use std::path::PathBuf;
use std::process::Command;
use wirewatch_service::view::words::{AnswerRule, DocumentForm, MessageAct};
use wirewatch_service::view::{ActRequest, ActResult, DocumentView};

/// Correct the document of a message and resend it
///
/// Opens the document in $EDITOR, or reads it from a file. The document is checked first; with errors in it, nothing is done.
#[derive(Debug, clap::Args)]
pub struct AmendArgs {
    /// Id of the message
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
    /// Why: stored with the act
    #[arg(long, default_value = "")]
    why: String,
}

pub async fn run(client: &ClientArgs, args: &AmendArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let path = format!("/api/messages/{}", args.message);
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
                outln!("nothing was changed; nothing was done");
                return Ok(());
            }
            after
        }
    };
    let request = ActRequest { act: MessageAct::Amend, why: args.why.clone(), answers: args.answers, document, preview: false };
    let result: ActResult = client.post(&format!("{path}/acts"), &request).await?;
    outln!("{} {} amended and sent again", result.message.flow, result.message.key);
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
