//! Renders messages, arrivals and orders for a person.

use crate::terminal::outln;
use crate::ui::{BAD, BOLD, Cell, DIM, GOOD, cell, clock, exact, paint, span, styled, table, tone};
use wirewatch_core::before::Before;
use wirewatch_service::view::words::{MessageState, MilestoneMark, OrderEventKind};
use wirewatch_service::view::{
    ActPlan, ActView, Arrival, ArrivalStory, DocumentView, Message, NextAction, Order, OrderEvent, RequestView, Step, Story,
};

/// Messages as a table.
pub fn messages(messages: &[Message]) {
    let row = |message: &Message| -> Vec<Cell> {
        vec![
            styled(DIM, clock(&message.received)),
            cell(&message.id),
            cell(&message.flow),
            cell(message.partner.as_deref().unwrap_or_default()),
            styled(BOLD, &message.key),
            styled(tone(message.state), message.state.as_str()),
            cell(message.result.as_deref().unwrap_or_default()),
            cell(why(message)),
        ]
    };
    let rows: Vec<_> = messages.iter().map(row).collect();
    table(&["RECEIVED", "MESSAGE", "FLOW", "PARTNER", "KEY", "STATE", "RESULT", "WHY"], &rows);
}

/// Returns the reason for a message's state.
fn why(message: &Message) -> String {
    match message.state {
        MessageState::Retrying => {
            let due = message.due.as_deref().map(clock).unwrap_or_default();
            format!("{} tried {} times, next at {due}", message.step, message.tries)
        }
        MessageState::Waiting => match message.due.as_deref().filter(|_| message.waits_for.is_none()) {
            Some(due) => format!("{} waits until {}", message.step, clock(due)),
            None => match Before::of(message.waits_for.as_deref().unwrap_or_default()) {
                Before::Flow(_) => "waits: its flow is paused".to_owned(),
                Before::Step { step, .. } => {
                    format!("waits: step {step} is on hold, because many messages failed there for the same reason")
                }
                Before::Connection(name) => format!("waits for {name}"),
            },
        },
        MessageState::Failed => format!("{}: {}", message.step, message.says),
        MessageState::Running | MessageState::Done | MessageState::Skipped | MessageState::Discarded => message.says.clone(),
    }
}

/// Arrivals as a table.
pub fn arrivals(arrivals: &[Arrival]) {
    let row = |arrival: &Arrival| -> Vec<Cell> {
        vec![
            styled(DIM, clock(&arrival.received)),
            cell(&arrival.id),
            cell(&arrival.connection),
            cell(arrival.partner.as_deref().unwrap_or_default()),
            cell(&arrival.name),
            styled(tone(arrival.verdict), arrival.verdict.as_str()),
            crate::ui::number(arrival.messages),
            cell(keys(arrival)),
            cell(&arrival.says),
        ]
    };
    let rows: Vec<_> = arrivals.iter().map(row).collect();
    table(&["RECEIVED", "ARRIVAL", "FROM", "PARTNER", "NAME", "VERDICT", "MESSAGES", "KEYS", "WHY"], &rows);
}

/// Returns the first keys of an arrival; `…` stands for more.
fn keys(arrival: &Arrival) -> String {
    let more = if arrival.messages as usize > arrival.keys.len() && !arrival.keys.is_empty() { " …" } else { "" };
    format!("{}{more}", arrival.keys.join(" "))
}

/// Orders as a table: one line an order, its milestones along it.
pub fn orders(orders: &[Order]) {
    let row = |order: &Order| -> Vec<Cell> {
        let line: Vec<String> = order
            .milestones
            .iter()
            .map(|milestone| match (&milestone.at, milestone.after_ms) {
                (None, _) => format!("· {}", milestone.name),
                (Some(_), None) => format!("● {}", milestone.name),
                (Some(_), Some(ms)) => format!("─{}─ ● {}", short(ms), milestone.name),
            })
            .collect();
        vec![
            styled(DIM, clock(&order.begun)),
            styled(BOLD, &order.key),
            cell(order.partner.as_deref().unwrap_or_default()),
            styled(tone(order.state), order.state.as_str()),
            cell(line.join(" ")),
        ]
    };
    let rows: Vec<_> = orders.iter().map(row).collect();
    table(&["BEGUN", "ORDER", "PARTNER", "STATE", "MILESTONES"], &rows);
}

fn short(ms: u64) -> String {
    wirewatch_core::duration::short(std::time::Duration::from_millis(ms))
}

