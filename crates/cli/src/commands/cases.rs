use super::compare;
use crate::api::{ClientArgs, api_path, message_path};
use crate::error::CommandError;
use crate::local;
use crate::terminal::{errln, outln};
use crate::ui::{self, paint};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use wirewatch_core::amend::{in_envelope, restore};
use wirewatch_core::document::Form;
use wirewatch_core::flow::Takes;
use wirewatch_core::schema::Written;
use wirewatch_core::trial::{Answer, Answers, Case, CaseError, Checked, Masked, mask, mask_json};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::x12::Delimiters;
use wirewatch_service::view::words::{DocumentForm, PersonAct};
use wirewatch_service::view::{DocumentView, Story};

/// Run the workspace's own tests: each case compares a result with the expected one
///
/// Needs no running service. Exit code 1 when one fails.
#[derive(Debug, clap::Args)]
pub struct CasesArgs {
    /// The cases to try; all of them where none is named
    names: Vec<String>,
    /// The workspace folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
    /// Make the present result the expected one, after showing how it differs
    #[arg(long)]
    accept: bool,
    /// Write a report in the JUnit form
    #[arg(long, value_name = "FILE")]
    junit: Option<PathBuf>,
    /// Print the outcomes as JSON
    #[arg(long)]
    json: bool,
}

/// Make a case from a message or a document
#[derive(Debug, clap::Args)]
pub struct CaseArgs {
    #[command(subcommand)]
    command: CaseCommand,
}

#[derive(Debug, clap::Subcommand)]
enum CaseCommand {
    From(FromArgs),
}

/// Make a case of a message: its document, the answers of outside systems, and its result in this workspace
#[derive(Debug, clap::Args)]
struct FromArgs {
    /// The message
    message: String,
    /// Name of the case; the message's key when left out
    #[arg(long)]
    name: Option<String>,
    /// The workspace folder it is written to
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
    /// Replace the letters and digits of names, addresses and telephone numbers
    #[arg(long)]
    mask: bool,
}

type Outcome = Result<Checked, CaseError>;

pub fn run(args: &CasesArgs) -> Result<(), CommandError> {
    let workspace = Arc::new(local::workspace(&args.workspace)?);
    let known = || workspace.cases.keys().map(String::as_str);
    if let Some(stranger) = args.names.iter().find(|name| !workspace.cases.contains_key(*name)) {
        return Err(local::unknown(&args.workspace, "case", stranger, known()));
    }
    let wanted = |case: &&Arc<Case>| args.names.is_empty() || args.names.contains(&case.name);
    let cases: Vec<&Arc<Case>> = workspace.cases.values().filter(wanted).collect();
    if cases.is_empty() {
        return Err(CommandError::Failed(format!("{} has no cases: cases/NAME/case.toml", args.workspace.display())));
    }
    let outcomes = all(&workspace, &cases);
    if args.json {
        ui::json(&cases.iter().zip(&outcomes).map(|(case, outcome)| as_json(case, outcome)).collect::<Vec<_>>());
    } else {
        let width = cases.iter().map(|case| case.name.chars().count()).max().unwrap_or(0);
        cases.iter().zip(&outcomes).for_each(|(case, outcome)| show(case, outcome, width));
    }
    if let Some(file) = &args.junit {
        std::fs::write(file, junit(&cases, &outcomes)?).map_err(|error| local::failed(file, &error))?;
    }
    let failed = outcomes.iter().filter(|outcome| !holds(outcome)).count();
    let unreadable = outcomes.iter().filter(|outcome| outcome.is_err()).count();
    if args.accept {
        for (case, outcome) in cases.iter().zip(&outcomes) {
            if let Ok(checked) = outcome
                && !checked.holds()
            {
                expect(&args.workspace, case, &checked.actual)?;
            }
        }
        if !args.json {
            outln!("{} accepted", ui::count(failed - unreadable, "outcome"));
        }
        return if unreadable == 0 { Ok(()) } else { Err(CommandError::Found) };
    }
    if !args.json {
        outln!("{}: {} passed, {failed} failed", ui::count(cases.len(), "case"), cases.len() - failed);
    }
    if failed == 0 { Ok(()) } else { Err(CommandError::Found) }
}

/// Runs every case of a workspace; returns how many passed, and the names of those that failed.
pub fn tally(workspace: &Arc<Workspace>) -> (usize, Vec<String>) {
    let cases: Vec<&Arc<Case>> = workspace.cases.values().collect();
    let outcomes = all(workspace, &cases);
    let failed = cases.iter().zip(&outcomes).filter(|(_, outcome)| !holds(outcome)).map(|(case, _)| case.name.clone());
    let failed: Vec<String> = failed.collect();
    (cases.len() - failed.len(), failed)
}

/// Every outcome, worked out side by side.
fn all(workspace: &Arc<Workspace>, cases: &[&Arc<Case>]) -> Vec<Outcome> {
    let workers = std::thread::available_parallelism().map_or(1, usize::from);
    let share = cases.len().div_ceil(workers).max(1);
    std::thread::scope(|scope| {
        let work = |part: Vec<&Arc<Case>>| part.iter().map(|case| case.check(workspace)).collect::<Vec<_>>();
        let started: Vec<_> = cases.chunks(share).map(|part| scope.spawn(move || work(part.to_vec()))).collect();
        started.into_iter().flat_map(|one| one.join().expect("cases do not panic")).collect()
    })
}

