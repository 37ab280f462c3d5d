//! A workspace: the folder of text files with everything a team builds, read and checked as a whole.
//!
//! [`Workspace::read`] takes the files and returns a workspace that can run, or the findings that prevent it. Files are read in
//! an order in which each can be checked against those before it: schemas and tables, connections, partners, maps, flows, plans.

mod accepted;
mod brokers;
mod cases;
pub mod changes;
mod connections;
pub mod environments;
mod fields;
mod flows;
mod functions;
mod kinds;
mod maps;
mod parts;
mod renamed;
mod sends;
mod steps;
mod targets;
mod ways;

use crate::connection::Connection;
use crate::document::{Content, Document, Form, Unreadable, Validate, segments_as_lines};
use crate::expr::{Library, Shape};
use crate::finding::{Finding, Severity};
use crate::flow::{Flow, Intake, Takes};
use crate::guard::guarded;
use crate::intake::Provenance;
use crate::map::Map;
use crate::partner::Partner;
use crate::plan::Plan;
use crate::schema::{Schema, Validator, in_words};
use crate::trial::Case;
use crate::x12::{Definitions, Guide, Header, Terms};
use crate::{Digest, nearest::nearest};
use environments::{Environment, Environments};
use fields::{Fields, File};
use kinds::{KINDS, left_out};
pub use kinds::{has_folder, has_place, known, left_out as stranger};
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

/// The files of a workspace: path with forward slashes, and text.
pub type Files = BTreeMap<String, String>;

/// A workspace that runs.
#[derive(Debug, Clone, Default)]
pub struct Workspace {
    pub title: String,
    /// As `workspace.toml` has it; see [`Self::deploys_from_console`].
    deploy_from_console: bool,
    /// Digest of the content of every file.
    pub digest: Digest,
    /// The environment, if one is chosen.
    pub environment: Option<Environment>,
    pub connections: BTreeMap<String, Arc<Connection>>,
    /// The standard's transaction sets, and those of the workspace's own.
    pub definitions: Arc<Definitions>,
    /// Requirements of partners beyond the standard.
    pub guides: BTreeMap<String, Arc<Guide>>,
    pub schemas: BTreeMap<String, Arc<Schema>>,
    /// Compiled schemas for validation, by name.
    pub validators: BTreeMap<String, Arc<Validator>>,
    /// Code tables and named functions.
    pub library: Library,
    pub partners: BTreeMap<String, Arc<Partner>>,
    pub maps: BTreeMap<String, Arc<Map>>,
    pub flows: BTreeMap<String, Arc<Flow>>,
    pub plans: BTreeMap<String, Arc<Plan>>,
    /// The workspace's own tests.
    pub cases: BTreeMap<String, Arc<Case>>,
}

/// Result of reading: the workspace, unless a finding is an error.
#[derive(Debug)]
pub struct Checked {
    pub workspace: Option<Workspace>,
    /// In the order of files and lines.
    pub findings: Vec<Finding>,
}

/// Returns the digest of a set of files.
#[must_use]
pub fn digest(files: &Files) -> Digest {
    let parts: Vec<&[u8]> = files.iter().flat_map(|(path, text)| [path.as_bytes(), text.as_bytes()]).collect();
    Digest::of(&parts)
}

impl Workspace {
    /// Returns whether people may change files of the running release in the console.
    #[must_use]
    pub fn deploys_from_console(&self) -> bool {
        let here = self.environment.as_ref().and_then(|environment| environment.deploy_from_console);
        here.unwrap_or(self.deploy_from_console)
    }

    /// Reads and checks all files.
    #[must_use]
    pub fn read(files: &Files) -> Checked {
        Self::read_in(files, None)
    }

    /// Reads and checks all files as they are in an environment.
    #[must_use]
    pub fn read_in(files: &Files, environment: Option<&str>) -> Checked {
        Self::read_as(files, environment, None)
    }

    /// Reads and checks all files while the one at `path` is being written: its unfilled targets are reported and do not prevent
    /// a trial.
    #[must_use]
    pub fn read_draft(files: &Files, environment: Option<&str>, path: &str) -> Checked {
        Self::read_as(files, environment, Some(path))
    }

    fn read_as(files: &Files, environment: Option<&str>, draft: Option<&str>) -> Checked {
        let Some(name) = environment else { return Self::read_overlaid(files, files, None, draft) };
        match environments::overlay(files, name) {
            Err(finding) => Checked { workspace: None, findings: vec![*finding] },
            Ok(overlaid) => {
                let mut checked = Self::read_overlaid(files, &overlaid.files, Some((name, &overlaid.spoken_of)), draft);
                environments::attribute(&mut checked.findings, files, name);
                checked
            }
        }
    }