/// Prints one order's milestones, one a line.
pub fn order(order: &Order) {
    let state = paint(tone(order.state), order.state);
    outln!("{}  {}  {}  {state}", paint(BOLD, &order.key), order.partner.as_deref().unwrap_or_default(), paint(DIM, &order.plan));
    for milestone in &order.milestones {
        let (dot, at) = match &milestone.at {
            Some(at) if milestone.mark == MilestoneMark::Trouble => (paint(BAD, "●"), exact(at)),
            Some(at) => (paint(GOOD, "●"), exact(at)),
            None => (paint(DIM, "○"), "still ahead".to_owned()),
        };
        let after = milestone.after_ms.map_or(String::new(), |ms| format!("after {}", short(ms)));
        let times = if milestone.times > 1 { format!("{} times", milestone.times) } else { String::new() };
        let message = milestone.message.clone().unwrap_or_default();
        let line = format!("  {dot} {:<14} {at:<14} {after:<14} {times:<9} {}", milestone.name, paint(DIM, message));
        outln!("{}", line.trim_end());
    }
}

/// Prints what happened to an order, one event a line; its milestones are printed by [`order`].
pub fn events(events: &[OrderEvent]) {
    for event in events.iter().filter(|event| event.kind != OrderEventKind::Milestone) {
        let by = event.by.as_ref().map(|by| format!(" by {by}")).unwrap_or_default();
        outln!("  {}  {:<12}  {}{by}", paint(DIM, exact(&event.at)), event.kind.to_string(), event.says);
    }
}

/// A heading with a rule.
fn heading(text: &str) {
    outln!("\n{}", paint(BOLD, text));
}

fn indented(text: &str, by: &str) {
    for line in text.lines() {
        outln!("{by}{line}");
    }
}

/// A message's whole story.
pub fn story(story: &Story) {
    let message = &story.message;
    let state = paint(tone(message.state), message.state);
    outln!("{}  {}  {}  {state}", paint(BOLD, &message.key), message.id, message.flow);
    if let Some(result) = &message.result {
        outln!("in the target: {}", paint(BOLD, result));
    }
    let arrived = if story.release == message.release { String::new() } else { format!(", arrived under {}", message.release) };
    outln!("{}", paint(DIM, format!("release {}{arrived}", story.release)));
    if !why(message).is_empty() {
        outln!("{}", paint(tone(message.state), why(message)));
    }
    if !story.advice.is_empty() {
        outln!("{}", story.advice);
    }
    heading("Received from");
    if let Some(from) = &story.from {
        let by = from.by.as_ref().map(|by| format!(", submitted by {by}")).unwrap_or_default();
        outln!(
            "  {}  {}  by {}{by}  {}",
            clock(&from.received),
            from.name,
            from.connection,
            paint(DIM, format!("arrival {}", from.id))
        );
    }
    let facts: Vec<String> = ["partner", "interchange", "group", "set", "control", "to"]
        .iter()
        .filter_map(|name| story.meta.get(name)?.as_str().map(|value| format!("{name} {value}")))
        .collect();
    outln!("  {}", paint(DIM, facts.join(", ")));
    if let Some(part) = story.meta.get("part") {
        let text = |name: &str| part[name].as_str().unwrap_or_default();
        outln!("  branch {} of message {}", text("way"), text("of"));
    }
    heading("Document");
    document(&story.document, "  ");
    for step in &story.steps {
        one_step(step);
    }
    if !story.acts.is_empty() {
        heading("Acts");
        acts(&story.acts);
    }
    if !story.beside.is_empty() {
        heading("From the same arrival");
        for other in &story.beside {
            let state = paint(tone(other.state), format!("{:<9}", other.state));
            outln!("  {}  {state}  {:<16} {}  {}", other.id, other.flow, other.key, other.result.as_deref().unwrap_or_default());
        }
    }
}

/// Prints a document, and says if only its start is included.
fn document(document: &DocumentView, by: &str) {
    indented(&document.text, by);
    if document.cut {
        outln!("{by}{}", paint(DIM, format!("… the start of {} bytes", document.size)));
    }
}

fn one_step(step: &Step) {
    heading(&format!("Step {} ({})", step.step, step.verb.map_or("of an earlier release", |verb| verb.as_str())));
    if !step.note.is_empty() {
        outln!("  {}", step.note);
    }
    if let Some(after) = &step.after {
        document(after, "  ");
    }
    if let Some(request) = &step.request {
        self::request(request);
    }
    for attempt in &step.attempts {
        let status = attempt.status.map(|status| format!(" {status}")).unwrap_or_default();
        let due = attempt.due.as_deref().map_or(String::new(), |due| format!(", next after {}", span(&attempt.at, Some(due))));
        let then = paint(tone(attempt.then), attempt.then);
        outln!("  try {} at {}:{status} {then} {}{due}", attempt.number, exact(&attempt.at), attempt.says);
        if let Some(answer) = &attempt.answer {
            document(answer, "    ");
        }
    }
}

