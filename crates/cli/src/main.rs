//! The `wirewatch` command: the service itself, and a client for everything else.

mod api;
mod commands;
mod error;
mod follow;
mod local;
mod log;
mod show;
mod terminal;
mod ui;

use clap::{CommandFactory, Parser, Subcommand};
use commands::*;
use error::CommandError;
use std::process::ExitCode;

// A message is many small strings: with the system's allocator a third of the service's time went into it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Order flows between partners and systems: watch them live, correct and resend what failed, answer partners.
///
/// `wirewatch serve` runs the service; the other commands call it. Exit codes: 0 done, 1 failed, 2 wrong usage, 3 the service
/// cannot be reached.
#[derive(Parser)]
#[command(name = "wirewatch", version, max_term_width = 100)]
struct Cli {
    #[command(flatten)]
    client: api::ClientArgs,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    Serve(serve::ServeArgs),
    Check(check::CheckArgs),
    Edi(edi::EdiArgs),
    Schema(schema::SchemaArgs),
    Map(map::MapArgs),
    DryRun(dry_run::DryRunArgs),
    Cases(cases::CasesArgs),
    Case(cases::CaseArgs),
    Compare(compare::CompareArgs),
    Table(table::TableArgs),
    Deploy(deploy::DeployArgs),
    Releases(releases::ReleasesArgs),
    Rollback(releases::RollbackArgs),
    Status(status::StatusArgs),
    Watch(watch::WatchArgs),
    Messages(messages::MessagesArgs),
    Arrivals(arrivals::ArrivalsArgs),
    Show(show_command::ShowArgs),
    Reasons(reasons::ReasonsArgs),
    Assign(assign::AssignArgs),
    Resend(resend::ResendArgs),
    Amend(amend::AmendArgs),
    Discard(discard::DiscardArgs),
    Bulk(bulk::BulkArgs),
    Accept(accept::AcceptArgs),
    Orders(orders::OrdersArgs),
    Order(orders::OrderArgs),
    Submit(submit::SubmitArgs),
    Flow(flow::FlowArgs),
    Connection(connection::ConnectionArgs),
    Secret(secret::SecretArgs),
    Capture(capture::CaptureArgs),
    Console(console::ConsoleArgs),
    /// Write shell completions to standard output
    Completions {
        shell: clap_complete::Shell,
    },
}

fn main() -> ExitCode {
    let cli = Cli::parse();
    // `wirewatch … | head` ends quietly; the service must not end because a reader of its log has.
    if !matches!(cli.command, Command::Serve(_)) {
        sigpipe::reset();
    }
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build();
    let done = match runtime {
        Ok(runtime) => runtime.block_on(run(cli)),
        Err(error) => Err(CommandError::Failed(error.to_string())),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => error.report(),
    }
}

async fn run(cli: Cli) -> Result<(), CommandError> {
    let client = &cli.client;
    match cli.command {
        Command::Serve(args) => serve::run(args).await,
        Command::Check(args) => check::run(&args),
        Command::Edi(args) => edi::run(&args),
        Command::Schema(args) => schema::run(&args).await,
        Command::Map(args) => map::run(client, &args).await,
        Command::DryRun(args) => dry_run::run(client, &args).await,
        Command::Cases(args) => cases::run(&args),
        Command::Case(args) => cases::make(client, &args).await,
        Command::Table(args) => table::run(&args),
        Command::Compare(args) => compare::run(client, &args).await,
        Command::Deploy(args) => deploy::run(client, &args).await,
        Command::Releases(args) => releases::list(client, &args).await,
        Command::Rollback(args) => releases::rollback(client, &args).await,
        Command::Status(args) => status::run(client, &args).await,
        Command::Watch(args) => watch::run(client, &args).await,
        Command::Messages(args) => messages::run(client, &args).await,
        Command::Arrivals(args) => arrivals::run(client, &args).await,
        Command::Show(args) => show_command::run(client, &args).await,
        Command::Reasons(args) => reasons::run(client, &args).await,
        Command::Assign(args) => assign::run(client, &args).await,
        Command::Resend(args) => resend::run(client, &args).await,
        Command::Amend(args) => amend::run(client, &args).await,
        Command::Discard(args) => discard::run(client, &args).await,
        Command::Bulk(args) => bulk::run(client, &args).await,
        Command::Accept(args) => accept::run(client, &args).await,
        Command::Orders(args) => orders::list(client, &args).await,
        Command::Order(args) => orders::one(client, &args).await,
        Command::Flow(args) => flow::run(client, &args).await,
        Command::Submit(args) => submit::run(client, &args).await,
        Command::Connection(args) => connection::run(client, &args).await,
        Command::Secret(args) => secret::run(client, &args).await,
        Command::Capture(args) => capture::run(client, &args).await,
        Command::Console(args) => console::run(client, &args).await,
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut Cli::command(), "wirewatch", &mut std::io::stdout());
            Ok(())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Appends a command with its help, and those below it.
    fn document(page: &mut String, mut command: clap::Command, path: &str, level: usize) {
        let path = format!("{path} {}", command.get_name()).trim().to_owned();
        let inner: Vec<clap::Command> = command.get_subcommands().filter(|one| one.get_name() != "help").cloned().collect();
        let about = command.get_long_about().or(command.get_about()).map(ToString::to_string).unwrap_or_default();
        command = command.about(None::<&str>).long_about(None::<&str>).term_width(100).mut_args(|arg| arg.hide_env_values(true));
        let help = command.bin_name(&path).render_long_help().to_string();
        page.push_str(&format!("\n{} {path}\n\n{about}\n\n```text\n{}\n```\n", "#".repeat(level), help.trim()));
        inner.into_iter().for_each(|one| document(page, one, &path, (level + 1).min(4)));
    }

    #[test]
    fn docs_commands_md_has_the_help_of_every_command() {
        let mut page =
            "# Commands\n\nThe help of every command, as `--help` prints it. `WRITE_DOCS=1 cargo test -p wirewatch-cli docs` \
                        writes this page.\n"
                .to_owned();
        let mut root = Cli::command();
        root.build();
        root.get_subcommands()
            .filter(|one| one.get_name() != "help")
            .for_each(|one| document(&mut page, one.clone(), "wirewatch", 2));
        let lines: Vec<&str> = page.lines().map(str::trim_end).collect();
        let page = lines.join("\n") + "\n";
        let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/commands.md");
        if std::env::var_os("WRITE_DOCS").is_some() {
            std::fs::write(&path, &page).unwrap();
        }
        let written = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(
            written == page,
            "the help has changed: WRITE_DOCS=1 cargo test -p wirewatch-cli docs, and look at the difference"
        );
    }

    #[test]
    fn the_command_line_is_sound() {
        Cli::command().debug_assert();
    }
}