fn holds(outcome: &Outcome) -> bool {
    outcome.as_ref().is_ok_and(Checked::holds)
}

fn show(case: &Case, outcome: &Outcome, width: usize) {
    let line = |style, word: &str, says: &str| {
        let fill = " ".repeat(if says.is_empty() { 0 } else { width + 2 - case.name.chars().count() });
        let word = paint(style, format!("{word:<7}"));
        outln!("{word}  {}{fill}{}", paint(ui::BOLD, &case.name), paint(ui::DIM, says));
    };
    match outcome {
        Ok(checked) if checked.holds() => line(ui::GOOD, "passed", &case.says),
        Ok(checked) if !checked.expected => {
            line(ui::WAIT, "new", "no expected result yet; --accept stores this one:");
            let text = serde_json::to_string_pretty(&checked.actual).unwrap_or_default();
            text.lines().for_each(|line| outln!("    {line}"));
        }
        Ok(checked) => {
            line(ui::BAD, "differs", &case.says);
            compare::show(&checked.differences, "    ");
        }
        Err(error) => {
            line(ui::BAD, "broken", &case.says);
            outln!("    {error}");
        }
    }
}

fn as_json(case: &Case, outcome: &Outcome) -> Value {
    match outcome {
        Ok(checked) => json!({
            "case": case.name, "passed": checked.holds(), "expected": checked.expected, "differences": checked.differences,
        }),
        Err(error) => json!({ "case": case.name, "passed": false, "error": error.to_string() }),
    }
}

fn junit(cases: &[&Arc<Case>], outcomes: &[Outcome]) -> Result<String, CommandError> {
    let mut suite = TestSuite::new("cases");
    for (case, outcome) in cases.iter().zip(outcomes) {
        let status = match outcome {
            Ok(checked) if checked.holds() => TestCaseStatus::success(),
            Ok(checked) => {
                let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
                let says = if checked.expected { "the result differs" } else { "no expected result yet" };
                status.set_message(says).set_description(serde_json::to_string_pretty(&checked.differences).unwrap_or_default());
                status
            }
            Err(error) => {
                let mut status = TestCaseStatus::non_success(NonSuccessKind::Error);
                status.set_message(error.to_string());
                status
            }
        };
        suite.add_test_case(TestCase::new(case.name.as_str(), status));
    }
    let mut report = Report::new("wirewatch cases");
    report.add_test_suite(suite);
    report.to_string().map_err(|error| CommandError::Failed(error.to_string()))
}

fn expect(workspace: &Path, case: &Case, actual: &Value) -> Result<(), CommandError> {
    local::write(&workspace.join(case.expect_path()), &(serde_json::to_string_pretty(actual).unwrap_or_default() + "\n"))
}

pub async fn make(client: &ClientArgs, args: &CaseArgs) -> Result<(), CommandError> {
    let CaseCommand::From(args) = &args.command;
    local::files(&args.workspace)?;
    let client = client.client()?;
    let story: Story = client.get(&message_path(&args.message), &[]).await?;
    let mut bytes = client.bytes(&api_path!("arrivals/{}/bytes", story.message.arrival)).await?;
    // The last answers were given to the corrected document.
    if story.acts.iter().any(|act| act.act == PersonAct::Amended) {
        let amended: DocumentView = client.get(&api_path!("messages/{}/document", story.message.id), &[]).await?;
        bytes = as_given(&bytes, &amended)?;
    }
    let mut answers = answers(&story);
    if args.mask {
        let masked = masked(&local::workspace(&args.workspace)?, &story.message.flow, &bytes, &mut answers)?;
        let places = masked.what.iter().map(|(place, times)| format!("{place} ({times})")).collect::<Vec<_>>();
        bytes = masked.bytes;
        errln!(
            "masked: {}",
            if places.is_empty() { "nothing: no field is marked as personal data".to_owned() } else { places.join(", ") }
        );
    }
    let known = [args.name.as_deref().unwrap_or_default(), &story.message.key, &story.message.id];
    let name = known.into_iter().find(|name| !name.is_empty()).unwrap_or_default().to_lowercase().replace(['/', '\\', ' '], "-");
    let says = format!("As {} arrived", if story.message.key.is_empty() { &args.message } else { &story.message.key });
    let event = story.meta.get("event").and_then(Value::as_str);
    let new =
        NewCase { name: &name, says: &says, subject: ("flow", &story.message.flow), given: &bytes, event, variables: Map::new() };
    let folder = new.write(&args.workspace, &answers, None)?;
    let workspace = Arc::new(local::workspace(&args.workspace)?);
    let case = workspace.cases.get(&name);
    let case =
        case.ok_or_else(|| CommandError::Failed(format!("{} was written, but cannot be read as a case", folder.display())))?;
    let checked = case.check(&workspace).map_err(|error| CommandError::Failed(error.to_string()))?;
    expect(&args.workspace, case, &checked.actual)?;
    ui::json(&checked.actual);
    outln!("written to {}; correct expect.json where this is not the result you want", folder.display());
    Ok(())
}