/// Release of a resent message, and what is different there.
pub fn release(plan: &ActPlan) {
    if !plan.says.is_empty() {
        outln!("{}  release {} as before: {}", plan.message, plan.release, plan.says);
    } else if plan.release == plan.before {
        outln!("{}  release {}", plan.message, plan.release);
    } else {
        let files: Vec<&str> = plan.changes.iter().map(|change| change.file.as_str()).collect();
        outln!("{}  release {} instead of {}; changed: {}", plan.message, plan.release, plan.before, files.join(", "));
    }
}

/// Prints the plan of a resend or an amendment.
pub fn plan(plan: &ActPlan) {
    release(plan);
    if !plan.skipped.is_empty() {
        outln!("  complete, not done again: {}", plan.skipped.join(", "));
    }
    let NextAction { step, state, says, request: next } = &plan.next;
    match (next, *state) {
        (Some(next), _) => {
            outln!("  next, at step {step}:");
            request(next);
        }
        (None, MessageState::Failed) => {
            outln!("  {}", paint(tone(*state), format!("it would fail again at step {step}: {says}")))
        }
        (None, state) if says.is_empty() => outln!("  then it is {state}"),
        (None, state) => outln!("  then it is {state}: {says}"),
    }
}

fn request(request: &RequestView) {
    outln!("  {} {}", paint(BOLD, &request.line), paint(DIM, format!("at {}", request.connection)));
    request.with.iter().for_each(|one| outln!("  {one}"));
    if let Some(body) = &request.body {
        document(body, "    ");
    }
}

/// Acts, one a line.
pub fn acts(acts: &[ActView]) {
    for act in acts {
        let why = if act.why.is_empty() { String::new() } else { format!(": {}", act.why) };
        outln!("  {}  {} by {}{why}", clock(&act.at), act.act, act.by);
    }
}

/// Headers of a call, or properties of a message at a broker; nested ones are indented.
fn headers(all: &serde_json::Map<String, serde_json::Value>, by: &str) {
    for (name, value) in all {
        match value {
            serde_json::Value::Object(inner) => {
                outln!("{by}{name}:");
                headers(inner, &format!("{by}  "));
            }
            serde_json::Value::String(text) => outln!("{by}{name}: {text}"),
            other => outln!("{by}{name}: {other}"),
        }
    }
}

/// An arrival with all that belongs to it.
pub fn arrival(story: &ArrivalStory) {
    let arrival = &story.arrival;
    let verdict = paint(tone(arrival.verdict), arrival.verdict);
    outln!("{}  arrival {}  by {}  {verdict}", paint(BOLD, &arrival.name), arrival.id, arrival.connection);
    if !arrival.says.is_empty() {
        outln!("{}", paint(tone(arrival.verdict), &arrival.says));
    }
    let by = arrival.by.as_ref().map(|by| format!(", submitted by {by}")).unwrap_or_default();
    outln!("{}", paint(DIM, format!("{} bytes, received {}{by}", arrival.size, clock(&arrival.received))));
    if !story.headers.is_empty() {
        heading("Headers");
        headers(&story.headers, "  ");
    }
    heading("Bytes");
    let text: String = story.text.chars().map(|c| if c.is_control() && c != '\n' && c != '\t' { '·' } else { c }).collect();
    for line in text.lines().take(40) {
        outln!("  {}", crate::ui::shorten(line, 160));
    }
    if story.text.lines().count() > 40 {
        outln!("  {}", paint(DIM, "… more"));
    }
    if !story.ledger.is_empty() {
        heading("Ledger");
        for entry in &story.ledger {
            let answers = entry.answers.as_ref().map(|number| format!("acknowledges {number}")).unwrap_or_default();
            let message = entry.message.clone().unwrap_or_default();
            let line = format!(
                "  {:<3}  {}  {} to {}  {answers} {}",
                entry.direction,
                entry.control,
                entry.sender,
                entry.receiver,
                paint(DIM, message)
            );
            outln!("{}", line.trim_end());
        }
    }
    if !story.acts.is_empty() {
        heading("Acts");
        acts(&story.acts);
    }
    if !story.messages.is_empty() {
        heading("Became");
        messages(&story.messages);
    }
}
