//! Acknowledgment of one set: AK2 to AK5, or AK2 to IK5.

use super::AckForm;
use crate::fault::{Fault, Level, Source};
use crate::reading::SetReading;
use crate::writer::Writer;

pub(super) fn one_set(writer: &mut Writer, set: &SetReading, form: AckForm) {
    let (segment_note, trailer) = match form {
        AckForm::Functional => ("AK3", "AK5"),
        AckForm::Implementation => ("IK3", "IK5"),
    };
    writer.segment(&["AK2", &set.set, &set.control]);
    let is_inside = |fault: &&Fault| fault.is_reported() && matches!(fault.level, Level::Segment | Level::Element);
    let reported: Vec<&Fault> = set.faults.iter().filter(is_inside).collect();
    // One note for all faults of a segment, followed by those of its elements; code 8 announces them.
    for faults in reported.chunk_by(|a, b| (a.position, &a.segment) == (b.position, &b.segment)) {
        let elements: Vec<&&Fault> = faults.iter().filter(|fault| fault.level == Level::Element).collect();
        let mut codes: Vec<&str> =
            faults.iter().filter(|fault| fault.level == Level::Segment).map(|fault| segment_code(fault, form)).collect();
        codes.dedup();
        codes.truncate(4);
        if !elements.is_empty() {
            codes.push("8");
        }
        let position = faults[0].position.to_string();
        let mut note = vec![segment_note, &faults[0].segment, &position, faults[0].in_loop.as_deref().unwrap_or_default()];
        note.extend(codes);
        writer.segment(&note);
        for fault in elements {
            element(writer, fault, form);
        }
    }
    let mut codes: Vec<&str> = set
        .faults
        .iter()
        .filter(|fault| fault.level == Level::Set && fault.is_reported())
        .map(|fault| fault.code.as_ref())
        .collect();
    if !reported.is_empty() {
        let by_guide = form == AckForm::Implementation && reported.iter().all(|fault| fault.source == Source::Guide);
        codes.push(if by_guide { "I5" } else { "5" });
    }
    let mut end = vec![trailer, set.ack().code()];
    end.extend(codes.into_iter().take(5));
    writer.segment(&end);
}

/// Returns the code of data element 720; for a 999 that of data element 620, which has codes for requirements of a guide.
fn segment_code(fault: &Fault, form: AckForm) -> &str {
    match (form, fault.source, fault.code.as_ref()) {
        (AckForm::Implementation, Source::Guide, "2") => "I4",
        (AckForm::Implementation, Source::Guide, "3") => "I6",
        (_, _, code) => code,
    }
}

/// Data element 723; of a 999, data element 621.
fn element_code(fault: &Fault, form: AckForm) -> &str {
    match (form, fault.source, fault.code.as_ref()) {
        (AckForm::Implementation, Source::Guide, "7") => "I6",
        (AckForm::Implementation, Source::Guide, "1" | "2") => "I9",
        (AckForm::Implementation, Source::Guide, "10") => "I10",
        (_, _, code) => code,
    }
}

fn element(writer: &mut Writer, fault: &Fault, form: AckForm) {
    use crate::plain::Element;
    let number = |n: Option<u64>| n.map_or(String::new(), |n| n.to_string());
    let mut position = vec![number(fault.element.map(u64::from)), number(fault.component.map(u64::from))];
    // The third component exists since 004020: a 997 in 004010 has no place for it.
    if form == AckForm::Implementation {
        position.push(number(fault.repetition.map(u64::from)));
    }
    // A copy with spaces only would be an error itself.
    let text = |text: &str| if text.trim().is_empty() { Element::Empty } else { Element::Text(text.to_owned()) };
    writer.structured(
        if form == AckForm::Functional { "AK4" } else { "IK4" },
        &[
            Element::Components(position),
            text(&number(fault.reference.map(u64::from))),
            text(element_code(fault, form)),
            text(fault.value.as_deref().unwrap_or_default()),
        ],
    );
}
