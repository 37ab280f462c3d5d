//! Decides on arrivals and splits them into messages. Pure: the ledger's answers are an argument.

mod seal;

pub use seal::{Answers, Seal};

use crate::document::{Content, Form, JSON_LIMIT, Unreadable};
use crate::flow::{Intake, Takes, UNROUTED};
use crate::partner::{Acknowledge, Partner};
use crate::place::Property;
use crate::workspace::Workspace;
use crate::x12::ack::{GroupAck, is_acknowledged};
use crate::x12::{Group, Header, Interchange, Reading};
use crate::{ArrivalId, Digest, MessageId};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::ops::Range;

/// Verdict on an arrival.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// Messages exist.
    Received,
    /// Stored; its messages are still being made.
    Splitting,
    /// The same bytes were received before.
    Duplicate,
    /// Read and answered with a rejection.
    Rejected,
    /// A person must look.
    Failed,
    /// Failed, and a person has accepted or discarded it.
    Resolved,
}

impl Verdict {
    /// Every verdict.
    pub const ALL: [Self; 6] = [Self::Received, Self::Splitting, Self::Duplicate, Self::Rejected, Self::Failed, Self::Resolved];

    /// Returns the word as shown and stored.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Received => "received",
            Self::Splitting => "splitting",
            Self::Duplicate => "duplicate",
            Self::Rejected => "rejected",
            Self::Failed => "failed",
            Self::Resolved => "resolved",
        }
    }
}

/// Identity of an interchange in the ledger.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct LedgerKey {
    /// Qualifier and id of sender and receiver, e.g. `ZZ/MARROWFIELD`.
    pub sender: String,
    pub receiver: String,
    /// ISA15.
    pub usage: String,
    /// ISA13.
    pub control: String,
}

impl LedgerKey {
    /// The key of a received interchange.
    #[must_use]
    pub fn of(header: &Header) -> Self {
        let party = |party: &crate::x12::Party| format!("{}/{}", party.qualifier, party.id);
        Self {
            sender: party(&header.sender),
            receiver: party(&header.receiver),
            usage: header.usage.clone(),
            control: header.control.clone(),
        }
    }
}

/// Entry of the ledger for an interchange.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Known {
    /// New; `before` is the highest control number below its own from the same sender.
    No { before: Option<u64> },
    /// The same key with the same content, and the acknowledgments that went out for it.
    Same { arrival: ArrivalId, acknowledgments: Vec<MessageId> },
    /// The same key with other content.
    Other { arrival: ArrivalId },
}

impl Known {
    /// Nothing is known, also not of earlier ones.
    pub const NEW: Self = Self::No { before: None };
}

/// An interchange read, with the digest of its bytes.
#[derive(Debug, Clone)]
pub struct Received {
    pub interchange: Interchange,
    pub digest: Digest,
}

/// A decision on an arrival.
#[derive(Debug, Clone, PartialEq)]
pub struct Decision {
    pub verdict: Verdict,
    /// One sentence for people; empty when there is nothing to say.
    pub says: String,
    /// The partner, where it is known.
    pub partner: String,
    pub split: Splitting,
    /// Acknowledgments to seal.
    pub seal: Vec<Seal>,
    /// Acknowledgments to be sent again, byte for byte.
    pub again: Vec<MessageId>,
    /// Interchanges to write into the ledger.
    pub ledger: Vec<(LedgerKey, Digest)>,
}

impl Decision {
    /// Returns a decision with nothing but a verdict and a sentence.
    #[must_use]
    pub fn only(verdict: Verdict, says: impl Into<String>) -> Self {
        Self {
            verdict,
            says: says.into(),
            partner: String::new(),
            split: Splitting::default(),
            seal: Vec::new(),
            again: Vec::new(),
            ledger: Vec::new(),
        }
    }
}

/// The messages that an arrival becomes, in order. Stored until all of them exist.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Splitting {
    pub heads: Vec<Head>,
    pub parts: Vec<Part>,
}

/// One message: index of its head, span of its document in the arrival's bytes, and its control number.
pub type Part = (u32, Range<u64>, String);

/// Metadata of a received arrival.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Provenance {
    /// The connection by which it was received.
    pub connection: String,
    /// File name, queue name, or what a person called it.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// The sender's name for what happened, e.g. `purchase.placed`; empty when it gives none.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub event: String,
    /// The sender's id of this delivery; empty when it gives none.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub delivery: String,
    /// Metadata beside the body; each entry is in `$meta` too. Of a call: `headers`. Of a message of AMQP 0-9-1: `exchange`,
    /// `routing_key`, `headers`, and if given `message_id`, `correlation_id`, `reply_to`, `type`, `content_type`, `priority`,
    /// `expires_ms`, `redelivered`.
    #[serde(skip_serializing_if = "Map::is_empty")]
    pub properties: Map<String, Value>,
    /// A person has accepted a duplicate.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub accept: bool,
}