    /// `own` are the files as people wrote them, `files` as they count here.
    fn read_overlaid(own: &Files, files: &Files, environment: Option<(&str, &[String])>, draft: Option<&str>) -> Checked {
        let findings = RefCell::new(Vec::new());
        let workspace = Self { digest: digest(own), ..Self::default() };
        let mut build =
            Build { files, findings: &findings, environments: Environments::new(), authorities: BTreeMap::new(), workspace };
        build.root();
        build.strangers();
        build.each("env", Build::environment);
        build.each("authorities", Build::authority);
        build.workspace.definitions = Definitions::standard().clone();
        build.each("standards", Build::dictionary);
        build.each("standards", Build::set_definition);
        build.each("guides", Build::guide);
        build.each("schemas", Build::schema);
        build.own_schema();
        build.each("tables", Build::table);
        build.each("functions", Build::function);
        build.each("functions", Build::function_holds);
        build.each("connections", Build::connection);
        if let Some((name, spoken_of)) = environment {
            build.silent(name, spoken_of);
            build.workspace.environment = build.environments.get(name).cloned();
        }
        build.each("partners", Build::partner);
        build.maps();
        build.each("flows", Build::flow);
        build.each("milestones", Build::plan);
        build.each("cases", Build::case);
        let mut workspace = build.workspace;
        for own in [Flow::acknowledgments(), Flow::unrouted()] {
            workspace.flows.insert(own.name.clone(), Arc::new(own));
        }
        let mut findings = findings.into_inner();
        findings.sort_by(|a, b| (&a.file, a.line, a.column).cmp(&(&b.file, b.line, b.column)));
        let unfilled = |finding: &Finding| finding.code == targets::UNFILLED && draft == Some(finding.file.as_str());
        let sound = findings.iter().all(|finding| finding.severity != Severity::Error || unfilled(finding));
        Checked { workspace: sound.then_some(workspace), findings }
    }

    /// The shape of documents of a schema: `x12/004010/850` or the name of a JSON schema.
    #[must_use]
    pub fn shape(&self, schema: &str) -> Option<Shape<'_>> {
        if let Some(rest) = schema.strip_prefix("x12/") {
            let (version, set) = rest.split_once('/')?;
            let definition = self.definitions.find(version, set)?;
            return Some(Shape::Loop(definition, &definition.table));
        }
        self.schemas.get(schema).map(|schema| Shape::Json(schema, &schema.root))
    }

    /// Reads a document with the workspace's definitions and schemas.
    ///
    /// # Errors
    /// [`Unreadable`] with the reason.
    pub fn document(&self, form: &Form, bytes: &[u8]) -> Result<Document, Unreadable> {
        let schema = |name: &str| self.schemas.get(name).map(Arc::as_ref);
        guarded(|| Document::read(&self.definitions, schema, form, bytes)).unwrap_or_else(|says| Err(Unreadable::Other(says)))
    }

    /// Checks a document as an intake does: reads it in its form and validates it. Returns a sentence if it does not fit and the
    /// intake accepts it with a warning; empty otherwise.
    ///
    /// # Errors
    /// [`Unreadable`] with the reason.
    pub fn taken(&self, intake: &Intake, content: &Content) -> Result<String, Unreadable> {
        let Takes::Json(schema) = &intake.takes else { return Ok(String::new()) };
        let document = match intake.form {
            Form::Json => content.json().cloned().map_err(Clone::clone)?,
            _ => self.document(&intake.form, content.bytes())?,
        };
        self.misfits(intake.validate, schema, &document)
    }

    /// Returns how a document does not fit its schema, as a sentence; empty if it fits or is not validated.
    ///
    /// # Errors
    /// [`Unreadable::Misfit`] if such a document is rejected.
    pub fn misfits(&self, validate: Validate, schema: &str, document: &Document) -> Result<String, Unreadable> {
        let (Document::Json(value), Some(validator)) = (document, self.validators.get(schema)) else {
            return Ok(String::new());
        };
        if validate == Validate::Off {
            return Ok(String::new());
        }
        let misfits = guarded(|| validator.misfits(value)).map_err(Unreadable::Other)?;
        if misfits.is_empty() {
            return Ok(String::new());
        }
        let misfit = Unreadable::Misfit { schema: schema.to_owned(), says: in_words(&misfits) };
        match validate {
            Validate::Reject => Err(misfit),
            Validate::Warn | Validate::Off => Ok(misfit.to_string()),
        }
    }

    /// Bytes of a form for a person: indented JSON, one segment a line, texts of schemas decoded. What cannot be read is shown as it
    /// is.
    #[must_use]
    pub fn shown(&self, form: &Form, bytes: &[u8]) -> String {
        let plain = || String::from_utf8_lossy(bytes).into_owned();
        match form {
            Form::Shaped { written, schema } => {
                self.schemas.get(schema).map_or_else(plain, |schema| schema.text_of(*written, bytes).into_owned())
            }
            Form::X12 { delimiters, .. } => segments_as_lines(bytes, delimiters.segment),
            Form::Json | Form::Bytes => self.document(form, bytes).map_or_else(|_| plain(), |document| document.readable()),
        }
    }

    /// Returns the guides and tolerances of the partner that an interchange is from.
    #[must_use]
    pub fn terms(&self, header: &Header) -> Terms {
        match self.partner_of(header) {
            Some(partner) => partner.terms(),
            None => Terms { definitions: self.definitions.clone(), tolerated: [].into() },
        }
    }

    /// The partner that an interchange is from.
    #[must_use]
    pub fn partner_of(&self, header: &Header) -> Option<&Arc<Partner>> {
        self.partners.values().find(|partner| partner.them == header.sender && partner.us == header.receiver)
    }

    /// The sets as a partner's guides have them; as the standard has them for nobody in particular.
    #[must_use]
    pub fn definitions_for(&self, partner: Option<&str>) -> &Arc<Definitions> {
        partner.and_then(|partner| self.partners.get(partner)).map_or(&self.definitions, |partner| &partner.definitions)
    }

    /// Returns the flows whose intake received the arrival, whatever it contains.
    pub fn flows_from<'a>(&'a self, provenance: &'a Provenance) -> impl Iterator<Item = (&'a Arc<Flow>, &'a Intake)> {
        self.intakes().filter(move |(_, intake)| intake.is_where(provenance))
    }

    /// Every intake with its flow.
    pub fn intakes(&self) -> impl Iterator<Item = (&Arc<Flow>, &Intake)> {
        self.flows.values().flat_map(|flow| flow.intakes.iter().map(move |intake| (flow, intake)))
    }
}

