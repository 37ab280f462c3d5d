use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::{show, ui};
use wirewatch_service::view::{ArrivalStory, Messages, Story};

/// Show the whole history of a message or an arrival
///
/// Its origin, the document, each step with its result or request, every attempt with its answer.
#[derive(Debug, clap::Args)]
pub struct ShowArgs {
    /// Id of a message or an arrival, or a key such as a purchase order number
    what: String,
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &ShowArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let id =
        if args.what.parse::<wirewatch_core::Id>().is_ok() { args.what.clone() } else { newest(&client, &args.what).await? };
    match client.get::<Story>(&format!("/api/messages/{id}"), &[]).await {
        Ok(story) if args.json => ui::json(&story),
        Ok(story) => show::story(&story),
        Err(CommandError::Refused(problem)) if problem.status == 404 => {
            let story: ArrivalStory = client.get(&format!("/api/arrivals/{id}"), &[]).await.map_err(|error| match error {
                CommandError::Refused(problem) if problem.status == 404 => {
                    CommandError::Failed(format!("there is no message and no arrival {id}"))
                }
                other => other,
            })?;
            if args.json { ui::json(&story) } else { show::arrival(&story) }
        }
        Err(other) => return Err(other),
    }
    Ok(())
}

/// The newest message with that key.
pub async fn newest(client: &crate::api::Client, key: &str) -> Result<String, CommandError> {
    let query = [("key", key.to_owned()), ("limit", "1".to_owned())];
    let page: Messages = client.get("/api/messages", &query).await?;
    let first = page.messages.into_iter().next();
    first.map(|message| message.id).ok_or_else(|| CommandError::Failed(format!("there is no message with the key `{key}`")))
}
