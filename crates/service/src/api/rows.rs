//! Converts rows of the journal to the API's views.

use crate::view::words::{Direction, DocumentForm, MessageState, OrderState, PersonAct, Verdict};
use crate::view::{
    self, ActView, Arrival, DescribedSegment, DocumentView, LedgerEntry, Message, MilestoneView, Order, Reason, some, time,
};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::plan::{Mark, Plan};
use wirewatch_core::reason::ReasonCode;
use wirewatch_core::x12::describe::{Described, DescribedElement};
use wirewatch_core::{Id, Timestamp};
use wirewatch_journal::{ArrivalRow, AuditRow, LedgerRow, MessageRow, ReasonCount, TimelineRow};

/// Returns a reason's id in hexadecimal.
pub fn reason_id(id: i64) -> String {
    format!("{id:016x}")
}

/// Parses a reason's id.
pub fn parse_reason(text: &str) -> Option<i64> {
    i64::from_str_radix(text, 16).ok()
}

/// Converts a message. An unreadable state means a damaged row: it is shown as failed, with a sentence that says so.
pub fn message(row: MessageRow) -> Message {
    let (state, says) = match MessageState::parse(&row.state) {
        Some(state) => (state, row.says),
        None => (MessageState::Failed, format!("damaged: its state is stored as `{}`", row.state)),
    };
    Message {
        id: Id(row.id).to_string(),
        flow: row.flow,
        partner: some(&row.partner),
        key: row.key,
        result: some(&row.result),
        state,
        step: row.step,
        tries: row.tries,
        due: time(row.due),
        waits_for: some(&row.waits_for),
        reason: (row.reason != 0).then(|| reason_id(row.reason)),
        code: (row.reason != 0).then(|| code(&row.code)),
        says,
        arrival: Id(row.arrival).to_string(),
        release: row.release,
        received: time(Id(row.id).made().0).unwrap_or_default(),
        changed: time(row.at).unwrap_or_default(),
    }
}

/// Converts an arrival. An unreadable verdict means a damaged row: it is shown as failed, with a sentence that says so.
pub fn arrival(row: ArrivalRow) -> Arrival {
    let (verdict, says) = match Verdict::parse(&row.verdict) {
        Some(verdict) => (verdict, row.says),
        None => (Verdict::Failed, format!("damaged: its verdict is stored as `{}`", row.verdict)),
    };
    Arrival {
        id: Id(row.id).to_string(),
        connection: row.connection,
        partner: some(&row.partner),
        name: row.name,
        verdict,
        says,
        size: row.size,
        messages: row.messages,
        received: time(row.received).unwrap_or_default(),
        by: some(&row.by_whom),
        keys: Vec::new(),
    }
}

/// Counts by state; what is stored under a state that cannot be read counts as failed, as [`message`] shows it.
pub fn by_state(counts: impl IntoIterator<Item = (String, i64)>) -> BTreeMap<MessageState, i64> {
    let mut all = BTreeMap::new();
    for (state, n) in counts {
        *all.entry(MessageState::parse(&state).unwrap_or(MessageState::Failed)).or_default() += n;
    }
    all
}

/// The code of a reason; one that cannot be read is damaged.
fn code(text: &str) -> ReasonCode {
    text.parse().unwrap_or(ReasonCode::Damaged)
}

pub fn reason(row: ReasonCount) -> Reason {
    let code = code(&row.code);
    Reason {
        id: reason_id(row.id),
        flow: row.flow,
        step: row.step,
        connection: some(&row.connection),
        code,
        says: row.says,
        advice: code.advice().to_owned(),
        helps: code.help().into(),
        messages: row.messages,
        first_seen: time(row.first),
    }
}

pub fn ledger(row: LedgerRow) -> LedgerEntry {
    LedgerEntry {
        direction: Direction::parse(&row.direction).unwrap_or(Direction::In),
        sender: row.sender,
        receiver: row.receiver,
        usage: row.usage,
        control: row.control,
        answers: some(&row.answers),
        message: (row.message != 0).then(|| Id(row.message).to_string()),
        at: time(row.at).unwrap_or_default(),
    }
}