impl Provenance {
    /// Returns a digest by the sender's own message id: redelivered messages have the same, so their effects have the same
    /// idempotency keys. `None` for an accepted duplicate, which is meant to take effect again.
    #[must_use]
    fn origin(&self, bytes: &[u8]) -> Option<Digest> {
        let id = self.properties.get(Property::MessageId.key()).and_then(Value::as_str).filter(|id| !id.is_empty())?;
        let parts = [self.connection.as_bytes(), self.name.as_bytes(), id.as_bytes(), bytes];
        (!self.accept).then(|| Digest::of(&parts))
    }
}

/// Metadata that the messages of a group share.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Head {
    pub flow: String,
    pub form: Form,
    pub meta: Map<String, Value>,
}

/// ISA15 of a test (data element I14).
const TEST: &str = "T";
/// Largest arrival, in bytes.
pub const MAX_ARRIVAL: u64 = 2 << 30;

/// Decides on an arrival that is not X12: one document for each flow that takes it, JSON or text.
///
/// `bytes` are the whole arrival, or nothing if it is larger than a document may be. `known` is what is known of its delivery:
/// the same id with the same content is a duplicate; with other content it is received and flagged.
#[must_use]
pub fn decide_document(workspace: &Workspace, provenance: &Provenance, size: u64, content: &Content, known: &Known) -> Decision {
    let too_large =
        |limit: u64| Decision::only(Verdict::Failed, format!("{size} bytes are more than the limit of {limit} bytes"));
    if size > MAX_ARRIVAL {
        return too_large(MAX_ARRIVAL);
    }
    if size > JSON_LIMIT as u64 {
        return too_large(JSON_LIMIT as u64);
    }
    let mut decision = Decision::only(Verdict::Received, "");
    match known {
        Known::Same { arrival, .. } if !provenance.accept => {
            return Decision::only(
                Verdict::Duplicate,
                format!("delivery {} was received before, as arrival {arrival}", provenance.delivery),
            );
        }
        Known::Other { arrival } => {
            decision.says =
                format!("delivery {} was received before with other content, as arrival {arrival}", provenance.delivery);
        }
        Known::No { .. } | Known::Same { .. } => {}
    }
    let mut refused: Vec<(String, Unreadable)> = Vec::new();
    let mut notes: Vec<String> = Vec::new();
    let origin = provenance.origin(content.bytes());
    for (flow, intake) in workspace.flows_from(provenance).filter(|(_, intake)| intake.hears(&provenance.event)) {
        let form = match intake.takes {
            Takes::X12(_) => continue,
            Takes::Text if std::str::from_utf8(content.bytes()).is_err() => {
                let why = Unreadable::Other("not UTF-8 text".to_owned());
                refused.push((flow.name.clone(), why));
                continue;
            }
            Takes::Text => Form::Bytes,
            Takes::Json(_) => match workspace.taken(intake, content) {
                Ok(warning) => {
                    notes.extend((!warning.is_empty()).then_some(warning));
                    intake.form.clone()
                }
                Err(why) => {
                    refused.push((flow.name.clone(), why));
                    continue;
                }
            },
        };
        let name = if intake.queue.is_some() { "queue" } else { "file" };
        let known = [
            ("from", &provenance.connection),
            (name, &provenance.name),
            ("event", &provenance.event),
            ("delivery", &provenance.delivery),
        ];
        let known = known.into_iter().filter(|(_, value)| !value.is_empty());
        let known = known.map(|(name, value)| (name.to_owned(), value.as_str().into()));
        let origin = origin.map(|origin| ("origin".to_owned(), origin.to_string().into()));
        let meta = provenance.properties.clone().into_iter().chain(known).chain(origin).collect();
        decision.split.parts.push((decision.split.heads.len() as u32, 0..size, String::new()));
        decision.split.heads.push(Head { flow: flow.name.clone(), form, meta });
    }
    if decision.split.parts.is_empty()
        && let Some((_, unreadable)) = refused.first()
    {
        return Decision::only(Verdict::Failed, unreadable.to_string());
    }
    // If one flow takes it, it is received; the reasons of the others are noted.
    notes.extend(refused.into_iter().map(|(flow, why)| format!("the flow {flow} does not take it: {why}")));
    if !notes.is_empty() {
        let verdict = Some(std::mem::take(&mut decision.says)).filter(|says| !says.is_empty());
        decision.says = verdict.into_iter().chain(notes).collect::<Vec<_>>().join("; ");
    }
    if decision.split.parts.is_empty() {
        // A body that is not a document is reported as that: its event cannot be read from it either.
        if let Some(why) = workspace.flows_from(provenance).find_map(|(_, intake)| {
            (provenance.event.is_empty() && intake.form == Form::Json && matches!(intake.takes, Takes::Json(_)))
                .then(|| content.json().err())?
        }) {
            return Decision::only(Verdict::Failed, why.to_string());
        }
        let nobody = format!("no flow takes {} from {}", or_anything(&provenance.event), provenance.connection);
        // A sender sends every event that it has; one that no flow takes is stored and needs no attention.
        let verdict = if provenance.event.is_empty() { Verdict::Failed } else { Verdict::Received };
        return Decision::only(verdict, nobody);
    }
    decision
}

