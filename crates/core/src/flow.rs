//! Flows: what starts them and the steps a message takes.

use crate::document::{Form, Validate};
use crate::expr::{Expr, Template};
use crate::intake::Came;
use std::time::Duration;

/// Name of the flow that delivers acknowledgments; every workspace has it.
pub const ACKNOWLEDGMENTS: &str = "acknowledgments";
/// Name of the flow of X12 documents that no flow takes.
pub const UNROUTED: &str = "unrouted";
/// The place behind a flow's last step.
pub const END: usize = usize::MAX;

/// A flow as it runs.
#[derive(Debug, Clone)]
pub struct Flow {
    pub name: String,
    pub title: String,
    pub intakes: Vec<Intake>,
    /// Every step, those inside ways among them; a message begins at the first.
    pub steps: Vec<Step>,
    /// Where the steps begin that run when a message is to fail; they are the last in `steps`.
    pub on_failure: Option<usize>,
    /// What a message is known by, e.g. the purchase order number; over the intake document.
    pub key: Option<Expr>,
    /// What the target knows it by, once there; over the intake document and what steps kept.
    pub result: Option<Expr>,
    /// Messages with the same value pass one after another.
    pub in_order_by: Option<Expr>,
    pub after_failure: AfterFailure,
    /// Unfinished messages at a time, at most; beyond, its intakes take nothing.
    pub in_flight: Option<u32>,
    pub record: Recording,
}

/// What is kept of outside calls beyond what the message itself needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Recording {
    /// Every answer, to be seen in the message's story.
    #[default]
    Calls,
    /// Answers of what failed; of what went well only those that a step keeps.
    Failures,
}

impl Recording {
    /// Each with its word in files.
    pub const WORDS: [(&'static str, Self); 2] = [("calls", Self::Calls), ("failures", Self::Failures)];

    /// The one of that word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::WORDS.iter().find(|(known, _)| *known == word).map(|(_, recording)| *recording)
    }
}

/// Where a flow's messages come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Intake {
    /// A connection.
    pub from: String,
    /// The queue, where the connection is a broker.
    pub queue: Option<String>,
    pub takes: Takes,
    /// How documents of a schema are written: JSON, CSV or XML.
    pub form: Form,
    /// What is done with a document that does not fit the schema it takes.
    pub validate: Validate,
    /// Names of the events it takes; every event where empty.
    pub events: Vec<String>,
    /// The partners whose documents it takes; everybody's where empty.
    pub partners: Vec<String>,
    /// When nothing has come for this long, people are told.
    pub silent_after: Option<Duration>,
}

impl Intake {
    /// Whether it takes what is called so.
    #[must_use]
    pub fn hears(&self, event: &str) -> bool {
        self.events.is_empty() || self.events.iter().any(|known| known == event)
    }

    /// Whether it takes what is from that partner.
    #[must_use]
    pub fn is_from(&self, partner: &str) -> bool {
        self.partners.is_empty() || self.partners.iter().any(|known| known == partner)
    }

    /// What stands for the place where it takes: the connection, or its queue there.
    #[must_use]
    pub fn place(&self) -> String {
        place_of(&self.from, self.queue.as_deref().unwrap_or_default())
    }

    /// Whether what came by that connection came in here.
    #[must_use]
    pub fn is_where(&self, came: &Came) -> bool {
        self.from == came.connection && self.queue.as_ref().is_none_or(|queue| *queue == came.name)
    }
}

/// What stands for a connection, or for a queue of it; no name of a connection has a blank in it.
#[must_use]
pub fn place_of(connection: &str, queue: &str) -> String {
    if queue.is_empty() { connection.to_owned() } else { format!("{connection} {queue}") }
}

/// Which documents an intake takes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Takes {
    /// Transaction sets of this number, of any version that is defined.
    X12(String),
    /// A document of this schema, written as the intake's `form` says.
    Json(String),
    /// What is neither, as one text.
    Text,
}

/// What the messages behind a failed one do in an ordered flow.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum AfterFailure {
    #[default]
    Wait,
    Pass,
}

/// One named action.
#[derive(Debug, Clone)]
pub struct Step {
    pub name: String,
    pub verb: Verb,
    pub retry: Retry,
    /// The step that follows, or [`END`].
    pub next: usize,
    /// The way it stands on, in words; empty on the main line.
    pub way: String,
}

