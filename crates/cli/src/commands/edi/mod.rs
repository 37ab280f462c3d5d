//! X12 documents without a service: read, checked, answered, compared and written.

mod ack;
mod check;
mod diff;
mod guide;
mod input;
mod show;
mod tree;
mod write;

use crate::error::CommandError;

/// Show, check, acknowledge, compare and write X12 documents
///
/// Needs no running service. Reads a file, or standard input with -. With --partner, the guides and tolerances of that partner
/// apply; with --workspace its own transaction sets are known.
#[derive(Debug, clap::Args)]
pub struct EdiArgs {
    #[command(subcommand)]
    command: EdiCommand,
}

#[derive(Debug, clap::Subcommand)]
enum EdiCommand {
    Show(show::ShowArgs),
    Check(check::CheckArgs),
    Ack(ack::AckArgs),
    Tree(tree::TreeArgs),
    Write(write::WriteArgs),
    Diff(diff::DiffArgs),
    Guide(guide::GuideArgs),
}

pub fn run(args: &EdiArgs) -> Result<(), CommandError> {
    match &args.command {
        EdiCommand::Show(args) => show::run(args),
        EdiCommand::Check(args) => check::run(args),
        EdiCommand::Ack(args) => ack::run(args),
        EdiCommand::Tree(args) => tree::run(args),
        EdiCommand::Write(args) => write::run(args),
        EdiCommand::Diff(args) => diff::run(args),
        EdiCommand::Guide(args) => guide::run(args),
    }
}
