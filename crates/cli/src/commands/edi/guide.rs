use super::input::{self, TermsArgs};
use crate::error::CommandError;
use crate::local;
use crate::terminal::out;
use std::path::PathBuf;
use wirewatch_core::edi::draft::draft;

/// Begin a partner's implementation guide
#[derive(Debug, clap::Args)]
pub struct GuideArgs {
    #[command(subcommand)]
    command: GuideCommand,
}

#[derive(Debug, clap::Subcommand)]
enum GuideCommand {
    From(FromArgs),
}

/// Draft a guide from a partner's documents: their common segments, the codes used, the lengths of values
///
/// Printed as a file for guides/. It requires what every sample has; with few samples that is too much, so read it before you use
/// it.
#[derive(Debug, clap::Args)]
struct FromArgs {
    /// Sample files of one transaction set
    #[arg(required = true)]
    samples: Vec<PathBuf>,
    #[command(flatten)]
    by: TermsArgs,
}

pub fn run(args: &GuideArgs) -> Result<(), CommandError> {
    let GuideCommand::From(args) = &args.command;
    let terms = args.by.terms()?;
    let mut trees = Vec::new();
    for file in &args.samples {
        let bytes = local::bytes(file)?;
        let reading = input::read(&terms, &bytes);
        trees.extend(input::trees(&terms, file, &bytes, &reading)?.found.into_iter().map(|found| found.tree));
    }
    let Some(guide) = draft(&trees) else {
        return Err(CommandError::Failed("the samples are of different transaction sets or versions".to_owned()));
    };
    out(&guide.to_text());
    Ok(())
}