fn or_anything(event: &str) -> &str {
    if event.is_empty() { "anything" } else { event }
}

/// Decides on an X12 arrival.
///
/// `known` is what the ledger has for each interchange, in the order of `received`.
#[must_use]
pub fn decide_x12(
    workspace: &Workspace,
    provenance: &Provenance,
    received: &[Received],
    unread: &Reading,
    known: &[Known],
) -> Decision {
    let mut decision = Decision::only(Verdict::Received, "");
    let mut says: Vec<String> = Vec::new();
    let mut verdicts: Vec<Verdict> = Vec::new();
    for (received, known) in received.iter().zip(known) {
        let (verdict, words) = one(&mut decision, workspace, provenance, received, known);
        verdicts.push(verdict);
        says.extend(words);
    }
    for stretch in &unread.unread {
        verdicts.push(Verdict::Failed);
        says.push(format!("bytes {} to {}: {}", stretch.bytes.start, stretch.bytes.end, stretch.says));
    }
    if verdicts.is_empty() {
        verdicts.push(Verdict::Failed);
        says.push("the file is empty".to_owned());
    }
    // The arrival gets the verdict that needs attention most.
    let weight = |verdict: &Verdict| match verdict {
        Verdict::Failed => 4,
        Verdict::Rejected => 3,
        Verdict::Received | Verdict::Splitting => 2,
        Verdict::Duplicate | Verdict::Resolved => 1,
    };
    decision.verdict = verdicts.into_iter().max_by_key(weight).unwrap_or(Verdict::Failed);
    decision.says = says.join("; ");
    decision
}

fn one(
    decision: &mut Decision,
    workspace: &Workspace,
    provenance: &Provenance,
    received: &Received,
    known: &Known,
) -> (Verdict, Option<String>) {
    let header = &received.interchange.header;
    let key = LedgerKey::of(header);
    let Some(partner) = workspace.partner_of(header) else {
        return (Verdict::Failed, Some(format!("no partner has the identifiers {} to {}", key.sender, key.receiver)));
    };
    decision.partner.clone_from(&partner.name);
    if let Some(acknowledge) = partner.acknowledge.as_ref().filter(|_| header.wants_ta1 && matches!(known, Known::No { .. })) {
        let answers = Answers::Interchange(Box::new(Interchange { groups: Vec::new(), ..received.interchange.clone() }));
        let (partner, to) = (partner.name.clone(), acknowledge.to.clone());
        decision.seal.push(Seal { partner, to, header: header.clone(), answers });
    }
    if let Some(fault) = received.interchange.faults.first() {
        return (Verdict::Failed, Some(format!("interchange {}: {}", key.control, fault.says)));
    }
    // A person cannot accept it either: a test interchange would have real effects here.
    if key.usage == TEST && workspace.environment.as_ref().is_some_and(|environment| environment.production) {
        let says =
            format!("interchange {} is a test (ISA15 is T) and was not processed, because this is production", key.control);
        return (Verdict::Failed, Some(says));
    }
    match known {
        Known::Same { arrival, acknowledgments } if !provenance.accept => {
            decision.again.extend(acknowledgments);
            let says = format!(
                "interchange {} was received before, as arrival {arrival}; its acknowledgment is sent again",
                key.control
            );
            return (Verdict::Duplicate, Some(says));
        }
        Known::Other { arrival } if !provenance.accept => {
            let says = format!("control number {} was used before with other content, in arrival {arrival}", key.control);
            return (Verdict::Failed, Some(says));
        }
        Known::No { .. } => decision.ledger.push((key.clone(), received.digest)),
        Known::Same { .. } | Known::Other { .. } => {}
    }
    let mut refused = Vec::new();
    let mut unrouted: Vec<String> = Vec::new();
    let mut sets = 0;
    for group in &received.interchange.groups {
        let acknowledge = matches!(known, Known::No { .. }) && is_acknowledged(group);
        if let Some(Acknowledge { to, style }) = partner.acknowledge.as_ref().filter(|_| acknowledge) {
            let answers = Answers::Group(group.clone(), *style);
            decision.seal.push(Seal { partner: partner.name.clone(), to: to.clone(), header: header.clone(), answers });
        }
        if matches!(GroupAck::of(group), GroupAck::Partly | GroupAck::Rejected) {
            let in_sets = group.sets.iter().flat_map(|set| &set.faults);
            let fault = group.faults.iter().chain(in_sets).find(|fault| fault.rejects());
            let accepted = group.accepted().count();
            let why = fault.map_or("", |fault| fault.says.as_str());
            refused.push(format!(
                "group {}: {} of {} sets rejected: {why}",
                group.control,
                group.sets.len() - accepted,
                group.sets.len()
            ));
        }
        let split = split(decision, workspace, provenance, partner, header, group);
        sets += split.messages;
        unrouted.extend(split.unrouted);
    }
    // Whatever its acknowledgment says, a document that no flow takes must be seen by a person.
    unrouted.sort_unstable();
    unrouted.dedup();
    refused.extend(unrouted.into_iter().map(|set| format!("no flow takes {set} from {}", partner.name)));
    match (sets, refused.is_empty()) {
        (0, true) => (Verdict::Failed, Some(format!("interchange {} has no transaction set", key.control))),
        (0, false) => (Verdict::Rejected, Some(refused.join("; "))),
        (_, true) => (Verdict::Received, gap(known, header)),
        (_, false) => (Verdict::Received, Some(refused.join("; "))),
    }
}

