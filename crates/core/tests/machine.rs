//! One message in the demo flow: retried, on hold, refused, amended, resent; and rebuilt from its log at every point.

mod common;

use proptest::prelude::*;
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::act::{Act, Answers};
use wirewatch_core::document::Form;
use wirewatch_core::flow::{Recording, Retry};
use wirewatch_core::machine::{Body, Effect, End, LogEntry, Logged, Logic, Machine, Next, Origin, Outcome, State, Turn};
use wirewatch_core::plan::Point;
use wirewatch_core::reason::ReasonCode;
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_core::{Document, Timestamp};

const NOW: Timestamp = Timestamp(1_800_000_000_000_000);
const RETRY: Retry = Retry { times: 2, first: Duration::from_secs(1), longest: Duration::from_secs(60) };

fn answer() -> Outcome {
    Outcome::Answer { status: 201, body: r#"{"order_number":"Q-100017"}"#.into() }
}

fn again() -> Outcome {
    Outcome::Again { says: "500".into(), status: 500, body: "".into(), after_ms: None }
}

fn refused() -> Outcome {
    Outcome::Refused { says: "unknown item".into(), status: 422, body: "{}".into() }
}

/// The release that the machine runs, as the current one.
fn current(machine: &Machine) -> (i64, Arc<Workspace>) {
    (machine.release(), machine.logic().workspace.clone())
}

fn work(turn: &Turn) -> &wirewatch_core::machine::Work {
    match &turn.next {
        Next::Perform(work) => work,
        other => panic!("an effect was expected, not {other:?}"),
    }
}

/// Continues after operations were notified, as the flow's `on_failure` steps define.
fn operations_reported(machine: &mut Machine, turn: &Turn) -> Turn {
    assert_eq!(work(turn).step, "tell-operations");
    machine.outcome(Outcome::Answer { status: 200, body: "ok".into() }, &RETRY, NOW)
}

#[test]
fn an_order_is_mapped_and_booked() {
    let (mut machine, first) = common::begin();
    let work = work(&first).clone();
    let Effect::Call { path, body: Some(body), .. } = &work.effect else { panic!("a call") };
    assert_eq!((work.step.as_str(), path.as_str()), ("book", "/orders"));
    let pretty = serde_json::to_string_pretty(&serde_json::from_slice::<serde_json::Value>(&body.0).unwrap()).unwrap();
    insta::assert_snapshot!(pretty);
    let last = machine.outcome(answer(), &RETRY, NOW);
    assert_eq!(last.next, Next::End(End::Done));
    assert_eq!(last.points, [Point::Step("book".into()), Point::Done]);
    assert_eq!(machine.keys(), ("MF-20417".to_owned(), "Q-100017".to_owned()));
}

#[test]
fn retries_keep_the_key_and_end_failed() {
    let (mut machine, first) = common::begin();
    let key = work(&first).key;
    for _ in 0..2 {
        let turn = machine.outcome(again(), &RETRY, NOW);
        assert_eq!(turn.next.state(), State::Retrying);
        assert_eq!(work(&machine.woken(NOW)).key, key);
    }
    let gave_up = machine.outcome(again(), &RETRY, NOW);
    let Next::End(End::Failed(reason)) = operations_reported(&mut machine, &gave_up).next else { panic!("failed") };
    assert_eq!(reason.code, ReasonCode::GaveUp);
    let resent = machine.act(Act::Resend { answers: Answers::Ask, release: None }, &current(&machine), "ada", "", NOW).unwrap();
    assert_eq!(work(&resent).key, key, "without a definite refusal the receiver must recognise the repeat");
}

#[test]
fn a_pause_that_was_asked_for_is_respected() {
    let (mut machine, _) = common::begin();
    let asked = Outcome::Again { says: "429".into(), status: 429, body: "".into(), after_ms: Some(90_000) };
    assert_eq!(machine.outcome(asked, &RETRY, NOW).next, Next::WaitUntil(NOW.after(Duration::from_secs(90))));
}

#[test]
fn a_refusal_fails_and_an_amended_document_is_a_new_request() {
    let (mut machine, first) = common::begin();
    let before = work(&first).clone();
    let was_refused = machine.outcome(refused(), &RETRY, NOW);
    assert_eq!(operations_reported(&mut machine, &was_refused).next.state(), State::Failed);
    let form = machine.origin().form.clone();
    let document = String::from_utf8(machine.source().to_bytes()).unwrap().replace("QH-HIVE-10", "QH-HIVE-8");
    let unreadable = Act::Amend { form: form.clone(), document: "nonsense".into(), answers: Answers::Ask, release: None };
    assert!(machine.act(unreadable, &current(&machine), "ada", "", NOW).is_err());
    let turn = machine
        .act(Act::Amend { form, document, answers: Answers::Ask, release: None }, &current(&machine), "ada", "typo", NOW)
        .unwrap();
    assert_ne!(work(&turn).key, before.key);
    assert_ne!(work(&turn).request, before.request);
    assert_eq!(machine.outcome(answer(), &RETRY, NOW).next, Next::End(End::Done));
}

/// The demo's workspace with one file changed, as release 2.
fn release_2(file: &str, from: &str, to: &str) -> (i64, Arc<Workspace>) {
    let mut files = common::files();
    files.retain(|name, _| !name.starts_with("cases/") && !name.starts_with("milestones/"));
    let text = files.get_mut(file).unwrap();
    assert!(text.contains(from), "{file} has {from}");
    *text = text.replace(from, to);
    let checked = Workspace::read(&files);
    (2, Arc::new(checked.workspace.unwrap_or_else(|| panic!("{:#?}", checked.findings))))
}

const ASK: Act = Act::Resend { answers: Answers::Ask, release: None };

#[test]
fn a_resend_runs_the_current_release_where_the_completed_steps_fit_it() {
    let (mut machine, first) = common::begin();
    let was_refused = machine.outcome(refused(), &RETRY, NOW);
    operations_reported(&mut machine, &was_refused);
    let corrected = release_2("flows/partner-orders.toml", "/orders", "/orders/v2");
    let turn = machine.act(ASK, &corrected, "ada", "corrected", NOW).unwrap();
    assert_ne!(work(&turn).request, work(&first).request);
    assert_eq!(machine.release(), 2);
    let Some(Logged::Act { act, .. }) = turn.entry.map(|entry| entry.what) else { panic!("an act is logged") };
    assert_eq!(act.release(), Some(2), "the log has the number");
    // Once `book` is answered there, release 1 would make another request: it is not offered as a way back in silence.
    machine.outcome(answer(), &RETRY, NOW);
    let back = machine.act(ASK.under(1), &release_2("workspace.toml", "format", "format"), "ada", "", NOW).unwrap_err();
    assert_eq!(back.to_string(), "release 1 has no flow `partner-orders` for this message", "release 1 was not offered");
    assert_eq!(machine.release(), 2);
}

#[test]
fn a_completed_step_that_the_current_release_would_do_otherwise_keeps_the_release() {
    let (mut machine, _) = common::begin();
    machine.outcome(answer(), &RETRY, NOW);
    let other = release_2("flows/partner-orders.toml", "/orders", "/orders/v2");
    let turn = machine.act(ASK, &other, "ada", "", NOW).unwrap();
    assert_eq!((turn.next, machine.release()), (Next::End(End::Done), 1), "it runs the release that it ran");
    let refused = machine.act(ASK.under(2), &other, "ada", "", NOW).unwrap_err();
    assert!(refused.to_string().contains("`book` is complete, but its request"), "{refused}");
    let renamed = release_2("flows/partner-orders.toml", "\"book\"", "\"book-it\"");
    let refused = machine.act(ASK.under(2), &renamed, "ada", "", NOW).unwrap_err();
    assert!(refused.to_string().contains("`book` is complete, but the message would no longer pass it"), "{refused}");
    // A further step before it fits: what is complete is skipped.
    let (mut more, _) = common::begin();
    more.outcome(answer(), &RETRY, NOW);
    let longer = release_2(
        "flows/partner-orders.toml",
        "[[step]]\nname  = \"book\"",
        "[[step]]\nname = \"look\"\nnote = \"again\"\n\n[[step]]\nname  = \"book\"",
    );
    let turn = more.act(ASK, &longer, "ada", "", NOW).unwrap();
    assert_eq!((turn.next, more.release(), more.skipped()), (Next::End(End::Done), 2, &["book".to_owned()][..]));
}

#[test]
fn a_resend_asks_before_an_answered_step_gets_another_request() {
    let (mut machine, _) = common::begin();
    machine.outcome(answer(), &RETRY, NOW);
    let same =
        machine.clone().act(Act::Resend { answers: Answers::Ask, release: None }, &current(&machine), "ada", "", NOW).unwrap();
    assert_eq!(same.next, Next::End(End::Done), "the same request keeps its answer");
    let form = machine.origin().form.clone();
    let document = String::from_utf8(machine.source().to_bytes()).unwrap().replace("QH-HIVE-10", "QH-HIVE-8");
    let amend = |answers| Act::Amend { form: form.clone(), document: document.clone(), answers, release: None };
    assert!(
        machine
            .clone()
            .act(amend(Answers::Ask), &current(&machine), "ada", "", NOW)
            .unwrap_err()
            .to_string()
            .contains("`book` is complete")
    );
    assert_eq!(machine.clone().act(amend(Answers::Keep), &current(&machine), "ada", "", NOW).unwrap().next, Next::End(End::Done));
    assert_eq!(machine.act(amend(Answers::Again), &current(&machine), "ada", "", NOW).unwrap().next.state(), State::Running);
}

#[test]
fn a_map_that_fails_fails_with_target_and_place() {
    let (form, document) = common::order(0);
    let text = String::from_utf8(document.to_bytes()).unwrap().replace("PO1*2*48*EA", "PO1*2*48*XX");
    let document = Document::read(wirewatch_core::x12::Definitions::standard(), |_| None, &form, text.as_bytes()).unwrap();
    let logic = Logic::of(&common::workspace(&common::files()), "partner-orders").unwrap();
    let (mut machine, turn) = Machine::begin(logic, common::origin(form), document);
    let Next::End(End::Failed(reason)) = operations_reported(&mut machine, &turn).next else { panic!("failed") };
    insta::assert_snapshot!(reason.says, @"rows[2].unit = table('units', PO103) (line 28 of the map): table `units` has no row for `XX`");
}

/// A flow with a pause, branches, a choice, and notification of failures.
const WINDING: &str = r#"
key = "BEG03"
[[intake]]
from = "marrowfield-drop"
takes = "x12/850"
[[step]]
name = "rest"
pause = { for = "3s" }
[[step]]
name = "beside"
[[step.also]]
way = "operations"
[[step.also.step]]
name = "tell"
notify = { at = "erp", post = "/chat", says = "{BEG03} is here" }
[[step]]
name = "which"
[[step.choose]]
when = "BEG03 = 'MF-20417'"
[[step.choose.step]]
name = "settle"
pause = { for = "8s" }
[[step.choose]]
[[step]]
name = "book"
call = { at = "erp", post = "/orders", body = "it", as = "booked" }
[[on_failure]]
name = "alarm"
notify = { at = "erp", post = "/chat", says = "{$error.step}: {$error.says}" }
"#;

fn winding() -> (Machine, Turn) {
    let mut files = common::files();
    files.insert("flows/partner-orders.toml".to_owned(), WINDING.to_owned());
    let (form, document) = common::order(0);
    let logic = Logic::of(&common::workspace(&files), "partner-orders").unwrap();
    Machine::begin(logic, common::origin(form), document)
}

#[test]
fn a_message_that_failed_reports_first_and_then_stands_where_it_failed() {
    let (mut machine, begun) = winding();
    let Next::Pause(due) = begun.next else { panic!("a pause") };
    assert_eq!(due, machine.origin().id.made().after(Duration::from_secs(3)));
    let Next::Part(ways) = machine.woken(due).next else { panic!("ways") };
    let (origin, document) = machine.part(&ways[0], wirewatch_core::Id(8_000_000));
    let (part, first) = Machine::begin(machine.logic().clone(), origin, document);
    assert_eq!((work(&first).step.as_str(), part.keys().0.as_str()), ("tell", "MF-20417"));
    let Next::Pause(due) = machine.parted(due).next else { panic!("another pause") };
    assert_eq!(work(&machine.woken(due)).step, "book");
    let failed = machine.outcome(refused(), &RETRY, NOW);
    assert_eq!((work(&failed).step.as_str(), failed.points.len()), ("alarm", 0));
    assert_eq!(work(&failed).effect.body().unwrap().text(), r#"{"text":"book: unknown item"}"#);
    let reported = machine.outcome(answer(), &RETRY, NOW);
    let Next::End(End::Failed(reason)) = reported.next else { panic!("failed") };
    assert_eq!(
        (machine.step(), reason.code, reported.points),
        ("book", ReasonCode::Refused(422), vec![Point::Step("alarm".into()), Point::Failed])
    );
    // A resend takes each branch once: completed effects stay, and notifications are sent again.
    let again = machine.act(Act::Resend { answers: Answers::Ask, release: None }, &current(&machine), "ada", "", NOW).unwrap();
    let Next::Pause(due) = again.next else { panic!("the pause once more") };
    let Next::Pause(due) = machine.woken(due).next else { panic!("no ways, the other pause") };
    machine.woken(due);
    let failed = machine.outcome(refused(), &RETRY, NOW);
    assert_eq!(work(&failed).step, "alarm");
    let Next::End(End::Failed(reason)) = machine.outcome(refused(), &RETRY, NOW).next else { panic!("failed") };
    assert_eq!(reason.says, "unknown item; then in `on_failure`, alarm: unknown item");
}

/// Whatever happens, the machine rebuilt from the committed log is where the live one was.
fn same_after_rebuild(machine: &Machine, log: &[LogEntry]) -> Result<(), TestCaseError> {
    let (form, document) = common::order(0);
    let rebuilt = Machine::rebuild(machine.logic().clone(), common::origin(form), document, log, true).unwrap();
    prop_assert_eq!(rebuilt.next(), machine.next());
    prop_assert_eq!(rebuilt.keys(), machine.keys());
    prop_assert_eq!((rebuilt.step(), rebuilt.tries()), (machine.step(), machine.tries()));
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]
    #[test]
    fn the_log_holds_everything(choices in prop::collection::vec(0u8..8, 1..14), winds: bool) {
        let (mut machine, _) = if winds { winding() } else { common::begin() };
        let mut log: Vec<LogEntry> = Vec::new();
        for choice in choices {
            let turn = match (machine.next().clone(), choice) {
                (Next::Perform(_), 0..=2) => machine.outcome(again(), &RETRY, NOW),
                (Next::Perform(_), 3) => machine.outcome(Outcome::Held { says: "down".into(), status: 0 }, &RETRY, NOW),
                (Next::Perform(_), 4) => machine.outcome(refused(), &RETRY, NOW),
                (Next::Perform(_), _) => machine.outcome(answer(), &RETRY, NOW),
                (Next::WaitUntil(_) | Next::WaitFor(_), _) => {
                    // A pause is not committed alone: after a crash the message waits again.
                    let mut woken = machine.clone();
                    woken.woken(NOW);
                    let turn = woken.outcome(if choice < 4 { again() } else { answer() }, &RETRY, NOW);
                    machine = woken;
                    turn
                }
                (Next::Pause(due), _) => machine.woken(due),
                (Next::Part(_), _) => machine.parted(NOW),
                (Next::End(_), 0..=5) => match machine.act(Act::Resend { answers: Answers::Keep, release: None }, &current(&machine), "ada", "", NOW) {
                    Ok(turn) => turn,
                    Err(_) => continue,
                },
                (Next::End(_), _) => match machine.act(Act::Discard, &current(&machine), "ada", "no use", NOW) {
                    Ok(turn) => turn,
                    Err(_) => continue,
                },
            };
            log.extend(turn.entry);
            same_after_rebuild(&machine, &log)?;
        }
    }
}

#[test]
fn a_flow_that_records_failures_keeps_no_answer_that_nobody_needs() {
    let switched = |record: &str, step: &str, recording: Option<Recording>| {
        let files: Files = [
            ("workspace.toml", "format = 1".to_owned()),
            ("connections/notes.toml", "kind = \"folder\"\npath = \"notes\"".to_owned()),
            ("connections/erp.toml", "kind = \"http\"\naddress = \"http://erp\"".to_owned()),
            ("schemas/any.schema.json", "{}".to_owned()),
            (
                "flows/f.toml",
                format!("{record}\n[[intake]]\nfrom = \"notes\"\ntakes = \"any\"\n[[step]]\nname = \"book\"\n{step}"),
            ),
        ]
        .map(|(path, text)| (path.to_owned(), text))
        .into();
        let workspace = common::workspace(&files);
        let document = Document::json(b"{}").unwrap();
        let origin = Origin { flow: "f".into(), ..(*common::origin(Form::Json)).clone() };
        let (mut machine, _) = Machine::begin(Logic::of(&workspace, "f").unwrap(), origin.into(), document);
        machine.record(recording);
        let outcome = Outcome::Answer { status: 201, body: "{\"number\":7}".into() };
        let turn = machine.outcome(outcome, &Retry::default(), Timestamp(1));
        match turn.entry.expect("an entry").what {
            Logged::Attempt { outcome, .. } => outcome.body().map(Body::text).unwrap_or_default(),
            other => panic!("{other:?}"),
        }
    };
    let answer = |record: &str, step: &str| switched(record, step, None);
    let call = "call = { at = \"erp\", post = \"/orders\", body = \"it\" }";
    assert_eq!(answer("", call), "{\"number\":7}");
    assert_eq!(answer("record = \"failures\"", call), "");
    let variables = "call = { at = \"erp\", post = \"/orders\", body = \"it\", as = \"booked\" }";
    assert_eq!(answer("record = \"failures\"", variables), "{\"number\":7}", "a step keeps it");
    // A person can record more or less for a while.
    assert_eq!(switched("record = \"failures\"", call, Some(Recording::Calls)), "{\"number\":7}");
    assert_eq!(switched("", call, Some(Recording::Failures)), "");
}

#[test]
fn a_message_whose_key_cannot_be_worked_out_goes_no_step() {
    for (line, says) in [
        (
            "key    = \"PO1.01\"",
            "key: `PO1.01` gives 2 values; one value is needed here: choose one with first(…), last(…), a filter or a position",
        ),
        ("key    = \"BEG03\"\nin_order_by = \"number(BEG03)\"", "in_order_by: expected a number, found `MF-20417`"),
    ] {
        let mut files = common::files();
        let flow = files.get_mut("flows/partner-orders.toml").unwrap();
        let before = flow.lines().find(|line| line.starts_with("key ")).unwrap().to_owned();
        *flow = flow.replace(&before, line);
        let logic = Logic::of(&common::workspace(&files), "partner-orders").unwrap();
        let (form, document) = common::order(0);
        let (mut machine, turn) = Machine::begin(logic, common::origin(form), document);
        let Next::End(End::Failed(reason)) = operations_reported(&mut machine, &turn).next else { panic!("failed") };
        assert_eq!(reason.says, says);
    }
}
