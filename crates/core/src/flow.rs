//! Flows: their intakes and steps.

use crate::document::{Form, Validate};
use crate::expr::{Expr, Template};
use crate::intake::Provenance;
use std::collections::BTreeSet;
use std::time::Duration;

/// Name of the flow that delivers acknowledgments; every workspace has it.
pub const ACKNOWLEDGMENTS: &str = "acknowledgments";
/// Name of the flow for X12 documents that no flow takes.
pub const UNROUTED: &str = "unrouted";
/// The index after a flow's last step.
pub const END: usize = usize::MAX;

/// A flow as it runs.
#[derive(Debug, Clone)]
pub struct Flow {
    pub name: String,
    pub title: String,
    /// For people; may be empty.
    pub notes: String,
    pub intakes: Vec<Intake>,
    /// Every step, those inside ways among them; a message begins at the first.
    pub steps: Vec<Step>,
    /// Index of the first step on failure; those steps are the last in `steps`.
    pub on_failure: Option<usize>,
    /// Business key of a message, e.g. the purchase order number; over the intake document.
    pub key: Option<Expr>,
    /// Key in the target system; over the intake document and the variables.
    pub result: Option<Expr>,
    /// Messages with the same value pass one after another.
    pub in_order_by: Option<Expr>,
    pub after_failure: AfterFailure,
    /// Most unfinished messages at a time; at the limit, its intakes are closed.
    pub in_flight: Option<u32>,
    pub record: Recording,
}

/// Recording depth: what is stored of outside calls beyond what the message needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Recording {
    /// Every answer, to be seen in the message's story.
    #[default]
    Calls,
    /// Answers of failed calls; of others only those that a step keeps.
    Failures,
}

impl Recording {
    /// Every value with its word in files.
    pub const WORDS: [(&'static str, Self); 2] = [("calls", Self::Calls), ("failures", Self::Failures)];

    /// Parses the word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::WORDS.iter().find(|(known, _)| *known == word).map(|(_, recording)| *recording)
    }
}

/// An intake of a flow.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Intake {
    /// A connection.
    pub from: String,
    /// The queue, where the connection is a broker.
    pub queue: Option<String>,
    pub takes: Takes,
    /// Form of the documents: JSON, CSV or XML.
    pub form: Form,
    /// Rule for a document that does not fit the schema.
    pub validate: Validate,
    /// Names of the events that it takes; all if empty.
    pub events: Vec<String>,
    /// Partners whose documents it takes; all if empty.
    pub partners: Vec<String>,
    /// People are notified when nothing was received for this time.
    pub silent_after: Option<Duration>,
}

impl Intake {
    /// Returns whether it takes this event.
    #[must_use]
    pub fn hears(&self, event: &str) -> bool {
        self.events.is_empty() || self.events.iter().any(|known| known == event)
    }

    /// Returns whether it takes documents of this partner.
    #[must_use]
    pub fn is_from(&self, partner: &str) -> bool {
        self.partners.is_empty() || self.partners.iter().any(|known| known == partner)
    }

    /// Returns the place where it receives: the connection, or its queue.
    #[must_use]
    pub fn place(&self) -> String {
        place_of(&self.from, self.queue.as_deref().unwrap_or_default())
    }

    /// Returns whether an arrival by that connection was received here.
    #[must_use]
    pub fn is_where(&self, provenance: &Provenance) -> bool {
        self.from == provenance.connection && self.queue.as_ref().is_none_or(|queue| *queue == provenance.name)
    }
}

/// Returns the place of a connection, or of a queue at it; names of connections contain no blank.
#[must_use]
pub fn place_of(connection: &str, queue: &str) -> String {
    if queue.is_empty() { connection.to_owned() } else { format!("{connection} {queue}") }
}

/// Documents that an intake takes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Takes {
    /// Transaction sets of this number, of any version that is defined.
    X12(String),
    /// A document of this schema, in the intake's `form`.
    Json(String),
    /// Any other text.
    Text,
}

/// Rule for messages after a failed one in a flow with an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum AfterFailure {
    #[default]
    Wait,
    Pass,
}

/// A named step.
#[derive(Debug, Clone)]
pub struct Step {
    pub name: String,
    pub verb: Verb,
    pub retry: Retry,
    /// The step that follows, or [`END`].
    pub next: usize,
    /// The branch it is in, in words; empty on the main line.
    pub way: String,
}

