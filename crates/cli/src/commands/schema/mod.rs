mod database;
mod from;

use crate::error::CommandError;
use crate::local;
use crate::terminal::{document, outln};
use crate::ui::{self, cell, paint, styled};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use wirewatch_core::expr::Shape;
use wirewatch_core::schema::{Leaf, Schema, Written, fields_of_set, of_fields, sample};

/// Make schemas from samples, search them, generate documents from them
///
/// Needs no running service.
#[derive(Debug, clap::Args)]
pub struct SchemaArgs {
    #[command(subcommand)]
    command: SchemaCommand,
}

#[derive(Debug, clap::Subcommand)]
enum SchemaCommand {
    From(from::FromArgs),
    New(NewArgs),
    Show(ShowArgs),
    Sample(SampleArgs),
}

/// Make a schema field by field
///
/// A field is PATH:TYPE, with (LENGTH) for the longest value, ! if it is required, a label after a blank and a note after ` -- `:
/// "lines[].item:text(20)! Item number -- as printed on the label". Types are text, number, integer, truth, date, moment, mail;
/// text when left out.
#[derive(Debug, clap::Args)]
struct NewArgs {
    /// Name of the schema: schemas/NAME.schema.json
    name: String,
    /// The fields
    #[arg(required = true, value_name = "FIELD")]
    fields: Vec<String>,
    /// Title for people; the name when left out
    #[arg(long)]
    title: Option<String>,
    /// Put it in place of the one there is, after showing how they differ
    #[arg(long)]
    replace: bool,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
}

/// Show a schema's fields as a tree, or find some by name or by a value that was seen
#[derive(Debug, clap::Args)]
struct ShowArgs {
    /// The schema, or a transaction set, as in x12/004010/850
    name: String,
    /// Only fields whose path, title or examples contain this text
    #[arg(long, value_name = "TEXT", default_value = "")]
    find: String,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
    /// Print the fields as JSON
    #[arg(long)]
    json: bool,
}

/// Make up documents of a schema
#[derive(Debug, clap::Args)]
struct SampleArgs {
    /// The schema
    name: String,
    /// The same seed gives the same documents
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Number of documents, written one after another
    #[arg(long, default_value_t = 1)]
    count: u64,
    /// Form of the documents
    #[arg(long = "as", value_parser = ["json", "csv", "xml", "records"])]
    written: Option<String>,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
}

pub async fn run(args: &SchemaArgs) -> Result<(), CommandError> {
    match &args.command {
        SchemaCommand::From(args) => from::run(args).await,
        SchemaCommand::New(args) => typed(args),
        SchemaCommand::Show(args) => show(args),
        SchemaCommand::Sample(args) => made_up(args),
    }
}

fn typed(args: &NewArgs) -> Result<(), CommandError> {
    let title = args.title.as_deref().unwrap_or(&args.name);
    let node = of_fields(&args.fields, title).map_err(CommandError::Usage)?;
    from::keep(&args.workspace, &args.name, node, args.replace, "the fields on the command line")
}

fn fields(schema: &Schema) -> Vec<(String, Leaf)> {
    let mut all = Vec::new();
    schema.level().each("", &mut |path, leaf| all.push((path.to_owned(), leaf.clone())));
    all
}

fn named(folder: &Path, name: &str) -> Result<Schema, CommandError> {
    let workspace = local::workspace(folder)?;
    match workspace.schemas.get(name) {
        Some(schema) => Ok((**schema).clone()),
        None => Err(local::unknown(folder, "schema", name, workspace.schemas.keys().map(String::as_str))),
    }
}

/// The fields of a schema or a transaction set.
fn fields_of(folder: &Path, name: &str) -> Result<Vec<(String, Leaf)>, CommandError> {
    if !name.starts_with("x12/") {
        return Ok(fields(&named(folder, name)?));
    }
    let workspace = local::workspace(folder)?;
    match workspace.shape(name) {
        Some(Shape::Loop(set, _)) => Ok(fields_of_set(set)),
        _ => {
            let known: Vec<String> = workspace.definitions.all().map(|set| format!("x12/{}/{}", set.version, set.set)).collect();
            Err(local::unknown(folder, "transaction set", name, known.iter().map(String::as_str)))
        }
    }
}

/// Characters of the values that are shown of a field in the tree: code lists are long.
const SEEN: usize = 60;

fn show(args: &ShowArgs) -> Result<(), CommandError> {
    let wanted = args.find.to_lowercase();
    let has = |text: &str| text.to_lowercase().contains(&wanted);
    let seen = |leaf: &Leaf| leaf.examples.iter().map(shown).collect::<Vec<_>>().join(", ");
    let found: Vec<_> = fields_of(&args.workspace, &args.name)?
        .into_iter()
        .filter(|(path, leaf)| has(path) || has(&leaf.title) || has(&seen(leaf)))
        .collect();
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
    let mut rows = Vec::new();
    let mut open: Vec<&str> = Vec::new();
    for (path, leaf) in &found {
        let mut parents: Vec<&str> = path.split('.').collect();
        let own = parents.pop().unwrap_or_default();
        // A search result has its whole path; otherwise fields are shown as a tree.
        let (indent, name) = match wanted.is_empty() {
            false => (0, path.as_str()),
            true => {
                let common = open.iter().zip(&parents).take_while(|(a, b)| a == b).count();
                for (depth, parent) in parents.iter().enumerate().skip(common) {
                    let list = if parent.ends_with("[]") { "list" } else { "" };
                    let name = format!("{}{}", "  ".repeat(depth), parent.trim_end_matches("[]"));
                    rows.push(vec![styled(ui::BOLD, name), cell(list), cell(""), cell(""), cell("")]);
                }
                open.clone_from(&parents);
                (parents.len(), own)
            }
        };
        let kind = if leaf.format.is_empty() { leaf.kind.clone() } else { format!("{} {}", leaf.kind, leaf.format) };
        let needed = if leaf.required { cell("always") } else { cell("") };
        let name = format!("{}{name}", "  ".repeat(indent));
        // A field found by a value shows that value; code lists are long.
        let hits: Vec<String> = leaf.examples.iter().map(shown).filter(|value| !wanted.is_empty() && has(value)).collect();
        let seen = if hits.is_empty() { ui::shorten(&seen(leaf), SEEN) } else { hits.join(", ") };
        rows.push(vec![cell(name), cell(kind), needed, cell(&leaf.title), styled(ui::DIM, seen)]);
    }
    ui::table(&["field", "type", "there", "what it is", "seen"], &rows);
    let says = if args.find.is_empty() { String::new() } else { format!(" with {}", paint(ui::BOLD, &args.find)) };
    outln!("{}{says}", ui::count(found.len(), "field"));
    Ok(())
}

fn shown(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

fn made_up(args: &SampleArgs) -> Result<(), CommandError> {
    let schema = named(&args.workspace, &args.name)?;
    for n in 0..args.count {
        let made = sample(&schema, args.seed.wrapping_add(n));
        match args.written.as_deref().and_then(Written::of) {
            None | Some(Written::Json) => ui::json(&made),
            Some(written) => document(&schema.write(written, &made).map_err(CommandError::Failed)?)?,
        }
    }
    Ok(())
}
