//! The simulated world: a clock that jumps, a journal that may crash before or after a commit, receivers with faults.

use crate::process::{Look, Process, Submitted};
use std::collections::{BTreeMap, BTreeSet, BinaryHeap, HashMap};
use std::sync::{Arc, OnceLock};
use std::time::Duration;
use wirewatch_core::act::{Act, Answers};
use wirewatch_core::before::Before;
use wirewatch_core::document::Form;
use wirewatch_core::machine::{LogEntry, Logged, Logic, Logics, Machine, Origin, Outcome, State, Work};
use wirewatch_core::reason::ReasonCode;
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_core::{Digest, Document, IdMint, MessageId, Timestamp};
use wirewatch_engine::{Acting, Change, Entered, Hold, Op, Out, PLACE, SHARDS, Settings, Shards, Unacted};

/// Counts of a run.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub struct Report {
    pub messages: u64,
    pub crashes: u64,
    pub holds: u64,
    pub held_by_people: u64,
    pub doubled: u64,
    pub faileds: u64,
    pub in_doubt: u64,
    pub acts: u64,
    pub performed: u64,
    pub evicted: u64,
    pub parts: u64,
    pub pauses: u64,
    pub handed: u64,
    pub shared: u64,
    pub moved: u64,
    pub steps_held: u64,
    pub steps_freed: u64,
    pub picked_up: u64,
    pub alone: u64,
    pub suspects: u64,
    pub refused: u64,
    pub drained: u64,
}

impl Report {
    pub fn add(&mut self, other: &Self) {
        self.messages += other.messages;
        self.crashes += other.crashes;
        self.holds += other.holds;
        self.held_by_people += other.held_by_people;
        self.doubled += other.doubled;
        self.faileds += other.faileds;
        self.in_doubt += other.in_doubt;
        self.acts += other.acts;
        self.performed += other.performed;
        self.evicted += other.evicted;
        self.parts += other.parts;
        self.pauses += other.pauses;
        self.handed += other.handed;
        self.shared += other.shared;
        self.moved += other.moved;
        self.steps_held += other.steps_held;
        self.steps_freed += other.steps_freed;
        self.picked_up += other.picked_up;
        self.drained += other.drained;
        self.alone += other.alone;
        self.suspects += other.suspects;
        self.refused += other.refused;
    }
}

/// A message in the simulated journal.
#[derive(Debug, Clone)]
pub struct Row {
    pub origin: Arc<Origin>,
    pub document: String,
    pub log: Vec<LogEntry>,
    pub state: State,
    pub due: Option<Timestamp>,
    pub order_key: String,
    /// Reopened after its end, so it goes behind the others of its lane.
    pub reopened: bool,
    pub picked_up: u16,
}

impl Row {
    fn new(origin: Arc<Origin>, document: String, order_key: String) -> Self {
        let (log, state) = (Vec::new(), State::Running);
        Self { origin, document, log, state, due: None, order_key, reopened: false, picked_up: 0 }
    }

    /// Returns whether the two must not overtake each other.
    pub fn is_in_lane_of(&self, other: &Self) -> bool {
        !self.order_key.is_empty() && (&self.origin.flow, &self.order_key) == (&other.origin.flow, &other.order_key)
    }
}

/// An effect that took place at a receiver.
#[derive(Debug, Clone)]
pub struct Taken {
    pub message: MessageId,
    pub step: String,
    pub connection: String,
    pub key: Digest,
}