/// Action of a step.
#[derive(Debug, Clone)]
pub enum Verb {
    /// The document becomes what the map makes of it.
    Map { map: String },
    /// Every rule must hold; all broken rules are reported together.
    Check { rules: Vec<Rule> },
    /// A line into the message's story.
    Note { text: Template },
    /// The message continues only if the condition holds.
    Only { test: Expr, because: String },
    /// A variable with the step's name.
    Set { value: Expr },
    /// A request whose answer can become a variable.
    Call { at: String, method: Method, path: Template, body: Option<Expr>, keep: Option<String> },
    /// Sends something. Without `to`, the message's metadata names the connection; without `body`, the document is sent.
    Send { to: Option<String>, parcel: Parcel, body: Option<Expr> },
    /// The message takes the first branch whose condition holds.
    Choose { ways: Vec<Choice> },
    /// Creates a message for each of these branches; this message continues.
    Also { ways: Vec<Way> },
    /// The message waits.
    Pause { until: Until },
    /// Sends people a sentence, by a request with `{"text": …}`.
    Notify { at: String, path: Template, says: Template, once: Option<Once> },
}

/// A branch of a `choose`.
#[derive(Debug, Clone)]
pub struct Choice {
    /// `None` for the branch that is taken when no other is.
    pub when: Option<Expr>,
    /// Index of its first step; `None` for an empty branch: the message continues after the choice.
    pub first: Option<usize>,
}

/// A branch of an `also`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Way {
    pub name: String,
    pub first: usize,
}

/// How long a message pauses.
#[derive(Debug, Clone)]
pub enum Until {
    /// From when the step before it was done.
    Span(Duration),
    /// A moment: RFC 3339, or a day, which begins at midnight UTC.
    At(Expr),
}

/// Limit of notices with the same cause.
#[derive(Debug, Clone)]
pub struct Once {
    pub cause: Expr,
    /// After this time the cause is notified again.
    pub within: Duration,
}

/// A rule of a `check`.
#[derive(Debug, Clone)]
pub struct Rule {
    pub that: Expr,
    /// Sentence for a document that breaks the rule.
    pub says: Template,
}

/// Form of a `send` at the receiver.
#[derive(Debug, Clone)]
pub enum Parcel {
    /// A file of that name.
    File(Template),
    /// A message at a broker.
    Publish(Box<Publish>),
}

/// A message at a broker with its properties (AMQP 0-9-1, class basic).
#[derive(Debug, Clone)]
pub struct Publish {
    /// Empty for the default exchange, which delivers to the queue that the key names.
    pub exchange: String,
    /// The routing key.
    pub key: Template,
    pub headers: Vec<(String, Expr)>,
    pub correlation_id: Option<Expr>,
    pub reply_to: Option<Expr>,
    /// Type of the message, for its consumers.
    pub kind: Option<Expr>,
    pub priority: Option<u8>,
    /// After this the broker drops it, or moves it to the dead letters.
    pub expires: Option<Duration>,
}

/// HTTP methods that a call may use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "UPPERCASE")]
pub enum Method {
    Get,
    Post,
    Put,
    Patch,
    Delete,
}

impl Method {
    /// Every method with its key in a flow file.
    pub const ALL: [(&'static str, Self); 5] =
        [("get", Self::Get), ("post", Self::Post), ("put", Self::Put), ("patch", Self::Patch), ("delete", Self::Delete)];

    /// The one that is so called on the wire.
    #[must_use]
    pub fn of(name: &str) -> Option<Self> {
        Self::ALL.iter().map(|(_, method)| *method).find(|method| method.as_str() == name)
    }

    /// Returns whether a call without `body` sends the document: `POST`, `PUT` and `PATCH` do.
    #[must_use]
    pub const fn carries_a_document(self) -> bool {
        match self {
            Self::Post | Self::Put | Self::Patch => true,
            Self::Get | Self::Delete => false,
        }
    }

    /// Returns the word on the wire.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Get => "GET",
            Self::Post => "POST",
            Self::Put => "PUT",
            Self::Patch => "PATCH",
            Self::Delete => "DELETE",
        }
    }
}

/// How often and how soon a failed attempt is repeated.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Retry {
    /// Tries after the first.
    pub times: u16,
    pub first: Duration,
    pub longest: Duration,
}

impl Default for Retry {
    /// Eight tries over some eight minutes: longer than a restart of the other side, shorter than a shift.
    fn default() -> Self {
        Self { times: 8, first: Duration::from_secs(2), longest: Duration::from_secs(300) }
    }
}

