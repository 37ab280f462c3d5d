use super::compare;
use crate::error::CommandError;
use crate::local;
use crate::ui::{self, cell, paint, styled};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use wirewatch_core::compare::differences;
use wirewatch_core::outline::{Leaf, Outline, Written, infer, read_sample, sample};
use wirewatch_core::workspace::Workspace;

/// Outlines of documents: made from samples, searched, and turned into made-up documents
///
/// Needs no running service.
#[derive(Debug, clap::Args)]
pub struct OutlineArgs {
    #[command(subcommand)]
    command: OutlineCommand,
}

#[derive(Debug, clap::Subcommand)]
enum OutlineCommand {
    From(FromArgs),
    Show(ShowArgs),
    Sample(SampleArgs),
}

/// Make an outline of what samples have in common
///
/// JSON (one document, or several behind one another), CSV with a line of names, or XML. Types, formats, what is always
/// there and some values are taken from what is seen. With --name it becomes a file of the workspace; otherwise it is printed.
#[derive(Debug, clap::Args)]
struct FromArgs {
    /// The samples; - for standard input
    #[arg(required = true)]
    samples: Vec<PathBuf>,
    /// What to call it: outlines/NAME.schema.json
    #[arg(long)]
    name: Option<String>,
    /// Put it in place of the one there is, after showing how they differ
    #[arg(long, requires = "name")]
    replace: bool,
    /// How the samples are written; seen from what they begin with where this is not given
    #[arg(long, value_parser = ["json", "csv", "xml"])]
    form: Option<String>,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
}

/// Show an outline's fields, or find some by name or by a value that was seen
#[derive(Debug, clap::Args)]
struct ShowArgs {
    /// The outline
    name: String,
    /// Only fields whose path, title or examples have this in them
    #[arg(long, value_name = "TEXT", default_value = "")]
    find: String,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
    /// Print the fields as JSON
    #[arg(long)]
    json: bool,
}

/// Make up documents of an outline
#[derive(Debug, clap::Args)]
struct SampleArgs {
    /// The outline
    name: String,
    /// The same seed gives the same documents
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// How many, one behind another
    #[arg(long, default_value_t = 1)]
    count: u64,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
}

pub fn run(args: &OutlineArgs) -> Result<(), CommandError> {
    match &args.command {
        OutlineCommand::From(args) => from(args),
        OutlineCommand::Show(args) => show(args),
        OutlineCommand::Sample(args) => made_up(args),
    }
}

fn from(args: &FromArgs) -> Result<(), CommandError> {
    let mut samples = Vec::new();
    for file in &args.samples {
        let bytes = local::bytes(file)?;
        let written = args.form.as_deref().and_then(Written::of).unwrap_or_else(|| Written::seen_in(&bytes));
        let read = read_sample(written, &bytes).map_err(|says| CommandError::Failed(format!("{}: {says}", file.display())))?;
        samples.extend(read);
    }
    let title = args.name.as_deref().unwrap_or("Made from samples");
    let schema = infer(&samples, title);
    let Some(name) = &args.name else {
        ui::json(&schema);
        return Ok(());
    };
    let file = args.workspace.join("outlines").join(format!("{name}.schema.json"));
    if file.exists() {
        let before: Value = serde_json::from_slice(&local::bytes(&file)?)
            .map_err(|error| CommandError::Failed(format!("{}: not JSON: {error}", file.display())))?;
        if !changed(&args.workspace, name, &before, &schema)? {
            println!("{} says the same", file.display());
            return Ok(());
        }
        if !args.replace {
            return Err(CommandError::Failed(format!("{} is there already; --replace puts this in its place", file.display())));
        }
    }
    write(&file, &(serde_json::to_string_pretty(&schema).unwrap_or_default() + "\n"))?;
    let outline = Outline { name: name.clone(), schema };
    println!(
        "{} written: {} from {}",
        file.display(),
        ui::count(fields(&outline).len(), "field"),
        ui::count(samples.len(), "sample")
    );
    Ok(())
}

/// Shows how an outline differs from the one before, and the maps that it concerns; whether it does.
fn changed(workspace: &Path, name: &str, before: &Value, after: &Value) -> Result<bool, CommandError> {
    // Other values seen are no other outline.
    let differences = differences(before, after).into_iter().filter(|one| !one.at.contains("examples") && one.at != "title");
    let found: Vec<_> = differences.collect();
    if found.is_empty() {
        return Ok(false);
    }
    compare::show(&found, "");
    let checked = Workspace::read(&local::files(workspace)?);
    let maps: Vec<String> = checked
        .workspace
        .map(|workspace| {
            let concerned = workspace.maps.values().filter(|map| map.from == name || map.to == name);
            concerned.map(|map| format!("maps/{}.toml", map.name)).collect()
        })
        .unwrap_or_default();
    if !maps.is_empty() {
        println!("it concerns {}", maps.join(", "));
    }
    Ok(true)
}

fn write(file: &Path, text: &str) -> Result<(), CommandError> {
    if let Some(folder) = file.parent() {
        std::fs::create_dir_all(folder).map_err(|error| local::failed(folder, &error))?;
    }
    std::fs::write(file, text).map_err(|error| local::failed(file, &error))
}

fn fields(outline: &Outline) -> Vec<(String, Leaf)> {
    let mut all = Vec::new();
    outline.level().each("", &mut |path, leaf| all.push((path.to_owned(), leaf.clone())));
    all
}

fn named(folder: &Path, name: &str) -> Result<Outline, CommandError> {
    let workspace = local::workspace(folder)?;
    match workspace.outlines.get(name) {
        Some(outline) => Ok((**outline).clone()),
        None => Err(local::unknown(folder, "outline", name, workspace.outlines.keys().map(String::as_str))),
    }
}

fn show(args: &ShowArgs) -> Result<(), CommandError> {
    let outline = named(&args.workspace, &args.name)?;
    let wanted = args.find.to_lowercase();
    let has = |text: &str| text.to_lowercase().contains(&wanted);
    let seen = |leaf: &Leaf| leaf.examples.iter().map(shown).collect::<Vec<_>>().join(", ");
    let found: Vec<_> =
        fields(&outline).into_iter().filter(|(path, leaf)| has(path) || has(&leaf.title) || has(&seen(leaf))).collect();
    if args.json {
        let each = found.iter().map(|(path, leaf)| {
            json!({
                "path": path, "type": leaf.kind, "format": leaf.format, "required": leaf.required, "title": leaf.title,
                "examples": leaf.examples,
            })
        });
        ui::json(&each.collect::<Vec<_>>());
        return Ok(());
    }
    let row = |(path, leaf): &(String, Leaf)| {
        let kind = if leaf.format.is_empty() { leaf.kind.clone() } else { format!("{} {}", leaf.kind, leaf.format) };
        let needed = if leaf.required { cell("always") } else { styled(ui::DIM, "") };
        vec![cell(path), cell(kind), needed, styled(ui::DIM, seen(leaf))]
    };
    ui::table(&["field", "type", "there", "seen"], &found.iter().map(row).collect::<Vec<_>>());
    let says = if args.find.is_empty() { String::new() } else { format!(" with {}", paint(ui::BOLD, &args.find)) };
    anstream::println!("{}{says}", ui::count(found.len(), "field"));
    Ok(())
}

fn shown(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

fn made_up(args: &SampleArgs) -> Result<(), CommandError> {
    let outline = named(&args.workspace, &args.name)?;
    for n in 0..args.count {
        ui::json(&sample(&outline, args.seed.wrapping_add(n)));
    }
    Ok(())
}
