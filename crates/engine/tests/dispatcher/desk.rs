//! A dispatcher with its requests in short form.

use std::sync::Arc;
use wirewatch_core::before::Before;
use wirewatch_core::document::Form;
use wirewatch_core::machine::{Body, Logic, Machine, Origin, Outcome, State};
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_core::{Document, Id, IdMint, MessageId, Timestamp};
use wirewatch_engine::{Change, Dispatcher, Entered, Op, Out, Recovered, Settings, Shards};

pub const NOW: Timestamp = Timestamp(1_764_000_000_000_000);

/// `blind` does not ignore repeats, so an intent is committed first; `keyed` does. One message at a time for each.
pub fn files() -> Files {
    let flow = |at: &str, more: &str| {
        format!(
            "key = \"n\"\n{more}[[intake]]\nfrom = \"drop\"\ntakes = \"order\"\n\
             [[step]]\nname = \"tell\"\ncall = {{ at = \"{at}\", post = \"/orders\", body = \"it\" }}\n"
        )
    };
    let http = |name: &str, more: &str| format!("kind = \"http\"\naddress = \"http://{name}\"\nin_flight = 1\n{more}");
    let files = [
        ("workspace.toml", "format = 1\n".to_owned()),
        ("schemas/order.schema.json", r#"{ "type": "object", "properties": { "n": { "type": "integer" } } }"#.to_owned()),
        ("connections/drop.toml", "kind = \"folder\"\npath = \"drop\"\n".to_owned()),
        ("connections/keyed.toml", http("keyed", "repeat = \"key\"\n")),
        ("connections/blind.toml", http("blind", "")),
        ("flows/keyed.toml", flow("keyed", "")),
        ("flows/blind.toml", flow("blind", "")),
        ("flows/in-line.toml", flow("keyed", "in_order_by = \"'one'\"\n")),
        ("flows/passing.toml", flow("keyed", "in_order_by = \"'one'\"\nafter_failure = \"pass\"\n")),
    ];
    files.into_iter().map(|(name, text)| (name.to_owned(), text)).collect()
}

pub fn read(files: &Files) -> Arc<Workspace> {
    let checked = Workspace::read(files);
    Arc::new(checked.workspace.unwrap_or_else(|| panic!("{:#?}", checked.findings)))
}

/// A dispatcher, and its requests that nobody has handled yet.
pub struct Desk {
    pub dispatcher: Dispatcher,
    pub workspace: Arc<Workspace>,
    pub now: Timestamp,
}

/// Requests of the dispatcher, in short form.
#[derive(Debug, PartialEq)]
pub enum Wants {
    Commit(i64, State, String),
    Perform(i64),
    Load(i64),
    PickUp(i64),
    Suspect(i64),
    /// A step is put on hold, or resumed.
    Hold(String, String),
    Free(String),
    /// No message of these shards runs here any more.
    Left,
}

impl Desk {
    pub fn open(settings: Settings) -> Self {
        let workspace = read(&files());
        let mut mint = IdMint::new(1);
        let mint = Box::new(move |now| mint.next(now));
        Self { dispatcher: Dispatcher::new(settings, workspace.clone(), Shards::ALL, mint), workspace, now: NOW }
    }

    pub fn origin(n: i64, flow: &str) -> Arc<Origin> {
        let (id, form, meta) = (Id(n), Form::Json, serde_json::Map::new());
        Arc::new(Origin { id, arrival: Id(1), body: Id(1), slice: 0..8, flow: flow.to_owned(), release: 1, form, meta })
    }

    pub fn entered(&self, n: i64, flow: &str) -> Entered {
        let logic = Logic::of(&self.workspace, flow).expect("a flow");
        let document = Document::json(format!(r#"{{"n":{n}}}"#).as_bytes()).expect("JSON");
        let (machine, began) = Machine::begin(logic, Self::origin(n, flow), document);
        Entered { machine, began: Some(began), logged: 0 }
    }

    pub fn enter(&mut self, n: i64, flow: &str) {
        let entered = self.entered(n, flow);
        self.dispatcher.enter(entered, self.now);
    }

    /// Returns all requests since the last call, and wakes the dispatcher when it asks for it. Requests about connections are
    /// left out.
    pub fn wants(&mut self) -> Vec<Wants> {
        let mut all = Vec::new();
        loop {
            while let Some(out) = self.dispatcher.poll() {
                all.extend(match out {
                    Out::Commit(_, Op::Change(change)) => {
                        let Change { origin, state, says, reason, .. } = *change;
                        let says = reason.map_or(says, |reason| format!("{}: {}", reason.code, reason.says));
                        Some(Wants::Commit(origin.id.0, state, says))
                    }
                    Out::Perform { id, .. } => Some(Wants::Perform(id.0)),
                    Out::Load(id) => Some(Wants::Load(id.0)),
                    Out::PickUp(id) => Some(Wants::PickUp(id.0)),
                    Out::Suspect(id) => Some(Wants::Suspect(id.0)),
                    Out::Left { .. } | Out::Drained => Some(Wants::Left),
                    Out::Commit(_, Op::Hold(hold)) => step_of(&hold.connection).map(|step| Wants::Hold(step, hold.says)),
                    Out::Commit(_, Op::Resume { connection, .. }) => step_of(&connection).map(Wants::Free),
                    Out::Commit(..) => panic!("nothing splits here"),
                });
            }
            if self.dispatcher.deadline().is_none_or(|due| due > self.now) {
                return all;
            }
            self.dispatcher.tick(self.now);
        }
    }

    /// The message is refused, and fails with its commit.
    pub fn refused(&mut self, n: i64, says: &str) {
        let outcome = Outcome::Refused { says: says.to_owned(), status: 422, body: Body::default() };
        self.dispatcher.outcome(id(n), outcome, self.now);
        self.dispatcher.committed(id(n), self.now);
    }

    pub fn answered(&mut self, n: i64) {
        self.dispatcher.outcome(id(n), Outcome::Answer { status: 201, body: Body::default() }, self.now);
    }
}

fn step_of(name: &str) -> Option<String> {
    matches!(Before::of(name), Before::Step { .. }).then(|| name.to_owned())
}

pub fn id(n: i64) -> MessageId {
    Id(n)
}

/// An unfinished message as the journal has it.
pub fn found(n: i64, flow: &str, state: State) -> Recovered {
    let order_key = if flow == "in-line" { "one".to_owned() } else { String::new() };
    Recovered { id: id(n), size: 8, flow: flow.to_owned(), key: n.to_string(), order_key, state, due: None, picked_up: 0 }
}

pub fn failed(n: i64, says: &str) -> Wants {
    Wants::Commit(n, State::Failed, format!("diverged: {says}"))
}

pub fn not_stored(n: i64) -> Wants {
    Wants::Commit(n, State::Failed, "not-stored: the outcome could not be stored: no room".to_owned())
}

pub fn commit(n: i64, state: State) -> Wants {
    Wants::Commit(n, state, String::new())
}