#[derive(Debug)]
pub enum Event {
    Arrive(u32),
    /// The group is written; its answer follows.
    Write(Vec<(Option<MessageId>, Op)>),
    /// The outcome of each commit: `false` if the journal cannot store it.
    Answer(Vec<(MessageId, bool)>),
    /// The effect takes place at the receiver.
    Take(MessageId, Arc<Work>),
    Outcome(MessageId, Outcome),
    Load(MessageId),
    PickUp(MessageId),
    Suspect(MessageId),
    Tick,
    /// With the number of the current release.
    Act(MessageId, Act, i64),
    /// A person puts a connection on hold, and resumes it.
    Hold(&'static str),
    Free(&'static str),
    FreeBoth(&'static str),
    Crash,
    /// The process is asked to stop, and is started again when no effect is unfinished.
    Drain,
    /// A committed message enters the dispatcher.
    Enter(MessageId),
    Share,
    GiveAway(Shards, usize, u32),
    Look,
    Looked(Box<Look>),
}

#[derive(Debug)]
struct At {
    at: Timestamp,
    no: u64,
    /// The process and its life; `None` for events outside.
    of: Option<(usize, u32)>,
    event: Event,
}

impl PartialEq for At {
    fn eq(&self, other: &Self) -> bool {
        (self.at, self.no) == (other.at, other.no)
    }
}
impl Eq for At {}
impl PartialOrd for At {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for At {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        (other.at, other.no).cmp(&(self.at, self.no))
    }
}

pub struct World {
    pub loud: bool,
    pub report: Report,
    pub rows: BTreeMap<MessageId, Row>,
    pub taken: Vec<Taken>,
    /// Messages that are performed and have no outcome yet, by which process, and at which step.
    pub open: HashMap<MessageId, (usize, String)>,
    /// Messages with an effect performed in each lane, with when and what state those before them had.
    pub overtaken: Vec<(MessageId, MessageId)>,
    pub random: fastrand::Rng,
    mint: IdMint,
    pub now: Timestamp,
    no: u64,
    events: BinaryHeap<At>,
    /// Two processes; in some runs the second has nothing to do.
    pub processes: [Process; 2],
    pub together: bool,
    /// The process of each shard.
    pub owners: [usize; SHARDS as usize],
    /// Messages made for another's shard, in the order of their commits.
    pub handed: Vec<(u16, MessageId)>,
    /// The process that receives messages.
    pub intake: usize,
    pub holds: BTreeMap<String, Hold>,
    /// The connections that a person resumed.
    pub freed: BTreeSet<&'static str>,
    outage: BTreeMap<&'static str, (Timestamp, Timestamp)>,
    acts_left: u32,
    arrivals_left: u32,
}

/// Two flows: one in order by customer over a receiver that honours keys, one that may never be repeated blindly.
pub fn workspace() -> Arc<Workspace> {
    release(1)
}

/// Release 1, and release 2: with another order, a further step in every flow, and another request at `second`.
pub fn release(no: i64) -> Arc<Workspace> {
    static RELEASES: OnceLock<[Arc<Workspace>; 2]> = OnceLock::new();
    let changes = [
        ("in_order_by = \"who\"", "in_order_by = \"n\""),
        ("takes = \"order\"\n", "takes = \"order\"\n[[step]]\nname = \"look\"\nnote = \"{n}\"\n"),
        ("/b/{n}", "/other/{n}"),
    ];
    let read = |no: usize| {
        let node = r#"{"type":"object","properties":{"n":{"type":"integer"},"who":{"type":"string"}}}"#;
        let files = [
            ("workspace.toml", "format = 1"),
            ("schemas/order.schema.json", node),
            ("connections/drop.toml", "kind = \"folder\"\npath = \"drop\""),
            ("connections/keyed.toml", "kind = \"http\"\naddress = \"http://keyed\"\nrepeat = \"key\"\nin_flight = 2"),
            ("connections/blind.toml", "kind = \"http\"\naddress = \"http://blind\"\nin_flight = 2"),
            (
                "flows/ordered.toml",
                "key = \"n\"\nin_order_by = \"who\"\n[[intake]]\nfrom = \"drop\"\ntakes = \"order\"\n\
                     [[step]]\nname = \"first\"\ncall = { at = \"keyed\", post = \"/a/{n}\", body = \"it\", as = \"got\" }\nretry = { times = 3, first = \"1s\", longest = \"4s\" }\n\
                     [[step]]\nname = \"second\"\ncall = { at = \"keyed\", post = \"/b/{n}\" }\nretry = { times = 3, first = \"1s\", longest = \"20s\" }",
            ),
            (
                "flows/winding.toml",
                "key = \"n\"\nin_order_by = \"$doc.who\"\n[[intake]]\nfrom = \"drop\"\ntakes = \"order\"\n\
                     [[step]]\nname = \"rest\"\npause = { for = \"3s\" }\n\
                     [[step]]\nname = \"beside\"\n\
                     [[step.also]]\nway = \"one\"\n\
                     [[step.also.step]]\nname = \"tell-one\"\ncall = { at = \"keyed\", post = \"/one/{n}\" }\nretry = { times = 3, first = \"1s\", longest = \"4s\" }\n\
                     [[step.also]]\nway = \"two\"\n\
                     [[step.also.step]]\nname = \"tell-two\"\ncall = { at = \"blind\", post = \"/two/{n}\" }\nretry = { times = 2, first = \"1s\", longest = \"4s\" }\n\
                     [[step]]\nname = \"which\"\n\
                     [[step.choose]]\nwhen = \"n > 3\"\n\
                     [[step.choose.step]]\nname = \"wait\"\npause = { for = \"8s\" }\n\
                     [[step.choose]]\n\
                     [[step]]\nname = \"last\"\ncall = { at = \"keyed\", post = \"/last/{n}\" }\nretry = { times = 1, first = \"1s\", longest = \"4s\" }\n\
                     [[on_failure]]\nname = \"alarm\"\nnotify = { at = \"keyed\", post = \"/alarm\", says = \"{n}: {$error.says}\" }\nretry = { times = 1, first = \"1s\", longest = \"4s\" }",
            ),
            (
                "flows/blind.toml",
                "key = \"n\"\n[[intake]]\nfrom = \"drop\"\ntakes = \"order\"\n\
                     [[step]]\nname = \"only-some\"\nonly = { when = \"n != 3\", because = \"three is left out\" }\n\
                     [[step]]\nname = \"tell\"\ncall = { at = \"blind\", post = \"/t/{n}\", body = \"it\" }\nretry = { times = 2, first = \"1s\", longest = \"4s\" }",
            ),
        ];
        let changed = |text: &str| changes[..changes.len() * no].iter().fold(text.to_owned(), |text, (a, b)| text.replace(a, b));
        let files: Files = files.into_iter().map(|(path, text)| (path.to_owned(), changed(text))).collect();
        let checked = Workspace::read(&files);
        Arc::new(checked.workspace.unwrap_or_else(|| panic!("{:#?}", checked.findings)))
    };
    RELEASES.get_or_init(|| [read(0), read(1)])[no as usize - 1].clone()
}

/// The logic of every release that a message has run.
pub fn logics(origin: &Origin, log: &[LogEntry]) -> Logics {
    let logic = |no: i64| Logic::of(&release(no), &origin.flow).expect("the flow");
    let mut logics = Logics::from(logic(origin.release));
    Logics::chosen_in(log).into_iter().for_each(|no| logics.add(no, logic(no)));
    logics
}

pub fn minting(writer: u16) -> wirewatch_engine::Mint {
    let mut mint = IdMint::new(writer);
    Box::new(move |now| mint.next(now))
}

/// Some runs have little memory, so that messages leave it and return; few equal failures put a step on hold.
fn settings(random: &mut fastrand::Rng) -> Settings {
    Settings { loaded: if random.bool() { 2 } else { 50 }, keep: Duration::from_secs(random.u64(0..6)), alike: random.u32(1..4) }
}

impl World {
    pub fn new(seed: u64) -> Self {
        let mut random = fastrand::Rng::with_seed(seed);
        let now = Timestamp(1_800_000_000_000_000);
        let settings = settings(&mut random);
        let mut world = Self {
            loud: false,
            report: Report::default(),
            rows: BTreeMap::new(),
            taken: Vec::new(),
            open: HashMap::new(),
            overtaken: Vec::new(),
            mint: IdMint::new(0),
            now,
            no: 0,
            events: BinaryHeap::new(),
            processes: [Process::new(0, 0, settings, Shards::ALL), Process::new(1, 0, settings, Shards::NONE)],
            together: random.bool(),
            owners: [0; SHARDS as usize],
            handed: Vec::new(),
            intake: 0,
            holds: BTreeMap::new(),
            freed: BTreeSet::new(),
            outage: BTreeMap::new(),
            acts_left: random.u32(0..6),
            arrivals_left: random.u32(1..9),
            random,
        };
        for n in 1..=world.arrivals_left {
            let after = world.random.u64(0..8000);
            world.outside(after, Event::Arrive(n));
        }
        for _ in 0..world.random.u32(0..4) {
            let after = world.random.u64(0..20_000);
            world.outside(after, Event::Crash);
        }
        // Every fourth world has planned restarts, too; what else happens in it is as it was without.
        if seed.is_multiple_of(4) {
            let mut restarts = fastrand::Rng::with_seed(!seed);
            for _ in 0..restarts.u32(1..4) {
                let after = restarts.u64(0..20_000);
                world.outside(after, Event::Drain);
            }
        }
        if world.together {
            for _ in 0..world.random.u32(1..6) {
                let after = world.random.u64(0..20_000);
                world.outside(after, Event::Share);
            }
        }
        for name in ["keyed", "blind", "flow winding"] {
            if world.random.u32(0..4) == 0 {
                let from = world.random.u64(0..15_000);
                let until = from + world.random.u64(1..30_000);
                world.outside(from, Event::Hold(name));
                world.outside(until, Event::Free(name));
            }
            if world.random.bool() {
                let from = now.after(Duration::from_millis(world.random.u64(0..10_000)));
                world.outage.insert(name, (from, from.after(Duration::from_millis(world.random.u64(100..30_000)))));
            }
        }
        world
    }

    pub fn settings(&mut self) -> Settings {
        settings(&mut self.random)
    }

    pub fn outside(&mut self, after_ms: u64, event: Event) {
        self.schedule(after_ms, None, event);
    }

    pub fn inside(&mut self, process: usize, after_ms: u64, event: Event) {
        self.schedule(after_ms, Some((process, self.processes[process].life)), event);
    }

    fn schedule(&mut self, after_ms: u64, of: Option<(usize, u32)>, event: Event) {
        self.no += 1;
        let at = self.now.after(Duration::from_millis(after_ms));
        self.events.push(At { at, no: self.no, of, event });
    }

    /// Runs until nothing more happens, then lets a person act on failed messages until all acts are used.
    pub fn run(&mut self) {
        for _ in 0..20_000 {
            self.drain();
            let Some(next) = self.events.pop() else {
                if self.act_on_something() {
                    continue;
                }
                if self.loud {
                    println!("at rest: {:#?}", [&self.processes[0].dispatcher, &self.processes[1].dispatcher]);
                }
                return;
            };
            self.now = self.now.max(next.at);
            if next.of.is_some_and(|(process, life)| life != self.processes[process].life) {
                continue;
            }
            if self.loud {
                println!("{:>9} {:?} {:?}", (self.now.0 - 1_800_000_000_000_000) / 1000, next.of, next.event);
            }
            self.step(next.of.map(|(process, _)| process), next.event);
        }
        panic!("the world does not come to rest");
    }

    fn step(&mut self, of: Option<usize>, event: Event) {
        let now = self.now;
        // People act at any process.
        let number = of.unwrap_or_else(|| if self.together { self.random.usize(0..2) } else { 0 });
        match event {
            Event::Arrive(n) => self.arrive(n),
            Event::Enter(id) => {
                if let Some(entered) = self.entered(id) {
                    self.processes[number].dispatcher.enter(entered, now);
                }
            }
            Event::Write(ops) => self.write(number, ops),
            Event::Answer(ids) => {
                self.processes[number].writing = false;
                for (id, stored) in ids {
                    match stored {
                        true => self.processes[number].dispatcher.committed(id, now),
                        false => self.processes[number].dispatcher.refused(id, "no room", now),
                    }
                }
            }
            Event::Take(id, work) => self.take(id, &work),
            Event::Outcome(id, outcome) => {
                self.open.remove(&id);
                self.processes[number].dispatcher.outcome(id, outcome.clone(), now);
                if self.random.u32(0..6) == 0 {
                    self.report.doubled += 1;
                    self.processes[number].dispatcher.outcome(id, outcome, now);
                }
            }
            Event::Load(id) => {
                if let Some(entered) = self.entered(id) {
                    self.processes[number].dispatcher.loaded(entered, now);
                }
            }
            Event::PickUp(id) => {
                if let Some(row) = self.rows.get_mut(&id) {
                    self.report.picked_up += 1;
                    self.report.alone += u64::from(row.picked_up > 0);
                    row.picked_up += 1;
                }
                let after = self.random.u64(0..20);
                self.inside(number, after, Event::Load(id));
            }
            Event::Suspect(id) => {
                if let Some(row) = self.rows.get(&id) {
                    let (origin, logged) = (row.origin.clone(), row.log.len() as u32);
                    self.processes[number].dispatcher.suspected(origin, logged, now);
                }
            }
            Event::Tick => self.processes[number].dispatcher.tick(now),
            Event::Act(id, act, offered) => {
                let mut at = number;
                let offered = (offered, release(offered));
                let acting = Acting { act, offered, by: "ada".to_owned(), why: String::new() };
                for _ in 0..2 {
                    let entered = if self.processes[at].dispatcher.has(id) { None } else { self.entered(id) };
                    match self.processes[at].dispatcher.act(id, entered, &acting, now) {
                        Ok(()) => self.report.acts += 1,
                        Err(Unacted::Elsewhere(_)) => {
                            at = 1 - at;
                            continue;
                        }
                        Err(Unacted::Busy | Unacted::Refused(_)) => {}
                    }
                    break;
                }
            }
            Event::Hold(name) => {
                self.report.held_by_people += 1;
                self.processes[number].dispatcher.hold(name, "ada", "they move house", now);
            }
            Event::Free(name) => {
                self.freed.insert(name);
                self.processes[number].dispatcher.resume(name, now);
                if self.together {
                    // If the hold is only known now, the person resumes it there.
                    self.outside(2000, Event::FreeBoth(name));
                }
            }
            Event::FreeBoth(name) => (0..2).for_each(|number| self.processes[number].dispatcher.resume(name, now)),
            Event::Crash => self.crash(number),
            Event::Drain => self.processes[number].dispatcher.drain(),
            Event::Share => self.share(),
            Event::GiveAway(shards, to, life) => self.give_away(number, shards, to, life),
            Event::Look => self.look(number),
            Event::Looked(look) => self.looked(number, *look),
        }
    }

    fn arrive(&mut self, n: u32) {
        let intake = self.intake;
        if !self.processes[intake].caught_up {
            // A process that takes over an intake first reads what was handed to it.
            return self.outside(100, Event::Arrive(n));
        }
        let flow = ["ordered", "blind", "winding"][self.random.usize(0..3)];
        let ordered = flow != "blind";
        let who = if self.random.bool() { "bee" } else { "wasp" };
        let id = self.mint.next(self.now);
        let document = format!("{{\"n\":{n},\"who\":\"{who}\"}}");
        let origin = Arc::new(Origin {
            id,
            arrival: id,
            body: id,
            // Its size is the size it declares; some need several places in memory.
            slice: 0..self.random.u64(1..4 * PLACE),
            flow: flow.to_owned(),
            release: 1,
            form: Form::Json,
            meta: serde_json::Map::new(),
        });
        // Its creation is a commit of its own, before anything runs.
        let order_key = if ordered { who.to_owned() } else { String::new() };
        self.rows.insert(id, Row::new(origin, document, order_key));
        self.report.messages += 1;
        self.made(intake, id);
        // Behind what is on its way to the dispatcher already.
        self.inside(intake, 3, Event::Enter(id));
    }

    fn entered(&self, id: MessageId) -> Option<Entered> {
        let row = self.rows.get(&id)?;
        let logics = logics(&row.origin, &row.log);
        let document = Document::json(row.document.as_bytes()).ok()?;
        let logged = row.log.len() as u32;
        if row.log.is_empty() {
            let (machine, turn) = Machine::begin(logics.first().clone(), row.origin.clone(), document);
            return Some(Entered { machine, began: Some(turn), logged });
        }
        let machine = Machine::rebuild(logics, row.origin.clone(), document, &row.log, false).expect("a log of ours fits");
        Some(Entered { machine, began: None, logged })
    }

    /// Handles the requests of the dispatchers, and schedules the next wake-up.
    fn drain(&mut self) {
        for number in 0..2 {
            self.drain_one(number);
        }
    }

    fn drain_one(&mut self, number: usize) {
        while let Some(out) = self.processes[number].dispatcher.poll() {
            match out {
                Out::Commit(id, op) => self.processes[number].waiting.push_back(Submitted::Op(id, op)),
                Out::Perform { id, connection, work } => self.perform(number, id, &connection.name, work),
                Out::Load(id) => {
                    self.report.evicted += 1;
                    let after = self.random.u64(0..20);
                    self.inside(number, after, Event::Load(id));
                }
                Out::PickUp(id) => self.inside(number, 0, Event::PickUp(id)),
                Out::Suspect(id) => self.inside(number, 0, Event::Suspect(id)),
                Out::Left { shards, to } => {
                    self.report.moved += 1;
                    let to = usize::try_from(to).expect("a process");
                    let life = self.processes[to].life;
                    self.processes[number].waiting.push_back(Submitted::GiveAway(shards, to, life));
                }
                Out::Drained => {
                    self.report.drained += 1;
                    assert!(!self.open.values().any(|(process, _)| *process == number), "an effect is under way after draining");
                    self.processes[number].waiting.push_back(Submitted::Ended);
                }
            }
        }
        let process = &mut self.processes[number];
        if !process.writing && !process.waiting.is_empty() {
            process.writing = true;
            let event = match process.waiting.front() {
                Some(Submitted::GiveAway(shards, to, life)) => {
                    let event = Event::GiveAway(*shards, *to, *life);
                    process.waiting.pop_front();
                    event
                }
                Some(Submitted::Ended) => {
                    process.waiting.pop_front();
                    Event::Crash
                }
                _ => Event::Write(process.next_group()),
            };
            let after = self.random.u64(0..40);
            self.inside(number, after, event);
        }
        if let Some(deadline) = self.processes[number].dispatcher.deadline() {
            let after = deadline.since(self.now).as_millis() as u64 + 1;
            let own = Some((number, self.processes[number].life));
            if !self.events.iter().any(|event| {
                matches!(event.event, Event::Tick) && event.of == own && event.at <= deadline.after(Duration::from_millis(1))
            }) {
                self.inside(number, after, Event::Tick);
            }
        }
    }

    fn write(&mut self, number: usize, ops: Vec<(Option<MessageId>, Op)>) {
        // A crash before the write: nothing of the group is stored. After it: everything is stored, and nobody got the answer.
        if self.random.u32(0..60) == 0 {
            return self.crash(number);
        }
        let mut ids = Vec::new();
        for (id, op) in ops {
            if let Some(id) = id
                && self.random.u32(0..400) == 0
            {
                self.report.refused += 1;
                ids.push((id, false));
                continue;
            }
            match op {
                Op::Change(change) => self.change(number, &change),
                Op::Hold(hold) => {
                    let step = matches!(Before::of(&hold.connection), Before::Step { .. });
                    self.report.holds += u64::from(!step);
                    self.report.steps_held += u64::from(step);
                    let by_person = |hold: &Hold| !hold.by.is_empty();
                    if by_person(&hold) || !self.holds.get(&hold.connection).is_some_and(by_person) {
                        self.holds.insert(hold.connection.clone(), hold);
                    }
                    self.look_soon(1 - number);
                }
                Op::Resume { connection, by_person, .. } => {
                    self.report.steps_freed += u64::from(matches!(Before::of(&connection), Before::Step { .. }));
                    if by_person || self.holds.get(&connection).is_some_and(|hold| hold.by.is_empty()) {
                        self.holds.remove(&connection);
                    }
                    self.look_soon(1 - number);
                }
                Op::Split(_) | Op::Resolve(_) => unreachable!("messages come to be by themselves here"),
            }
            ids.extend(id.map(|id| (id, true)));
        }
        if self.random.u32(0..60) == 0 {
            return self.crash(number);
        }
        let after = self.random.u64(0..10);
        self.inside(number, after, Event::Answer(ids));
    }

    fn change(&mut self, number: usize, change: &Change) {
        for part in &change.parts {
            self.report.parts += 1;
            let document = String::from_utf8(part.document.clone()).expect("JSON");
            let (origin, order_key) = (part.message.origin.clone(), part.message.order_key.clone());
            let id = origin.id;
            let row = Row::new(origin, document, order_key);
            assert!(self.rows.insert(id, row).is_none(), "a message comes to be once");
            self.made(number, id);
        }
        let row = self.rows.get_mut(&change.origin.id).expect("a change is of a message that is there");
        assert!(!row.state.is_final() || change.reopened, "a message that has ended changes by an act only");
        if let Some((seq, entry)) = &change.entry {
            assert_eq!(*seq as usize, row.log.len(), "entries follow one another");
            row.log.push(entry.clone());
        }
        row.reopened |= change.reopened;
        row.state = change.state;
        row.picked_up = 0;
        row.due = change.due;
        self.report.pauses += u64::from(matches!(&change.entry, Some((_, LogEntry { what: Logged::Woken { .. }, .. }))));
        if change.state == State::Failed {
            self.report.faileds += 1;
            let is = |code: ReasonCode| u64::from(change.reason.as_ref().is_some_and(|reason| reason.code == code));
            self.report.in_doubt += is(ReasonCode::InDoubt);
            self.report.suspects += is(ReasonCode::Suspect);
        }
    }

    fn perform(&mut self, number: usize, id: MessageId, connection: &str, work: Arc<Work>) {
        self.report.performed += 1;
        let before = self.open.insert(id, (number, work.step.clone()));
        assert!(before.is_none(), "one effect at a time: {id} performs {} and {before:?}", work.step);
        self.note_order(id);
        let down = self.outage.get(connection).is_some_and(|(from, to)| self.now >= *from && self.now < *to);
        let after = self.random.u64(1..200);
        let held = |says: &str| Outcome::Held { says: says.to_owned(), status: 0 };
        let again = || Outcome::Again { says: "500".to_owned(), status: 500, body: "".into(), after_ms: None };
        let answer = || Outcome::Answer { status: 200, body: "{\"ok\":1}".into() };
        let (takes, outcome) = match self.random.u32(0..20) {
            _ if down => (false, held("down")),
            0..=1 => (false, again()),
            2 => (false, Outcome::Refused { says: "no".to_owned(), status: 422, body: "".into() }),
            3 => (false, held("refused")),
            // Taken, but the answer is lost.
            4 if connection == "keyed" => (true, again()),
            4 => (true, Outcome::InDoubt { says: "lost".to_owned() }),
            _ => (true, answer()),
        };
        if takes {
            // Outside: a crash of our process does not undo it.
            let when = self.random.u64(0..after);
            self.outside(when, Event::Take(id, work));
        }
        self.inside(number, after, Event::Outcome(id, outcome));
    }

    fn take(&mut self, id: MessageId, work: &Work) {
        let connection = work.effect.connection().to_owned();
        // A receiver that ignores repeats takes effect once.
        if connection == "keyed" && self.taken.iter().any(|taken| taken.key == work.key) {
            return;
        }
        self.taken.push(Taken { message: id, step: work.step.clone(), connection, key: work.key });
    }

    /// Remembers a message that performs while an earlier one of its lane has not ended.
    fn note_order(&mut self, id: MessageId) {
        let row = &self.rows[&id];
        if row.order_key.is_empty() || row.reopened {
            return;
        }
        let earlier = self.rows.range(..id).filter(|(_, other)| other.is_in_lane_of(row) && !other.reopened);
        let open: Vec<MessageId> = earlier.filter(|(_, other)| !other.state.is_final()).map(|(id, _)| *id).collect();
        self.overtaken.extend(open.into_iter().map(|other| (id, other)));
    }

    /// A person acts on one message; `false` when none is left to act on or all acts are used.
    fn act_on_something(&mut self) -> bool {
        let failed: Vec<MessageId> =
            self.rows.values().filter(|row| row.state == State::Failed).map(|row| row.origin.id).collect();
        let done: Vec<MessageId> = self.rows.values().filter(|row| row.state == State::Done).map(|row| row.origin.id).collect();
        if self.acts_left == 0 || (failed.is_empty() && done.is_empty()) {
            return false;
        }
        self.acts_left -= 1;
        let ids = if failed.is_empty() || (self.random.u32(0..5) == 0 && !done.is_empty()) { done } else { failed };
        let id = ids[self.random.usize(0..ids.len())];
        let offered = self.random.i64(1..=2);
        // Sometimes that release is named; otherwise the message runs it if its completed steps fit.
        let release = Some(offered).filter(|_| self.random.u32(0..4) == 0);
        let act = match self.random.u32(0..5) {
            0 => Act::Discard,
            1 => Act::Resend { answers: Answers::Keep, release },
            2 => Act::Amend {
                form: Form::Json,
                document: self.rows[&id].document.replace("\"who\"", "\"amended\":1,\"who\""),
                answers: Answers::Again,
                release,
            },
            _ => Act::Resend { answers: Answers::Ask, release },
        };
        self.outside(1, Event::Act(id, act, offered));
        true
    }
}
