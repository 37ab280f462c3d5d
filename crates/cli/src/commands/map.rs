use crate::api::{ClientArgs, api_path};
use crate::error::CommandError;
use crate::local;
use crate::terminal::{clear, document, errln, out, outln};
use crate::ui::{self, cell, number, paint, styled};
use serde_json::{Value, json};
use std::path::PathBuf;
use std::time::Duration;
use wirewatch_core::map::{Filled, Map, SourceField, scope_of};
use wirewatch_core::propose::propose;
use wirewatch_core::trial::{Given, given_to_map, misfits};
use wirewatch_core::workspace::{Workspace, digest};
use wirewatch_service::view::{MapStory, MapView};

/// Propose a map, run it on a document, apply a draft from the console
///
/// Needs a running service for drafts only.
#[derive(Debug, clap::Args)]
pub struct MapArgs {
    #[command(subcommand)]
    command: MapCommand,
}

#[derive(Debug, clap::Subcommand)]
enum MapCommand {
    Run(RunArgs),
    Propose(ProposeArgs),
    Take(TakeArgs),
}

/// Copy a map's draft from the console into the workspace folder, after showing how it differs
///
/// Without a name, lists the maps with drafts. The draft is deleted then; `wirewatch deploy` puts the map into use.
#[derive(Debug, clap::Args)]
struct TakeArgs {
    /// The map
    name: Option<String>,
    /// Write the file; without it, only the difference is shown
    #[arg(long)]
    yes: bool,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
}

/// Propose a map between two schemas: rules to read and edit, each with how sure it is and why
///
/// Nothing is applied: with --name it becomes a file of the workspace, otherwise it is printed.
#[derive(Debug, clap::Args)]
struct ProposeArgs {
    /// Schema of the source: x12/004010/850, or a name
    from: String,
    /// Schema of the target
    to: String,
    /// Name of the map: maps/NAME.toml
    #[arg(long)]
    name: Option<String>,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
    /// Print the rules as JSON
    #[arg(long)]
    json: bool,
}

/// Map a document and print the result
///
/// An X12 file gives one result for each of its sets that the map takes. --explain shows which rule filled which field, and from
/// what.
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
    /// The value of a variable that an earlier step sets with `as`: $NAME is this JSON document
    #[arg(long = "with", value_name = "NAME=FILE")]
    variables: Vec<String>,
    /// Show what each rule gave
    #[arg(long)]
    explain: bool,
    /// Run again whenever the workspace or the document changes, until interrupted
    #[arg(long, conflicts_with_all = ["as_case", "json"])]
    watch: bool,
    /// Keep it as a case of the workspace: this document must always give this result
    #[arg(long, value_name = "NAME")]
    as_case: Option<String>,
    /// Print a list of the results, with --explain their rules too, as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &MapArgs) -> Result<(), CommandError> {
    match &args.command {
        MapCommand::Run(args) if args.watch => watch(args),
        MapCommand::Run(args) => try_out(args),
        MapCommand::Propose(args) => proposed(args),
        MapCommand::Take(args) => take(client, args).await,
    }
}

async fn take(client: &ClientArgs, args: &TakeArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let Some(name) = &args.name else {
        let maps: Vec<MapView> = client.get("/api/maps", &[]).await?;
        let with: Vec<_> = maps.iter().filter(|map| map.draft).map(|map| vec![cell(&map.name)]).collect();
        match with.is_empty() {
            true => outln!("no map has a draft"),
            false => ui::table(&["drafts"], &with),
        }
        return Ok(());
    };
    let story: MapStory = client.get(&api_path!("maps/{}", name), &[]).await?;
    let Some(draft) = story.draft else { return Err(CommandError::Failed(format!("the map {name} has no draft"))) };
    let file = args.workspace.join("maps").join(format!("{name}.toml"));
    let before = if file.exists() { String::from_utf8_lossy(&local::bytes(&file)?).into_owned() } else { String::new() };
    outln!("{} by {}, {}", paint(ui::BOLD, file.display().to_string()), draft.by, ui::exact(&draft.at));
    ui::text_difference(&before, &draft.text);
    if !args.yes {
        outln!("nothing was written; --yes writes it");
        return Ok(());
    }
    local::write(&file, &draft.text)?;
    client.delete(&api_path!("maps/{}/draft", name)).await?;
    outln!("{} written; next: `wirewatch check`, then `wirewatch deploy`", file.display());
    Ok(())
}

fn proposed(args: &ProposeArgs) -> Result<(), CommandError> {
    let workspace = local::workspace(&args.workspace)?;
    for name in [&args.from, &args.to] {
        if workspace.shape(name).is_none() {
            return Err(local::unknown(&args.workspace, "schema", name, workspace.schemas.keys().map(String::as_str)));
        }
    }
    let proposal = propose(&workspace, &args.from, &args.to).map_err(CommandError::Failed)?;
    if args.json {
        ui::json(&proposal);
        return Ok(());
    }
    let text = proposal.to_file(&args.from, &args.to);
    let Some(name) = &args.name else {
        out(&text);
        return Ok(());
    };
    let file = args.workspace.join("maps").join(format!("{name}.toml"));
    local::write_new(&file, &text, "a proposal does not overwrite it")?;
    outln!("{} written; `wirewatch map run {name} --given FILE --explain` shows what it does", file.display());
    Ok(())
}

/// Interval at which changes are looked for: shorter than a look up from the editor.
const LOOK: Duration = Duration::from_millis(200);