/// What a step does.
#[derive(Debug, Clone)]
pub enum Verb {
    /// The document becomes what the map makes of it.
    Map { map: String },
    /// Every rule must hold; those that do not are told together.
    Check { rules: Vec<Rule> },
    /// A line into the message's story.
    Note { text: Template },
    /// The message goes on only where the condition holds.
    Only { test: Expr, because: String },
    /// A value is kept under the step's name.
    Set { value: Expr },
    /// A request whose answer may be kept.
    Call { at: String, method: Method, path: Template, body: Option<Expr>, keep: Option<String> },
    /// Something goes out. Without `to`, the message's own meta says where; without `body`, it is the document.
    Send { to: Option<String>, parcel: Parcel, body: Option<Expr> },
    /// The message goes the first way whose condition holds.
    Choose { ways: Vec<Choice> },
    /// Messages of their own go these ways, side by side; this one goes on.
    Also { ways: Vec<Way> },
    /// The message waits.
    Pause { until: Until },
    /// A sentence is told to people, by a request with `{"text": …}`.
    Notify { at: String, path: Template, says: Template, once: Option<Once> },
}

/// One way of a `choose`.
#[derive(Debug, Clone)]
pub struct Choice {
    /// `None` for the way that is taken when no other is.
    pub when: Option<Expr>,
    /// Its first step; `None` where there is none: the message goes on behind the choice.
    pub first: Option<usize>,
}

/// One way of an `also`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Way {
    pub name: String,
    pub first: usize,
}

/// How long a message waits.
#[derive(Debug, Clone)]
pub enum Until {
    /// From when the step before it was done.
    Span(Duration),
    /// A moment: RFC 3339, or a day, which begins at midnight UTC.
    At(Expr),
}

/// Of how many messages with the same cause people are told.
#[derive(Debug, Clone)]
pub struct Once {
    pub cause: Expr,
    /// After this it is told again.
    pub within: Duration,
}

/// What a document must fulfil.
#[derive(Debug, Clone)]
pub struct Rule {
    pub that: Expr,
    /// What is said where it does not hold.
    pub says: Template,
}

/// What a `send` makes of the document at the receiver.
#[derive(Debug, Clone)]
pub enum Parcel {
    /// A file of that name.
    File(Template),
    /// A message at a broker.
    Publish(Box<Publish>),
}

/// A message at a broker, and what goes with it (AMQP 0-9-1, class basic).
#[derive(Debug, Clone)]
pub struct Publish {
    /// Empty for the default exchange, which delivers to the queue that the key names.
    pub exchange: String,
    /// The routing key.
    pub key: Template,
    pub headers: Vec<(String, Expr)>,
    pub correlation_id: Option<Expr>,
    pub reply_to: Option<Expr>,
    /// What kind of message it is, for who takes it.
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

    /// Whether a call sends the document where it does not say what else: `POST`, `PUT` and `PATCH` do.
    #[must_use]
    pub const fn carries_a_document(self) -> bool {
        match self {
            Self::Post | Self::Put | Self::Patch => true,
            Self::Get | Self::Delete => false,
        }
    }

    /// As on the wire.
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

/// How often and how soon a failed try is repeated.
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
    /// The flow that hands sealed acknowledgments to the partner's outlet.
    #[must_use]
    pub fn acknowledgments() -> Self {
        let template = |text| Template::parse(text).expect("a fixed template");
        let deliver = Verb::Send { to: None, parcel: Parcel::File(template("{$meta.file}")), body: None };
        Self {
            name: ACKNOWLEDGMENTS.to_owned(),
            title: "Acknowledgments to partners".to_owned(),
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

    /// The flow of X12 documents that no flow takes: each stops at once, so that a person sees it.
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
            title: "Documents that no flow takes".to_owned(),
            steps: vec![check],
            key: crate::expr::parse("$meta.document & ' ' & $meta.interchange").ok(),
            result: None,
            in_order_by: None,
            ..Self::acknowledgments()
        }
    }

    /// Whether the step at that place runs only when a message is to fail.
    #[must_use]
    pub fn is_on_failure(&self, at: usize) -> bool {
        self.on_failure.is_some_and(|first| at >= first && at < self.steps.len())
    }

    /// The step of that name with its place.
    #[must_use]
    pub fn step(&self, name: &str) -> Option<(usize, &Step)> {
        self.steps.iter().enumerate().find(|(_, step)| step.name == name)
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