struct Build<'a> {
    files: &'a Files,
    findings: &'a RefCell<Vec<Finding>>,
    environments: Environments,
    /// Certificates by name.
    authorities: BTreeMap<String, String>,
    workspace: Workspace,
}

impl<'a> Build<'a> {
    fn file(&self, path: &'a str, text: &'a str) -> File<'a> {
        File { path, text, findings: self.findings }
    }

    /// The files of a kind: the name that the path gives, the path, and the text.
    fn files_of(&self, kind: &str) -> impl Iterator<Item = (&'a str, &'a str, &'a str)> + use<'a, '_> {
        let ending = KINDS.iter().find(|(known, _)| *known == kind).map_or("/case.toml", |(_, ending)| ending);
        let kind = kind.to_owned();
        self.files.iter().filter_map(move |(path, text)| {
            let name = path.strip_prefix(&kind)?.strip_prefix('/')?.strip_suffix(ending)?;
            Some((name, path.as_str(), text.as_str()))
        })
    }

    /// Runs `read` for each file of a kind, with the name that its path gives.
    fn each(&mut self, kind: &str, read: fn(&mut Self, &str, &File<'a>)) {
        let files: Vec<_> = self.files_of(kind).collect();
        for (name, path, text) in files {
            let file = self.file(path, text);
            read(self, name, &file);
        }
    }

    /// Parses a file as TOML and passes its root table on; a syntax error is a finding.
    fn toml(&self, file: &File<'_>, read: impl FnOnce(&Fields<'_>)) {
        match toml_edit::Document::parse(file.text) {
            Err(error) => {
                let span = error.span().unwrap_or(0..0);
                file.error(span, "file::syntax", error.message().lines().next().unwrap_or("not TOML"), None);
            }
            Ok(document) => {
                let fields = Fields::new(file, document.as_table(), 0..0);
                let before = self.findings.borrow().len();
                read(&fields);
                accepted::accept(&fields, self.findings, before);
                fields.done();
            }
        }
    }

    fn root(&mut self) {
        let Some((path, text)) = self.files.get_key_value("workspace.toml") else {
            let says = "workspace.toml is missing: it marks the folder as a workspace";
            let finding = Finding::at(Severity::Error, "workspace::missing", "workspace.toml", "", 0..0, says);
            self.findings.borrow_mut().push(finding.help("write a file with the line `format = 1`"));
            return;
        };
        let file = self.file(path, text);
        let (mut title, mut deploy_from_console) = (String::new(), false);
        self.toml(&file, |fields| {
            title = fields.text("title").map(|text| text.value).unwrap_or_default();
            deploy_from_console = fields.flag("deploy_from_console").unwrap_or(false);
            if fields.whole("format", 1..2).is_none() && !fields.has("format") {
                fields.missing("format");
            }
        });
        self.workspace.title = title;
        self.workspace.deploy_from_console = deploy_from_console;
    }

    /// Reports files that nothing reads.
    fn strangers(&self) {
        self.findings.borrow_mut().extend(self.files.keys().filter_map(|path| left_out(path)));
    }

    /// Reports a name that is not among the known ones.
    fn unknown<'n>(&self, file: &File<'_>, span: Range<usize>, what: &str, name: &str, known: impl Iterator<Item = &'n str>) {
        let known: Vec<&str> = known.collect();
        let help = match nearest(name, known.iter().copied()) {
            Some(near) => Some(format!("did you mean \"{near}\"?")),
            None if known.is_empty() => None,
            None => Some(format!("known: {}", known.join(", "))),
        };
        file.error(span, "name::unknown", format!("there is no {what} \"{name}\""), help);
    }
}
