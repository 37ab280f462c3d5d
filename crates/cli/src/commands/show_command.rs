use crate::api::{ClientArgs, api_path, message_path};
use crate::error::CommandError;
use crate::{show, ui};
use wirewatch_service::view::{ArrivalStory, Story};

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
    let missing = |error: &CommandError| matches!(error, CommandError::Refused(problem) if problem.status == 404);
    match client.get::<Story>(&message_path(&args.what), &[]).await {
        Ok(story) if args.json => ui::json(&story),
        Ok(story) => show::story(&story),
        Err(error) if missing(&error) && args.what.parse::<wirewatch_core::Id>().is_ok() => {
            let path = api_path!("arrivals/{}", args.what);
            let story: ArrivalStory = client.get(&path, &[]).await.map_err(|error| match error {
                error if missing(&error) => CommandError::Failed(format!("there is no message and no arrival {}", args.what)),
                other => other,
            })?;
            if args.json { ui::json(&story) } else { show::arrival(&story) }
        }
        Err(other) => return Err(other),
    }
    Ok(())
}
