use crate::error::CommandError;
use crate::local;
use crate::ui::{self, cell, number, paint, styled};
use serde_json::{Value, json};
use std::path::PathBuf;
use wirewatch_core::map::{Filled, Map, scope_of};
use wirewatch_core::trial::{Given, given_to_map};
use wirewatch_core::workspace::Workspace;

/// Try a map of the workspace on a document
///
/// Needs no running service.
#[derive(Debug, clap::Args)]
pub struct MapArgs {
    #[command(subcommand)]
    command: MapCommand,
}

#[derive(Debug, clap::Subcommand)]
enum MapCommand {
    Run(RunArgs),
}

/// Map a document and print what comes of it
///
/// An X12 file gives one result for each of its sets that the map takes. With --explain, which rule filled which field,
/// and what with.
#[derive(Debug, clap::Args)]
struct RunArgs {
    /// The map, as its file is called
    name: String,
    /// The document; - for standard input
    #[arg(long, value_name = "FILE")]
    given: PathBuf,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
    /// Show what each rule gave
    #[arg(long)]
    explain: bool,
    /// Print a list of the results, with --explain their rules too, as JSON
    #[arg(long)]
    json: bool,
}

pub fn run(args: &MapArgs) -> Result<(), CommandError> {
    let MapCommand::Run(args) = &args.command;
    let workspace = local::workspace(&args.workspace)?;
    let Some(map) = workspace.maps.get(&args.name) else {
        return Err(local::unknown(&args.workspace, "map", &args.name, workspace.maps.keys().map(String::as_str)));
    };
    let bytes = local::bytes(&args.given)?;
    let given = given_to_map(&workspace, map, &bytes)
        .map_err(|says| CommandError::Failed(format!("{}: {says}", args.given.display())))?;
    let mut results = Vec::with_capacity(given.len());
    for one in &given {
        results.push(mapped(&workspace, map, one).map_err(CommandError::Failed)?);
    }
    if args.json {
        let results = results.into_iter().map(|(result, rules)| match args.explain {
            true => json!({ "result": result, "rules": rules }),
            false => result,
        });
        ui::json(&results.collect::<Vec<_>>());
        return Ok(());
    }
    for (one, (result, rules)) in given.iter().zip(&results) {
        if given.len() > 1 {
            anstream::println!("{}", paint(ui::BOLD, &one.title));
        }
        match args.explain {
            true => explained(rules),
            false => ui::json(result),
        }
    }
    Ok(())
}

fn mapped(workspace: &Workspace, map: &Map, given: &Given) -> Result<(Value, Vec<Filled>), String> {
    let mut kept = serde_json::Map::new();
    kept.insert("meta".to_owned(), given.meta.clone());
    let scope = scope_of(&given.document, &kept, &workspace.tables);
    map.explain(&scope).map_err(|error| format!("maps/{}.toml: {error}", map.name))
}

/// A row for each rule: what was filled, with what, and by which expression.
fn explained(rules: &[Filled]) {
    let row = |rule: &Filled| {
        let value = match &rule.value {
            Some(Value::String(text)) => cell(text),
            Some(other) => cell(other.to_string()),
            None => styled(ui::DIM, "nothing: left out"),
        };
        vec![cell(&rule.target), value, number(rule.line), cell(&rule.expression)]
    };
    ui::table(&["field", "value", "line", "rule"], &rules.iter().map(row).collect::<Vec<_>>());
}