/// Returns the note about control numbers missing between the last interchange and this one.
fn gap(known: &Known, header: &Header) -> Option<String> {
    let Known::No { before: Some(before) } = known else { return None };
    let number: u64 = header.control.parse().ok()?;
    match number.checked_sub(*before)? {
        0 | 1 => None,
        2 => Some(format!("interchange {:09} from {} is missing", before + 1, header.sender.id)),
        _ => Some(format!("interchanges {:09} to {:09} from {} are missing", before + 1, number - 1, header.sender.id)),
    }
}

/// Result of splitting a group's accepted sets.
struct Split {
    /// Number of messages added.
    messages: usize,
    /// The sets that no flow takes; each becomes a message of the `unrouted` flow.
    unrouted: Vec<String>,
}

/// Adds the accepted sets of a group, one message for every flow that takes the set.
fn split(
    decision: &mut Decision,
    workspace: &Workspace,
    provenance: &Provenance,
    partner: &Partner,
    header: &Header,
    group: &Group,
) -> Split {
    let mut split = Split { messages: 0, unrouted: Vec::new() };
    for set in group.accepted() {
        let takes = Takes::X12(set.set.clone());
        let wanted = |intake: &Intake| intake.takes == takes && intake.is_from(&partner.name);
        let mut flows: Vec<&str> =
            workspace.flows_from(provenance).filter(|(_, intake)| wanted(intake)).map(|(flow, _)| flow.name.as_str()).collect();
        if flows.is_empty() {
            flows.push(UNROUTED);
            split.unrouted.push(set.set.clone());
        }
        for flow in flows {
            let form = match workspace.definitions_for(Some(&partner.name)).find(&group.version, &set.set) {
                Some(_) => Form::X12 { version: group.version.clone(), set: set.set.clone(), delimiters: header.delimiters },
                None => Form::Bytes,
            };
            let at = decision.split.heads.iter().position(|head| {
                head.flow == flow
                    && head.form == form
                    && head.meta["group"] == group.control
                    && head.meta["interchange"] == header.control
            });
            let at = at.unwrap_or_else(|| {
                let meta = json!({
                    "partner": partner.name, "from": provenance.connection, "file": provenance.name,
                    "interchange": header.control, "group": group.control, "usage": header.usage, "document": set.set,
                });
                let Value::Object(meta) = meta else { unreachable!("an object was just written") };
                decision.split.heads.push(Head { flow: flow.to_owned(), form, meta });
                decision.split.heads.len() - 1
            });
            decision.split.parts.push((at as u32, set.bytes.clone(), set.control.clone()));
            split.messages += 1;
        }
    }
    split
}
