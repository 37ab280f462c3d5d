use crate::error::CommandError;
use crate::local;
use crate::terminal::{out, outln};
use std::path::PathBuf;
use wirewatch_core::table::{begun, codes_of};

/// Make code tables of the workspace
///
/// Needs no running service.
#[derive(Debug, clap::Args)]
pub struct TableArgs {
    #[command(subcommand)]
    command: TableCommand,
}

#[derive(Debug, clap::Subcommand)]
enum TableCommand {
    Begin(BeginArgs),
}

/// Begin a code table from the values known on both sides
///
/// A side is SCHEMA:FIELD, as in x12/004010/850:PO103 (the standard's codes) or order:rows[].unit (example values). Codes with
/// the same meaning become a row; all others are written as comments, for a person to complete.
#[derive(Debug, clap::Args)]
struct BeginArgs {
    /// The codes to translate
    from: String,
    /// The codes to translate them to
    to: String,
    /// Name of the table: tables/NAME.csv; printed when left out
    #[arg(long)]
    name: Option<String>,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
}

pub fn run(args: &TableArgs) -> Result<(), CommandError> {
    let TableCommand::Begin(args) = &args.command;
    let workspace = local::workspace(&args.workspace)?;
    let codes = |field: &str| codes_of(&workspace, field).map_err(CommandError::Failed);
    let text = begun(&codes(&args.from)?, &codes(&args.to)?);
    let Some(name) = &args.name else {
        out(&text);
        return Ok(());
    };
    let file = args.workspace.join("tables").join(format!("{name}.csv"));
    local::write_new(&file, &text, "a proposal does not overwrite it")?;
    let open = text.lines().filter(|line| line.starts_with('#')).count();
    outln!("{} written; {open} of its lines are comments for a person to complete", file.display());
    Ok(())
}
