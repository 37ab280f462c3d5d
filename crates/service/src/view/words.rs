//! The closed sets of words in the API, each an enum of its description. Those that name something of the core are made from
//! the core's own enums, so that a word added there stops the build here.

use serde::{Deserialize, Serialize};
use std::fmt;
use utoipa::openapi::RefOr;
use utoipa::openapi::schema::{AnyOfBuilder, ObjectBuilder, Schema, Type};
use utoipa::{PartialSchema, ToSchema};
use wirewatch_core::Document;
use wirewatch_core::act::{Act, Answers};
use wirewatch_core::connection::{ConnectionKind, RepeatRule};
use wirewatch_core::document::Form;
use wirewatch_core::flow::Recording;
use wirewatch_core::intake::Verdict as CoreVerdict;
use wirewatch_core::machine::{Outcome, State, Then};
use wirewatch_core::plan::{Mark, TimelineState};
use wirewatch_core::propose::Confidence;
use wirewatch_core::reason::{Help, ReasonCode as CoreReasonCode};
use wirewatch_core::schema::Written;
use wirewatch_core::workspace::changes::What;
use wirewatch_core::x12::ack::AckKind;
use wirewatch_core::x12::{Level, SetAck as CoreSetAck, Weight};

/// Declares enums whose words are written once: for the code, for serde, and for the API's description.
macro_rules! words {
    ($($(#[doc = $doc:literal])+ $name:ident { $($(#[$about:meta])* $variant:ident = $word:literal),+ $(,)? })+) => {$(
        $(#[doc = $doc])+
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        pub enum $name {
            $($(#[$about])* #[serde(rename = $word)] $variant,)+
        }

        impl $name {
            /// Every word, in the order of the description.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];

            /// The word as the API writes it.
            #[must_use]
            pub const fn as_str(self) -> &'static str {
                match self { $(Self::$variant => $word,)+ }
            }

            /// The value of that word; `None` for a word that is not in the set.
            #[must_use]
            pub fn parse(word: &str) -> Option<Self> {
                Self::ALL.iter().copied().find(|known| known.as_str() == word)
            }
        }

        impl PartialSchema for $name {
            fn schema() -> RefOr<Schema> {
                let words = Self::ALL.iter().map(|word| word.as_str());
                let about = concat!($($doc),+).trim();
                ObjectBuilder::new().schema_type(Type::String).enum_values(Some(words)).description(Some(about)).into()
            }
        }

        impl ToSchema for $name {}

        impl AsRef<str> for $name {
            fn as_ref(&self) -> &str {
                self.as_str()
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.as_str())
            }
        }
    )+};
}

words! {
    /// State of a message.
    MessageState {
        Running = "running",
        /// Waits for a connection, a paused flow, a step on hold or a moment.
        Waiting = "waiting",
        /// A request failed and will be tried again.
        Retrying = "retrying",
        /// Stopped, and a person must look. Nothing is lost: it can be amended, resent or discarded.
        Failed = "failed",
        Done = "done",
        /// A filter of the flow ended it.
        Skipped = "skipped",
        Discarded = "discarded",
    }

    /// Verdict on an arrival.
    Verdict {
        Received = "received",
        /// Stored, and its messages are still being made.
        Splitting = "splitting",
        Duplicate = "duplicate",
        /// Read and answered with a rejection.
        Rejected = "rejected",
        /// Could not be read, and a person must look.
        Failed = "failed",
        /// Failed before; a person has accepted or discarded it.
        Resolved = "resolved",
    }

    /// State of an order along a milestone plan.
    OrderState {
        Open = "open",
        Trouble = "trouble",
        Done = "done",
    }

    /// Meaning of a milestone for its order.
    MilestoneMark {
        Begins = "begins",
        Passes = "passes",
        /// Something is wrong; a later milestone can put it right.
        Trouble = "trouble",
        Ends = "ends",
    }

    /// Subject of a live event.
    EventKind {
        Message = "message",
        Arrival = "arrival",
        Hold = "hold",
    }

    /// State of a connection, flow or step in a live event.
    HoldState {
        OnHold = "on-hold",
        InUse = "in-use",
    }

    /// Form of a document's text.
    DocumentForm {
        Json = "json",
        X12 = "x12",
        Csv = "csv",
        Xml = "xml",
        /// Lines of fixed or separated fields.
        Records = "records",
        Text = "text",
        Bytes = "bytes",
    }

    /// Verb of a step; `intake` for the beginning of a flow.
    StepVerb {
        Intake = "intake",
        Map = "map",
        Check = "check",
        Note = "note",
        Only = "only",
        Set = "set",
        Call = "call",
        Send = "send",
        Choose = "choose",
        Also = "also",
        Pause = "pause",
        Notify = "notify",
    }

    /// Result of an attempt.
    AttemptResult {
        Done = "done",
        /// Failed and is tried again at `due`.
        Retry = "retry",
        /// The connection was put on hold; the attempt did not count.
        OnHold = "on-hold",
        Failed = "failed",
    }

    /// Act of a person; the first four are on messages and arrivals.
    PersonAct {
        Resent = "resent",
        Amended = "amended",
        Discarded = "discarded",
        Accepted = "accepted",
        /// Flows.
        Paused = "paused",
        Resumed = "resumed",
        /// More or less was recorded for a time.
        Recorded = "recorded",
        /// Connections, which are resumed too.
        Held = "held",
        Probed = "probed",
        /// Called in a dry run.
        Called = "called",
        /// A document was sent to it by hand.
        Submitted = "submitted",
        /// Problems.
        Assigned = "assigned",
        Unassigned = "unassigned",
        /// Secrets.
        SecretSet = "secret-set",
        SecretChanged = "secret-changed",
        SecretRemoved = "secret-removed",
    }

    /// An act on one message.
    MessageAct {
        Resend = "resend",
        Amend = "amend",
        Discard = "discard",
    }

    /// Kind of an event of an order.
    OrderEventKind {
        /// A document of it arrived.
        Arrived = "arrived",
        /// It reached a milestone.
        Milestone = "milestone",
        /// The partner was sent an acknowledgment.
        Acknowledged = "acknowledged",
        /// A person did something with a message of it.
        Act = "act",
    }

    /// Kind of a problem that is assigned to a person.
    ProblemKind {
        /// All messages that failed for one reason; its name is the reason's id.
        Reason = "reason",
        /// A connection on hold.
        Connection = "connection",
        /// A step on hold; its name is `FLOW/STEP`.
        Step = "step",
        /// A paused flow.
        Flow = "flow",
        /// The failed arrivals of the last day; its name is empty.
        Arrivals = "arrivals",
    }

    /// State of a bulk act.
    BulkState {
        Running = "running",
        /// All its messages have been acted on.
        Done = "done",
        /// A person stopped it before its end.
        Stopped = "stopped",
    }

    /// Rule of a resend for answers that outside systems gave before.
    AnswerRule {
        /// A step that was done with the same request is skipped; where the request differs, the act is refused.
        Ask = "ask",
        /// A step that was done is skipped, even where its request would differ now.
        Keep = "keep",
        /// Every step is done again.
        Again = "again",
    }

    /// A range of time that ends now.
    FigureRange {
        Quarter = "15m",
        Hour = "1h",
        Day = "24h",
    }

    /// Outcome of a case.
    CaseOutcome {
        Passed = "passed",
        /// The result is not the expected one.
        Differs = "differs",
        /// It has no expected result yet.
        New = "new",
        /// It cannot be run.
        Broken = "broken",
    }

    /// Order of a list, by the time of arrival.
    ListOrder {
        Newest = "newest",
        Oldest = "oldest",
    }

    /// Kind of a connection.
    ConnectionType {
        Folder = "folder",
        Http = "http",
        Webhook = "webhook",
        Amqp = "amqp",
        Incidents = "incidents",
    }

    /// Effect of a repeated request at a connection.
    RepeatType {
        /// Idempotent: the receiver ignores repeats of the same key.
        Key = "key",
        /// A repeat changes nothing.
        Safe = "safe",
        /// Not known: after a crash in between, a person decides.
        Never = "never",
    }

    /// State of the consumer of a queue.
    QueueListening {
        Yes = "yes",
        /// No flow takes from it.
        No = "no",
        /// A flow would, and cannot.
        Stopped = "stopped",
    }

    /// Stable code of a problem; the sentence beside it may change.
    ProblemCode {
        /// 400: the request cannot be read, or a value in it is not allowed.
        BadRequest = "bad-request",
        /// 401: no valid token or session.
        Unauthenticated = "unauthenticated",
        /// 403: the page that asks is not one of this service.
        Forbidden = "forbidden",
        /// 404
        NotFound = "not-found",
        /// 405
        MethodNotAllowed = "method-not-allowed",
        /// 408: the body did not arrive in time.
        RequestTimeout = "request-timeout",
        /// 409: the present state does not allow it.
        Conflict = "conflict",
        /// 409: the message is being worked on; try again in a second.
        MessageBusy = "message-busy",
        /// 409: only a message that failed or has ended can be resent or amended.
        MessageNotStopped = "message-not-stopped",
        /// 409: the message has ended.
        MessageEnded = "message-ended",
        /// 409: a record of the message cannot be read.
        MessageDamaged = "message-damaged",
        /// 422: the act has content that the database cannot store.
        ActNotStored = "act-not-stored",
        /// 409: a completed step would make another request now; say what to do with its answer.
        OtherRequest = "other-request",
        /// 409: the message would no longer pass a completed step; say what to do about what was done.
        StepNotPassed = "step-not-passed",
        /// 409: the named release has no flow, branch or readable files for the message.
        ReleaseUnfit = "release-unfit",
        /// 422: the amended message would fail again before its next request.
        WouldFailAgain = "would-fail-again",
        /// 409: several messages have the key; name one by its id.
        KeyAmbiguous = "key-ambiguous",
        /// 409: the document cannot be read in its form.
        DocumentUnreadable = "document-unreadable",
        /// 409: the arrival has been accepted or discarded before.
        ArrivalResolved = "arrival-resolved",
        /// 409: the connection is on hold.
        OnHold = "on-hold",
        /// 409: the workspace would take back what newer releases changed.
        ReleaseStale = "release-stale",
        /// 403: the workspace does not allow deploying from the console.
        ConsoleDeployOff = "console-deploy-off",
        /// 422: a case of the changed workspace fails.
        CasesFailed = "cases-failed",
        /// 413
        TooLarge = "too-large",
        /// 415: the body must be sent as `application/json`.
        UnsupportedMediaType = "unsupported-media-type",
        /// 421: this host name is not served here.
        WrongHost = "wrong-host",
        /// 422: the request can be read and cannot be carried out as it is.
        Invalid = "invalid",
        /// 422: the workspace has errors; `findings` lists them.
        WorkspaceInvalid = "workspace-invalid",
        /// 422: the document has errors; `findings` lists them.
        DocumentInvalid = "document-invalid",
        /// 429
        TooManyRequests = "too-many-requests",
        /// 500: a fault of the service; its log has the cause.
        Internal = "internal",
        /// 503: try again later.
        Unavailable = "unavailable",
        /// 503: the database does not respond.
        DatabaseUnavailable = "database-unavailable",
        /// 503: the service is stopping; try again shortly.
        Stopping = "stopping",
    }

    /// Method of a call.
    HttpMethod {
        Get = "GET",
        Post = "POST",
        Put = "PUT",
        Patch = "PATCH",
        Delete = "DELETE",
    }

    /// Kind of a capture.
    CaptureType {
        Http = "http",
        Queue = "queue",
    }

    /// Direction of an interchange or a flow, seen from us.
    Direction {
        In = "in",
        Out = "out",
    }

    /// Weight of a finding in an X12 document.
    EdiWeight {
        /// The part with the finding is rejected.
        Error = "error",
        /// The partner's profile lets it pass.
        Tolerated = "tolerated",
        Note = "note",
    }

    /// Level of an X12 document at which something was found.
    EdiLevel {
        Interchange = "interchange",
        Group = "group",
        Set = "set",
        Segment = "segment",
        Element = "element",
    }

    /// Acknowledgment code of a transaction set (AK501, data element 717).
    EdiAck {
        Accepted = "A",
        AcceptedWithErrors = "E",
        Rejected = "R",
    }

    /// What acknowledges: a transaction set for a group, or a segment for an interchange.
    AcknowledgmentSet {
        Functional = "997",
        Implementation = "999",
        Interchange = "TA1",
    }

    /// Severity of a finding in a file.
    FindingSeverity {
        Warning = "warning",
        Error = "error",
    }

    /// Type of a field.
    FieldType {
        Text = "string",
        Number = "number",
        Integer = "integer",
        Boolean = "boolean",
        List = "list",
    }

    /// Confidence of a proposed rule.
    ProposalConfidence {
        Sure = "sure",
        Likely = "likely",
        Maybe = "maybe",
    }

    /// How much is recorded of a flow's calls.
    RecordingDepth {
        /// Every answer.
        Calls = "calls",
        /// Answers of failed calls.
        Failures = "failures",
    }

    /// Result of a deploy.
    ReleaseOutcome {
        New = "new",
        /// Nothing differs from the current release.
        Same = "same",
        /// Only a preview was asked for.
        Preview = "preview",
    }

    /// Change of a file in a release.
    FileChangeKind {
        New = "new",
        Changed = "changed",
        Gone = "gone",
    }

    /// Result of a message or request that was submitted by hand.
    SubmitOutcome {
        Done = "done",
        /// Failed in a way that may pass: submit it again.
        Retry = "retry",
        /// The other side refused it.
        Refused = "refused",
        /// The other side was not reached, or denied access.
        Unreachable = "unreachable",
        InDoubt = "in-doubt",
    }
}

/// Makes the words of a set from the core's enum, word by word.
macro_rules! from_core {
    ($($core:ty => $name:ident { $($of:pat => $variant:ident),+ $(,)? })+) => {$(
        impl From<$core> for $name {
            fn from(value: $core) -> Self {
                match value { $($of => Self::$variant,)+ }
            }
        }
    )+};
}

from_core! {
    State => MessageState {
        State::Running => Running, State::Waiting => Waiting, State::Retrying => Retrying, State::Failed => Failed,
        State::Done => Done, State::Skipped => Skipped, State::Discarded => Discarded,
    }
    CoreVerdict => Verdict {
        CoreVerdict::Received => Received, CoreVerdict::Splitting => Splitting, CoreVerdict::Duplicate => Duplicate,
        CoreVerdict::Rejected => Rejected, CoreVerdict::Failed => Failed, CoreVerdict::Resolved => Resolved,
    }
    TimelineState => OrderState {
        TimelineState::Open => Open, TimelineState::Trouble => Trouble, TimelineState::Done => Done,
    }
    Mark => MilestoneMark { Mark::Begins => Begins, Mark::Passes => Passes, Mark::Trouble => Trouble, Mark::Ends => Ends }
    &Form => DocumentForm {
        Form::Json => Json, Form::X12 { .. } => X12, Form::Bytes => Bytes,
        Form::Shaped { written: Written::Json, .. } => Json, Form::Shaped { written: Written::Csv, .. } => Csv,
        Form::Shaped { written: Written::Xml, .. } => Xml, Form::Shaped { written: Written::Records, .. } => Records,
    }
    &Then => AttemptResult {
        Then::Go => Done, Then::RetryAt(_) => Retry, Then::WaitFor(_) => OnHold, Then::Failed(_) => Failed,
    }
    Help => MessageAct { Help::Amend => Amend, Help::Resend => Resend, Help::Discard => Discard }
    &Act => PersonAct { Act::Resend { .. } => Resent, Act::Amend { .. } => Amended, Act::Discard => Discarded }
    &ConnectionKind => ConnectionType {
        ConnectionKind::Folder { .. } => Folder, ConnectionKind::Http(_) => Http, ConnectionKind::Webhook(_) => Webhook,
        ConnectionKind::Amqp(_) => Amqp, ConnectionKind::Incidents => Incidents,
    }
    RepeatRule => RepeatType { RepeatRule::Key => Key, RepeatRule::Safe => Safe, RepeatRule::Never => Never }
    Weight => EdiWeight { Weight::Error => Error, Weight::Tolerated => Tolerated, Weight::Note => Note }
    Level => EdiLevel {
        Level::Interchange => Interchange, Level::Group => Group, Level::Set => Set, Level::Segment => Segment,
        Level::Element => Element,
    }
    CoreSetAck => EdiAck {
        CoreSetAck::Accepted => Accepted, CoreSetAck::Noted => AcceptedWithErrors, CoreSetAck::Rejected => Rejected,
    }
    AckKind => AcknowledgmentSet {
        AckKind::Functional => Functional, AckKind::Implementation => Implementation, AckKind::Interchange => Interchange,
    }
    Confidence => ProposalConfidence { Confidence::Sure => Sure, Confidence::Likely => Likely, Confidence::Maybe => Maybe }
    Recording => RecordingDepth { Recording::Calls => Calls, Recording::Failures => Failures }
    What => FileChangeKind { What::New => New, What::Changed => Changed, What::Gone => Gone }
    &Outcome => SubmitOutcome {
        Outcome::Answer { .. } => Done, Outcome::Again { .. } => Retry, Outcome::Refused { .. } => Refused,
        Outcome::Held { .. } => Unreachable, Outcome::InDoubt { .. } => InDoubt,
    }
}

impl From<&Document> for DocumentForm {
    fn from(document: &Document) -> Self {
        match document {
            Document::Json(_) => Self::Json,
            Document::X12(_) => Self::X12,
            Document::Bytes(_) => Self::Bytes,
        }
    }
}

#[expect(clippy::derivable_impls, reason = "the macro writes the enum, where no variant can be marked")]
impl Default for AnswerRule {
    fn default() -> Self {
        Self::Ask
    }
}

impl From<AnswerRule> for Answers {
    fn from(rule: AnswerRule) -> Self {
        match rule {
            AnswerRule::Ask => Self::Ask,
            AnswerRule::Keep => Self::Keep,
            AnswerRule::Again => Self::Again,
        }
    }
}

/// Description of [`CoreReasonCode`]: the names, or `refused-NNN` with an HTTP status.
#[derive(Debug)]
pub enum ReasonCode {}

impl PartialSchema for ReasonCode {
    fn schema() -> RefOr<Schema> {
        let names = CoreReasonCode::ALL.iter().map(|code| code.name());
        let named = ObjectBuilder::new().schema_type(Type::String).enum_values(Some(names));
        let with_status = ObjectBuilder::new().schema_type(Type::String).pattern(Some("^refused-[0-9]{3}$"));
        let about = "Why a message failed; `refused-NNN` has the HTTP status of the refusal.";
        AnyOfBuilder::new().item(named).item(with_status).description(Some(about)).into()
    }
}

impl ToSchema for ReasonCode {}

/// Description of the state in a live event: of a message, an arrival or a hold.
#[derive(Debug)]
pub enum EventState {}

impl PartialSchema for EventState {
    fn schema() -> RefOr<Schema> {
        let of = |name: &str| utoipa::openapi::Ref::from_schema_name(name);
        let all = ["MessageState", "Verdict", "HoldState"].into_iter().map(of);
        let about = "State of a message, verdict on an arrival, or state of what can be put on hold.";
        all.fold(AnyOfBuilder::new(), AnyOfBuilder::item).description(Some(about)).into()
    }
}

impl ToSchema for EventState {
    fn schemas(schemas: &mut Vec<(String, RefOr<Schema>)>) {
        schemas.push(("MessageState".to_owned(), MessageState::schema()));
        schemas.push(("Verdict".to_owned(), Verdict::schema()));
        schemas.push(("HoldState".to_owned(), HoldState::schema()));
    }
}
