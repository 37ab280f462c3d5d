//! `schema from`: infers a schema from samples, or converts another kind of schema, a table of positions, or database tables.

use super::database;
use crate::commands::compare;
use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui;
use serde_json::Value;
use std::path::{Path, PathBuf};
use wirewatch_core::compare::differences;
use wirewatch_core::schema::{
    Schema, Written, annotate, infer, infer_of_texts, is_openapi, is_xml_schema, of_openapi, of_positions, of_xml_schema,
    read_sample, with_examples,
};
use wirewatch_core::workspace::Workspace;

/// Make a schema from samples, or from another kind of schema
///
/// Samples are JSON (one document, or several in a row), CSV with a header line, or XML. Types, formats, required fields and
/// example values are inferred. An OpenAPI 3 document (JSON or YAML), an XML Schema, and the address of a PostgreSQL database
/// (postgres://user@host/name, the password in PGPASSWORD) are converted; --of selects one of their schemas, elements or tables.
/// With --positions, a CSV table gives the positions of fields in records, by which samples are read. With --name it is written
/// into the workspace; otherwise it is printed.
#[derive(Debug, clap::Args)]
pub struct FromArgs {
    /// The samples, a schema, or a database; - for standard input
    #[arg(required_unless_present = "positions", value_name = "SOURCE")]
    sources: Vec<PathBuf>,
    /// Which schema, element or table, where the source has several
    #[arg(long, value_name = "NAME")]
    of: Option<String>,
    /// A CSV table with the columns record, list, field, at, length, type, always, places, date, side, pad, title
    #[arg(long, value_name = "TABLE")]
    positions: Option<PathBuf>,
    /// Separator between the columns of records, for fields without fixed positions
    #[arg(long, requires = "positions", value_name = "CHARACTER")]
    separator: Option<char>,
    /// Name of the schema: schemas/NAME.schema.json
    #[arg(long)]
    name: Option<String>,
    /// Put it in place of the one there is, after showing how they differ
    #[arg(long, requires = "name")]
    replace: bool,
    /// Form of the samples; detected from their beginning when left out
    #[arg(long, value_parser = ["json", "csv", "xml"])]
    form: Option<String>,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
}

pub async fn run(args: &FromArgs) -> Result<(), CommandError> {
    let (node, from) = schema_from(args).await?;
    match &args.name {
        None => {
            ui::json(&node);
            Ok(())
        }
        Some(name) => keep(&args.workspace, name, node, args.replace, &from),
    }
}

/// The schema, and what it is made from.
async fn schema_from(args: &FromArgs) -> Result<(Value, String), CommandError> {
    let title = args.name.as_deref().unwrap_or("Made from samples");
    if let Some(table) = &args.positions {
        return positions(args, table, title);
    }
    let named = |source: &Path, says: String| CommandError::Failed(format!("{}: {says}", source.display()));
    if let [source] = args.sources.as_slice() {
        if let Some(address) = source.to_str().filter(|address| address.starts_with("postgres")) {
            let node = database::schema(address, args.of.as_deref()).await.map_err(CommandError::Failed)?;
            return Ok((node, "the database".to_owned()));
        }
        let bytes = local::bytes(source)?;
        if is_xml_schema(&bytes) {
            let node = of_xml_schema(&bytes, args.of.as_deref()).map_err(|says| named(source, says))?;
            return Ok((node, "the XML Schema".to_owned()));
        }
        if let Some(document) = openapi(source, &bytes)? {
            let node = of_openapi(&document, args.of.as_deref()).map_err(|says| named(source, says))?;
            return Ok((node, "the OpenAPI document".to_owned()));
        }
        return samples(args, vec![(source, bytes)], title);
    }
    let each = args.sources.iter().map(|source| Ok((source, local::bytes(source)?)));
    samples(args, each.collect::<Result<_, CommandError>>()?, title)
}