fn watch(args: &RunArgs) -> Result<(), CommandError> {
    if args.given.as_os_str() == "-" {
        return Err(CommandError::Usage("--watch needs a file: standard input does not change".to_owned()));
    }
    // A file that cannot be read for a moment, while an editor writes it, is a change like others.
    let seen = || (local::files(&args.workspace).map(|files| digest(&files)).ok(), local::bytes(&args.given).ok());
    let mut before = None;
    loop {
        let now = Some(seen());
        if now == before {
            std::thread::sleep(LOOK);
            continue;
        }
        before = now;
        clear();
        if let Err(error) = try_out(args) {
            error.report();
        }
        let says = format!("waiting for a change in {} or {}", args.workspace.display(), args.given.display());
        outln!("{}", paint(ui::DIM, says));
    }
}

fn try_out(args: &RunArgs) -> Result<(), CommandError> {
    let path = format!("maps/{}.toml", args.name);
    let (workspace, unfilled) = local::draft(&args.workspace, &path)?;
    let Some(map) = workspace.maps.get(&args.name) else {
        return Err(local::unknown(&args.workspace, "map", &args.name, workspace.maps.keys().map(String::as_str)));
    };
    let bytes = local::bytes(&args.given)?;
    let given = given_to_map(&workspace, map, &bytes)
        .map_err(|says| CommandError::Failed(format!("{}: {says}", args.given.display())))?;
    let variables = variables(&args.variables)?;
    let mut results = Vec::with_capacity(given.len());
    for one in &given {
        results.push(mapped(&workspace, map, one, &variables).map_err(CommandError::Failed)?);
    }
    if let Some(name) = &args.as_case {
        let shown = |(result, _): &(Value, _)| Ok(written(map, result)?.map_or_else(|| result.clone(), Value::String));
        let expect = Value::Array(results.iter().map(shown).collect::<Result<_, CommandError>>()?);
        let variables = super::cases::NewCase {
            name,
            says: "",
            subject: ("map", &args.name),
            given: &bytes,
            event: None,
            variables: variables.clone(),
        };
        let folder = variables.write(&args.workspace, &Default::default(), Some(&expect))?;
        errln!("stored as {}", folder.display());
    }
    let findings: Vec<_> = results.iter().flat_map(|(result, _)| misfits(map, &path, result)).collect();
    let end = if unfilled || !findings.is_empty() { Err(CommandError::Found) } else { Ok(()) };
    ui::findings(&findings);
    if args.json {
        let results = results.into_iter().zip(&given).map(|((result, rules), one)| match args.explain {
            true => json!({ "result": result, "rules": rules, "unused": map.unused(&one.document) }),
            false => result,
        });
        ui::json(&results.collect::<Vec<_>>());
        return end;
    }
    for (one, (result, rules)) in given.iter().zip(&results) {
        if given.len() > 1 {
            outln!("{}", paint(ui::BOLD, &one.title));
        }
        match args.explain {
            true => {
                explained(rules);
                left_over(&map.unused(&one.document));
            }
            false => match map.bytes(result).map_err(|error| CommandError::Failed(error.to_string()))? {
                None => ui::json(result),
                Some(mut bytes) => {
                    if !bytes.ends_with(b"\n") {
                        bytes.push(b'\n');
                    }
                    document(&bytes)?;
                }
            },
        }
    }
    end
}

/// Returns the result as text in the map's written form, if it has one.
fn written(map: &Map, result: &Value) -> Result<Option<String>, CommandError> {
    let bytes = map.bytes(result).map_err(|error| CommandError::Failed(error.to_string()))?;
    Ok(bytes.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()))
}

/// The documents of `NAME=FILE`.
fn variables(pairs: &[String]) -> Result<serde_json::Map<String, Value>, CommandError> {
    let read = |pair: &String| {
        let (name, file) = pair.split_once('=').ok_or_else(|| CommandError::Usage(format!("`{pair}` should be NAME=FILE")))?;
        let bytes = local::bytes(file.as_ref())?;
        let value = serde_json::from_slice(&bytes).map_err(|error| CommandError::Failed(format!("{file}: not JSON: {error}")))?;
        Ok((name.to_owned(), value))
    };
    pairs.iter().map(read).collect()
}

fn mapped(
    workspace: &Workspace,
    map: &Map,
    given: &Given,
    variables: &serde_json::Map<String, Value>,
) -> Result<(Value, Vec<Filled>), String> {
    let variables = given.variables(variables, &serde_json::Map::new());
    map.explain(&scope_of(&given.document, &variables, &workspace.library))
        .map_err(|error| format!("maps/{}.toml: {error}", map.name))
}

/// A row for each rule: what was filled, with what, and by which expression.
fn explained(rules: &[Filled]) {
    let row = |rule: &Filled| {
        let value = match &rule.value {
            Some(Value::String(text)) => cell(text),
            Some(other) => cell(other.to_string()),
            None => styled(ui::DIM, "no value: left out"),
        };
        vec![cell(&rule.target), value, number(rule.line), cell(&rule.expression)]
    };
    ui::table(&["field", "value", "line", "rule"], &rules.iter().map(row).collect::<Vec<_>>());
}

/// Prints source fields that no rule used.
fn left_over(unused: &[SourceField]) {
    if unused.is_empty() {
        outln!("\nevery field of the source is used");
        return;
    }
    outln!("\n{} of the source not used by any rule:", ui::count(unused.len(), "field"));
    let row = |one: &SourceField| {
        let times = if one.times > 1 { format!("{} times", one.times) } else { String::new() };
        vec![cell(&one.path), styled(ui::DIM, times), cell(&one.value)]
    };
    ui::table(&["field", "", "value"], &unused.iter().map(row).collect::<Vec<_>>());
}
