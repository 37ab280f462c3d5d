//! From rows of the journal to what the API says.

use crate::view::{
    self, ActView, Arrival, DescribedSegment, DocumentView, LedgerEntry, Message, MilestoneView, Order, Reason, time,
};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::plan::{Mark, Plan};
use wirewatch_core::x12::describe::{Described, DescribedElement};
use wirewatch_core::{Id, Timestamp};
use wirewatch_journal::{ArrivalRow, AuditRow, LedgerRow, MessageRow, ReasonCount, TimelineRow};

/// A reason id as people see it: hex, as it is no moment.
pub fn reason_id(id: i64) -> String {
    format!("{id:016x}")
}

/// The number behind a reason id.
pub fn parse_reason(text: &str) -> Option<i64> {
    i64::from_str_radix(text, 16).ok()
}

pub fn message(row: MessageRow) -> Message {
    Message {
        id: Id(row.id).to_string(),
        flow: row.flow,
        partner: row.partner,
        key: row.key,
        result: row.result,
        state: row.state,
        step: row.step,
        tries: row.tries,
        due: time(row.due),
        waits_for: row.waits_for,
        reason: (row.reason != 0).then(|| reason_id(row.reason)),
        code: row.code,
        says: row.says,
        arrival: Id(row.arrival).to_string(),
        release: row.release,
        received: time(Id(row.id).made().0).unwrap_or_default(),
        changed: time(row.at).unwrap_or_default(),
    }
}

pub fn arrival(row: ArrivalRow) -> Arrival {
    Arrival {
        id: Id(row.id).to_string(),
        connection: row.connection,
        partner: row.partner,
        name: row.name,
        verdict: row.verdict,
        says: row.says,
        size: row.size,
        messages: row.messages,
        received: time(row.received).unwrap_or_default(),
        by: row.by_whom,
    }
}

pub fn reason(row: ReasonCount) -> Reason {
    Reason {
        id: reason_id(row.id),
        flow: row.flow,
        step: row.step,
        connection: row.connection,
        code: row.code,
        says: row.says,
        messages: row.messages,
        oldest: time(row.oldest),
    }
}

pub fn ledger(row: LedgerRow) -> LedgerEntry {
    LedgerEntry {
        direction: row.direction,
        sender: row.sender,
        receiver: row.receiver,
        usage: row.usage,
        control: row.control,
        answers: row.answers,
        message: (row.message != 0).then(|| Id(row.message).to_string()),
        at: time(row.at).unwrap_or_default(),
    }
}

pub fn act(row: AuditRow) -> ActView {
    ActView { at: time(row.at).unwrap_or_default(), by: row.by_whom, act: row.act, why: row.why }
}

/// A document's text, at most `most` bytes of it, ending with a whole line where there is one.
pub fn document(form: &str, mut text: String, most: usize) -> DocumentView {
    let size = text.len();
    if size > most {
        let end = (0..=most).rev().find(|&at| text.is_char_boundary(at)).unwrap_or(0);
        text.truncate(text[..end].rfind('\n').map_or(end, |line| line + 1));
    }
    DocumentView { form: form.to_owned(), cut: text.len() < size, size, text }
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

/// A timeline with every milestone of its plan, those still ahead too (trouble only where it happened).
pub fn order(row: TimelineRow, plan: Option<&Arc<Plan>>) -> Order {
    let mut milestones: Vec<MilestoneView> = Vec::new();
    let mut before: Option<Timestamp> = None;
    for reached in &row.milestones {
        let after = before.map(|before| reached.first.since(before));
        before = Some(reached.first);
        milestones.push(MilestoneView {
            name: reached.milestone.clone(),
            mark: reached.mark.as_str().to_owned(),
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
                mark: milestone.mark.as_str().to_owned(),
                at: None,
                after_ms: None,
                times: 0,
                message: None,
            });
        }
    }
    Order {
        plan: row.plan,
        partner: row.partner,
        key: row.key,
        state: row.state,
        milestones,
        begun: time(row.begun).unwrap_or_default(),
        changed: time(row.last).unwrap_or_default(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_document_is_cut_behind_a_line_and_says_so() {
        let cut = document("x12", "ISA*1~\nGS*ü~\nST*3~\n".to_owned(), 12);
        assert_eq!((cut.text.as_str(), cut.cut, cut.size), ("ISA*1~\n", true, 20));
        assert_eq!(document("json", "üü".to_owned(), 3).text, "ü", "never within a character");
        assert!(!document("json", "{}".to_owned(), 2).cut);
    }
}