fn samples(args: &FromArgs, sources: Vec<(&PathBuf, Vec<u8>)>, title: &str) -> Result<(Value, String), CommandError> {
    if args.of.is_some() {
        let says = "--of is for an OpenAPI document, an XML Schema or a database, and this input is none of these";
        return Err(CommandError::Usage(says.to_owned()));
    }
    let mut samples = Vec::new();
    let mut seen = Vec::new();
    for (source, bytes) in sources {
        let written = args.form.as_deref().and_then(Written::of).unwrap_or_else(|| Written::seen_in(&bytes));
        let read = read_sample(written, &bytes).map_err(|says| CommandError::Failed(format!("{}: {says}", source.display())))?;
        samples.extend(read);
        seen.push((written, bytes));
    }
    // All values of samples other than JSON are texts.
    let texts = seen.iter().any(|(written, _)| *written != Written::Json);
    let mut node = if texts { infer_of_texts(&samples, title) } else { infer(&samples, title) };
    for (written, bytes) in &seen {
        annotate(&mut node, *written, bytes);
    }
    Ok((node, ui::count(samples.len(), "sample")))
}

/// The document, where it is one of OpenAPI. Its endings are those that such files have.
fn openapi(source: &Path, bytes: &[u8]) -> Result<Option<Value>, CommandError> {
    let yaml = source.extension().is_some_and(|ending| ending == "yaml" || ending == "yml");
    let document: Option<Value> = match yaml {
        true => {
            // YAML 1.2, as OpenAPI requires: `no` is a text there.
            let options = serde_saphyr::options! { strict_booleans: true };
            let read = serde_saphyr::from_slice_with_options(bytes, options);
            Some(read.map_err(|error| CommandError::Failed(format!("{}: not YAML: {error}", source.display())))?)
        }
        false => serde_json::from_slice(bytes).ok(),
    };
    let document = document.filter(is_openapi);
    if yaml && document.is_none() {
        let says = "YAML is read as an OpenAPI document, but this file has no `openapi` key";
        return Err(CommandError::Failed(format!("{}: {says}", source.display())));
    }
    Ok(document)
}

fn positions(args: &FromArgs, table: &Path, title: &str) -> Result<(Value, String), CommandError> {
    let text = String::from_utf8_lossy(&local::bytes(table)?).into_owned();
    let node = of_positions(&text, args.separator, title)
        .map_err(|says| CommandError::Failed(format!("{}: {says}", table.display())))?;
    let mut schema = Schema { name: title.to_owned(), root: node };
    let mut samples = Vec::new();
    for source in &args.sources {
        let read = schema.read(Written::Records, &local::bytes(source)?);
        samples.push(read.map_err(|says| CommandError::Failed(format!("{}: {says}", source.display())))?);
    }
    with_examples(&mut schema.root, &samples);
    let read = if samples.is_empty() { String::new() } else { format!(", {} read by it", ui::count(samples.len(), "sample")) };
    Ok((schema.root, format!("the table of positions{read}")))
}

/// Makes a file of the workspace of it. One that is there already stays, unless it is to be replaced; how they differ is shown.
pub fn keep(workspace: &Path, name: &str, node: Value, replace: bool, from: &str) -> Result<(), CommandError> {
    let file = workspace.join("schemas").join(format!("{name}.schema.json"));
    if file.exists() {
        let before: Value = serde_json::from_slice(&local::bytes(&file)?)
            .map_err(|error| CommandError::Failed(format!("{}: not JSON: {error}", file.display())))?;
        if !changed(workspace, name, &before, &node)? {
            outln!("{} has the same content", file.display());
            return Ok(());
        }
        if !replace {
            return Err(CommandError::Failed(format!("{} exists already; --replace overwrites it", file.display())));
        }
    }
    local::write(&file, &(serde_json::to_string_pretty(&node).unwrap_or_default() + "\n"))?;
    let schema = Schema { name: name.to_owned(), root: node };
    outln!("{} written: {} from {from}", file.display(), ui::count(super::fields(&schema).len(), "field"));
    Ok(())
}

/// Shows how a schema differs from the one before, and the maps that it concerns; whether it does.
fn changed(workspace: &Path, name: &str, before: &Value, after: &Value) -> Result<bool, CommandError> {
    // Other example values do not make another schema.
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
        outln!("affected: {}", maps.join(", "));
    }
    Ok(true)
}
