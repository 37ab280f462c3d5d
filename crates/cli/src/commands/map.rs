use crate::error::CommandError;
use crate::local;
use crate::ui::{self, cell, number, paint, styled};
use serde_json::{Value, json};
use std::path::PathBuf;
use std::sync::Arc;
use wirewatch_core::Document;
use wirewatch_core::document::Form;
use wirewatch_core::map::{Filled, Map, scope_of};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::x12::{Limits, Reader};

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

/// A document with what the map may know of where it came from.
struct Given {
    title: String,
    document: Document,
    meta: Value,
}

pub fn run(args: &MapArgs) -> Result<(), CommandError> {
    let MapCommand::Run(args) = &args.command;
    let workspace = local::workspace(&args.workspace)?;
    let Some(map) = workspace.maps.get(&args.name) else {
        return Err(local::unknown(&args.workspace, "map", &args.name, workspace.maps.keys().map(String::as_str)));
    };
    let bytes = local::bytes(&args.given)?;
    let given = match map.from.strip_prefix("x12/").and_then(|rest| rest.split_once('/')) {
        Some((version, set)) => sets(&workspace, args, &bytes, version, set)?,
        None => {
            let document = Document::read(&Form::Json, &bytes)
                .map_err(|error| CommandError::Failed(format!("{}: {error}", args.given.display())))?;
            vec![Given { title: String::new(), document, meta: json!({}) }]
        }
    };
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

/// The sets of an X12 file that the map takes.
fn sets(workspace: &Workspace, args: &RunArgs, bytes: &[u8], version: &str, set: &str) -> Result<Vec<Given>, CommandError> {
    let own = Arc::new(workspace.clone());
    let mut reader = Reader::choosing(move |header| own.terms(header), Limits::default());
    reader.feed(bytes);
    let mut given = Vec::new();
    for interchange in reader.finish().interchanges {
        let header = &interchange.header;
        let partner = workspace.partner_of(header).map_or("", |partner| partner.name.as_str());
        for group in interchange.groups.iter().filter(|group| group.version.starts_with(version)) {
            for one in group.sets.iter().filter(|one| one.set == set) {
                let form = Form::X12 { version: group.version.clone(), set: set.to_owned(), delimiters: header.delimiters };
                let own = &bytes[one.bytes.start as usize..one.bytes.end as usize];
                let document = Document::read_by(&workspace.definitions, &form, own)
                    .map_err(|error| CommandError::Failed(format!("{}: {error}", args.given.display())))?;
                let meta = json!({
                    "partner": partner, "interchange": header.control, "group": group.control, "usage": header.usage,
                });
                given.push(Given { title: format!("{set} {}", one.control), document, meta });
            }
        }
    }
    if given.is_empty() {
        let says = format!("{}: no {set} in {version}; `wirewatch edi check` says what is in it", args.given.display());
        return Err(CommandError::Failed(says));
    }
    Ok(given)
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