/// A person's act on a message or an arrival; `None` for any other act.
pub fn act(row: AuditRow) -> Option<ActView> {
    let act = PersonAct::parse(&row.act)?;
    Some(ActView { at: time(row.at).unwrap_or_default(), by: row.by_whom, act, why: row.why })
}

/// A document's text, at most `most` bytes of it, ending with a whole line where there is one.
pub fn document(form: DocumentForm, mut text: String, most: usize) -> DocumentView {
    let size = text.len();
    if size > most {
        let end = (0..=most).rev().find(|&at| text.is_char_boundary(at)).unwrap_or(0);
        text.truncate(text[..end].rfind('\n').map_or(end, |line| line + 1));
    }
    DocumentView { form, cut: text.len() < size, size, text }
}

/// Segment `n`, from 0, of a document with a segment on each line.
pub fn described(n: usize, segment: Described<'_>) -> DescribedSegment {
    let number = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    let element = |one: DescribedElement<'_>| view::DescribedElement {
        at: format!("{}{:02}", segment.id, one.position),
        name: one.name.to_owned(),
        value: one.value,
        meaning: one.meaning.into_owned(),
        from: number(one.from),
        to: number(one.to),
    };
    DescribedSegment {
        line: number(n + 1),
        name: segment.name.to_owned(),
        depth: number(segment.depth),
        elements: segment.elements.into_iter().map(element).collect(),
        id: segment.id,
    }
}

/// Converts a timeline, with every milestone of its plan; trouble is included only where it happened.
pub fn order(row: TimelineRow, plan: Option<&Arc<Plan>>) -> Order {
    let mut milestones: Vec<MilestoneView> = Vec::new();
    let mut before: Option<Timestamp> = None;
    for reached in &row.milestones {
        let after = before.map(|before| reached.first.since(before));
        before = Some(reached.first);
        milestones.push(MilestoneView {
            name: reached.milestone.clone(),
            mark: reached.mark.into(),
            at: time(reached.first.0),
            after_ms: after.map(|after: Duration| u64::try_from(after.as_millis()).unwrap_or(u64::MAX)),
            times: reached.times,
            message: Some(reached.message.to_string()),
        });
    }
    let ahead = plan.iter().flat_map(|plan| &plan.milestones).filter(|milestone| milestone.mark != Mark::Trouble);
    for milestone in ahead {
        if row.milestones.iter().all(|reached| reached.milestone != milestone.name) {
            milestones.push(MilestoneView {
                name: milestone.name.clone(),
                mark: milestone.mark.into(),
                at: None,
                after_ms: None,
                times: 0,
                message: None,
            });
        }
    }
    // In the order of the plan, so that the same milestone is at the same place of every order.
    if let Some(plan) = plan {
        let place = |name: &str| plan.milestones.iter().position(|one| one.name == name).unwrap_or(usize::MAX);
        milestones.sort_by_key(|milestone| place(&milestone.name));
    }
    Order {
        plan: row.plan,
        partner: some(&row.partner),
        key: row.key,
        // A state that cannot be read needs a person.
        state: OrderState::parse(&row.state).unwrap_or(OrderState::Trouble),
        milestones,
        begun: time(row.begun).unwrap_or_default(),
        changed: time(row.last).unwrap_or_default(),
        says: String::new(),
        failed_since: None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_document_is_cut_behind_a_line_and_says_so() {
        let cut = document(DocumentForm::X12, "ISA*1~\nGS*ü~\nST*3~\n".to_owned(), 12);
        assert_eq!((cut.text.as_str(), cut.cut, cut.size), ("ISA*1~\n", true, 20));
        assert_eq!(document(DocumentForm::Json, "üü".to_owned(), 3).text, "ü", "never within a character");
        assert!(!document(DocumentForm::Json, "{}".to_owned(), 2).cut);
    }
}