impl Retry {
    /// The wait before try `tries + 1`, doubling from `first` up to `longest`, spread over its upper half.
    ///
    /// `spread` is any number that differs between messages; the same one always gives the same wait.
    #[must_use]
    pub fn wait(&self, tries: u16, spread: u64) -> Duration {
        let doubled = self.first.saturating_mul(1 << u32::from(tries.saturating_sub(1).min(20)));
        let full = doubled.min(self.longest).max(Duration::from_millis(1));
        // SplitMix64: the spread of neighbouring ids must not be neighbouring.
        let mut x = spread.wrapping_add(u64::from(tries)).wrapping_mul(0x9E37_79B9_7F4A_7C15);
        x = (x ^ (x >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        x = (x ^ (x >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        let half = full / 2;
        half + half.mul_f64((x >> 11) as f64 / (1u64 << 53) as f64)
    }
}

impl Verb {
    /// The verb's key in a flow file.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            Self::Map { .. } => "map",
            Self::Check { .. } => "check",
            Self::Note { .. } => "note",
            Self::Only { .. } => "only",
            Self::Set { .. } => "set",
            Self::Call { .. } => "call",
            Self::Send { .. } => "send",
            Self::Choose { .. } => "choose",
            Self::Also { .. } => "also",
            Self::Pause { .. } => "pause",
            Self::Notify { .. } => "notify",
        }
    }

    /// The connection the step uses, where the flow names one.
    #[must_use]
    pub fn connection(&self) -> Option<&str> {
        match self {
            Self::Call { at, .. } | Self::Notify { at, .. } => Some(at),
            Self::Send { to, .. } => to.as_deref(),
            Self::Map { .. }
            | Self::Check { .. }
            | Self::Note { .. }
            | Self::Only { .. }
            | Self::Set { .. }
            | Self::Choose { .. }
            | Self::Also { .. }
            | Self::Pause { .. } => None,
        }
    }
}

impl Flow {
    /// Builds the flow that delivers sealed acknowledgments to the partner.
    #[must_use]
    pub fn acknowledgments() -> Self {
        let template = |text| Template::parse(text).expect("a fixed template");
        let deliver = Verb::Send { to: None, parcel: Parcel::File(template("{$meta.file}")), body: None };
        Self {
            name: ACKNOWLEDGMENTS.to_owned(),
            title: "Acknowledgments to partners".to_owned(),
            notes: "A built-in flow: delivers the acknowledgments of what partners sent, in the order of their control numbers."
                .to_owned(),
            intakes: Vec::new(),
            steps: vec![Step {
                name: "deliver".to_owned(),
                verb: deliver,
                retry: Retry::default(),
                next: END,
                way: String::new(),
            }],
            on_failure: None,
            key: crate::expr::parse("$meta.group").ok(),
            result: crate::expr::parse("$meta.control").ok(),
            in_order_by: crate::expr::parse("$meta.to").ok(),
            after_failure: AfterFailure::Wait,
            in_flight: None,
            record: Recording::default(),
        }
    }

    /// Builds the flow for X12 documents that no flow takes: each fails at once, so that a person sees it.
    #[must_use]
    pub fn unrouted() -> Self {
        let rule = Rule {
            that: crate::expr::parse("false").expect("a fixed expression"),
            says: Template::parse("no flow takes {$meta.document} from {$meta.partner}").expect("a fixed template"),
        };
        let check = Step {
            name: "find-flow".to_owned(),
            verb: Verb::Check { rules: vec![rule] },
            retry: Retry::default(),
            next: END,
            way: String::new(),
        };
        Self {
            name: UNROUTED.to_owned(),
            title: "Documents without a flow".to_owned(),
            notes: "A built-in flow: transaction sets that no flow takes fail here, so that a person sees them.".to_owned(),
            steps: vec![check],
            key: crate::expr::parse("$meta.document & ' ' & $meta.interchange").ok(),
            result: None,
            in_order_by: None,
            ..Self::acknowledgments()
        }
    }

    /// Returns whether the step at that index runs only on failure.
    #[must_use]
    pub fn is_on_failure(&self, at: usize) -> bool {
        self.on_failure.is_some_and(|first| at >= first && at < self.steps.len())
    }

    /// The step of that name with its place.
    #[must_use]
    pub fn step(&self, name: &str) -> Option<(usize, &Step)> {
        self.steps.iter().enumerate().find(|(_, step)| step.name == name)
    }

    /// Returns whether a message that is at the step `from` can still come to the step `name`. Messages of branches of an `also`
    /// are others.
    #[must_use]
    pub fn reaches(&self, from: usize, name: &str) -> bool {
        let (mut ahead, mut seen) = (vec![from], BTreeSet::new());
        while let Some(at) = ahead.pop() {
            let Some(step) = self.steps.get(at).filter(|_| seen.insert(at)) else { continue };
            if step.name == name {
                return true;
            }
            ahead.push(step.next);
            if let Verb::Choose { ways } = &step.verb {
                ahead.extend(ways.iter().filter_map(|way| way.first));
            }
        }
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn waits_grow_within_bounds(tries in 1u16..100, spread: u64) {
            let retry = Retry { times: 9, first: Duration::from_secs(2), longest: Duration::from_secs(60) };
            let full = (2u64 << (tries - 1).min(20)).min(60) as f64;
            let wait = retry.wait(tries, spread).as_secs_f64();
            prop_assert!(wait >= full / 2.0 && wait <= full, "{wait} of {full}");
        }
    }
}