/// The corrected document as it would have come: a transaction set in the envelope of its interchange.
fn as_given(arrived: &[u8], amended: &DocumentView) -> Result<Vec<u8>, CommandError> {
    if amended.form != DocumentForm::X12 {
        return Ok(amended.text.clone().into_bytes());
    }
    let delimiters = Delimiters::of_isa(arrived);
    let set = delimiters.map(|delimiters| {
        let form = Form::X12 { version: String::new(), set: String::new(), delimiters };
        restore(&form, &amended.text)
    });
    let whole = set.and_then(|set| in_envelope(arrived, &set));
    whole.ok_or_else(|| CommandError::Failed("the amended transaction set cannot be put back into its interchange".to_owned()))
}

/// The document and its answers with personal data masked.
fn masked(workspace: &Workspace, flow: &str, bytes: &[u8], answers: &mut Answers) -> Result<Masked, CommandError> {
    let intake = workspace.flows.get(flow).and_then(|flow| flow.intakes.first());
    let schema = intake.and_then(|intake| {
        let written = match &intake.form {
            Form::Shaped { written, .. } => *written,
            Form::Json | Form::X12 { .. } | Form::Bytes => Written::Json,
        };
        match &intake.takes {
            Takes::Json(name) => Some((&**workspace.schemas.get(name)?, written)),
            Takes::X12(_) | Takes::Text => None,
        }
    });
    let mut masked =
        mask(bytes, schema).map_err(|says| CommandError::Failed(format!("the document cannot be masked: {says}")))?;
    for (step, answer) in answers {
        let mut what = BTreeMap::new();
        mask_json(&mut answer.body, &mut what);
        masked.what.extend(what.into_iter().map(|(place, times)| (format!("answer to {step}: {place}"), times)));
    }
    Ok(masked)
}

/// A case to be written.
pub struct NewCase<'c> {
    pub name: &'c str,
    pub says: &'c str,
    /// `map` or `flow`, and its name.
    pub subject: (&'c str, &'c str),
    pub given: &'c [u8],
    pub event: Option<&'c str>,
    /// Variables that earlier steps would have set, by name.
    pub variables: Map<String, Value>,
}

impl NewCase<'_> {
    /// Writes the case into a new folder; returns the folder.
    pub fn write(&self, workspace: &Path, answers: &Answers, expect: Option<&Value>) -> Result<PathBuf, CommandError> {
        let text = std::str::from_utf8(self.given);
        let text =
            text.map_err(|_| CommandError::Failed("a case can store text only, and this document is not text".to_owned()))?;
        let folder = workspace.join("cases").join(self.name);
        if folder.exists() {
            return Err(CommandError::Failed(format!("{} exists already; choose another name", folder.display())));
        }
        std::fs::create_dir_all(&folder).map_err(|error| local::failed(&folder, &error))?;
        let given = match text.trim_start().bytes().next() {
            Some(b'{' | b'[') => "given.json",
            _ if text.trim_start().starts_with("ISA") => "given.edi",
            _ => "given.txt",
        };
        local::write(&folder.join(given), text)?;
        let mut case = toml_edit::DocumentMut::new();
        if !self.says.is_empty() {
            case["says"] = toml_edit::value(self.says);
        }
        case[self.subject.0] = toml_edit::value(self.subject.1);
        case["given"] = toml_edit::value(given);
        if let Some(event) = self.event {
            case["event"] = toml_edit::value(event);
        }
        let mut with = toml_edit::Table::new();
        for (name, value) in &self.variables {
            let file = format!("with-{name}.json");
            local::write(&folder.join(&file), &(serde_json::to_string_pretty(value).unwrap_or_default() + "\n"))?;
            with[name.as_str()] = toml_edit::value(file);
        }
        if !with.is_empty() {
            case["with"] = toml_edit::Item::Table(with);
        }
        local::write(&folder.join("case.toml"), &case.to_string())?;
        if !answers.is_empty() {
            local::write(&folder.join("answers.json"), &(serde_json::to_string_pretty(answers).unwrap_or_default() + "\n"))?;
        }
        if let Some(expect) = expect {
            local::write(&folder.join("expect.json"), &(serde_json::to_string_pretty(expect).unwrap_or_default() + "\n"))?;
        }
        Ok(folder)
    }
}

/// Returns the last answer that each step got.
pub fn answers(story: &Story) -> Answers {
    let answered = story.steps.iter().filter_map(|step| {
        let last = step.attempts.last()?;
        let text = &last.answer.as_ref()?.text;
        let body = serde_json::from_str(text).unwrap_or_else(|_| Value::from(text.as_str()));
        let body = if text.is_empty() { Value::Object(Map::new()) } else { body };
        Some((step.step.clone(), Answer { status: last.status.unwrap_or_default(), body }))
    });
    answered.collect()
}
