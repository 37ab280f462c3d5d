//! A document as a person corrects it: from lines back to what is sent, and what is wrong with it.

use crate::Document;
use crate::document::{Form, Validate};
use crate::finding::{self, Finding, Severity};
use crate::flow::Takes;
use crate::schema::Misfit;
use crate::workspace::Workspace;
use crate::x12::{Delimiters, Fault, Segment, Tokens, check_set};

/// Converts a person's text to the document: the opposite of [`Document::readable`].
///
/// Lines of X12 are for people only: in the document, segments follow one another as the partner sent them.
#[must_use]
pub fn restore(form: &Form, text: &str) -> String {
    match form {
        Form::X12 { delimiters, .. } if delimiters.segment == b'\n' => {
            text.lines().map(str::trim).filter(|line| !line.is_empty()).flat_map(|line| [line, "\n"]).collect()
        }
        Form::X12 { .. } => text.lines().map(str::trim).collect(),
        Form::Json | Form::Shaped { .. } | Form::Bytes => text.to_owned(),
    }
}

/// Builds an interchange with this transaction set alone, in the envelope of the original set with the same control number.
///
/// `None` when `interchange` has no such set, or `set` does not begin with an ST.
#[must_use]
pub fn in_envelope(interchange: &[u8], set: &str) -> Option<Vec<u8>> {
    let delimiters = Delimiters::of_isa(interchange)?;
    let control = Tokens::new(set.as_bytes(), delimiters).iter().next().filter(|first| first.id() == b"ST")?.element(2).to_vec();
    let (mut header, mut group, mut found) = (None, None, false);
    let tokens = Tokens::new(interchange, delimiters);
    for segment in tokens.iter() {
        match segment.id() {
            b"ISA" => header = Some(segment),
            b"GS" => group = Some(segment),
            b"ST" if segment.element(2) == control => {
                found = true;
                break;
            }
            _ => {}
        }
    }
    let (header, group) = (header?, group.filter(|_| found)?);
    let text = |segment: Segment<'_>| segment.elements().collect::<Vec<_>>().join(&delimiters.element);
    let trailer = |id: &[u8], control: &[u8]| [id, b"1", control].join(&delimiters.element);
    let parts = [
        text(header),
        text(group),
        set.trim().trim_end_matches(char::from(delimiters.segment)).as_bytes().to_vec(),
        trailer(b"GE", group.element(6)),
        trailer(b"IEA", header.element(13)),
    ];
    Some(parts.into_iter().flat_map(|part| part.into_iter().chain([delimiters.segment])).collect())
}

/// Returns the findings of a document, as on arrival from that partner. For X12, places are lines with one segment each. What the
/// flow's intake accepts with a warning is a warning.
#[must_use]
pub fn findings(workspace: &Workspace, flow: &str, partner: Option<&str>, form: &Form, document: &str) -> Vec<Finding> {
    match form {
        Form::X12 { version, set, delimiters } => match workspace.definitions_for(partner).find(version, set) {
            Some(definition) => {
                let faults = check_set(definition, document.as_bytes(), *delimiters).faults;
                let lines = Lines::of(document, *delimiters);
                let mut found = Vec::new();
                for fault in faults.iter().filter(|fault| fault.is_reported()) {
                    finding::add(&mut found, "document", Severity::Error, || lines.finding(fault, *delimiters));
                }
                found
            }
            None => vec![error("x12::unknown-set", "", 0..0, format!("{version} {set} is not defined"))],
        },
        Form::Json | Form::Shaped { .. } | Form::Bytes => match workspace.document(form, document.as_bytes()) {
            Ok(read) => misfits(workspace, flow, form, &read),
            Err(unreadable) => vec![error("document::unreadable", document, 0..1, unreadable.to_string())],
        },
    }
}

/// Returns how a document does not fit the flow's intakes of that form; nothing if it fits one of them.
fn misfits(workspace: &Workspace, flow: &str, form: &Form, document: &Document) -> Vec<Finding> {
    let intakes = workspace.flows.get(flow).into_iter().flat_map(|flow| &flow.intakes).filter(|intake| intake.form == *form);
    let mut found: Option<Vec<Finding>> = None;
    for intake in intakes {
        let (Takes::Json(schema), Document::Json(value)) = (&intake.takes, document) else { continue };
        let severity = match intake.validate {
            Validate::Reject => Severity::Error,
            Validate::Warn => Severity::Warning,
            Validate::Off => return Vec::new(),
        };
        let Some(validator) = workspace.validators.get(schema) else { return Vec::new() };
        let misfits = validator.misfits(value);
        if misfits.is_empty() {
            return Vec::new();
        }
        let finding = |misfit: Misfit| Finding::at(severity, "document::schema", "document", "", 0..0, misfit.says);
        found.get_or_insert_with(|| misfits.into_iter().map(finding).collect());
    }
    found.unwrap_or_default()
}

fn error(code: &str, text: &str, span: std::ops::Range<usize>, says: String) -> Finding {
    Finding::at(Severity::Error, code, "document", text, span, says)
}

/// A document with a segment on each line, and the original place of each segment.
struct Lines {
    text: String,
    /// Offset in the document, offset in the text, length.
    places: Vec<(u64, usize, usize)>,
}

impl Lines {
    fn of(document: &str, delimiters: Delimiters) -> Self {
        let mut lines = Self { text: String::new(), places: Vec::new() };
        for segment in Tokens::new(document.as_bytes(), delimiters).iter() {
            let shown = String::from_utf8_lossy(segment.bytes);
            lines.places.push((segment.offset, lines.text.len(), shown.len()));
            lines.text.push_str(&shown);
            lines.text.push('\n');
        }
        lines
    }

    /// A fault at its element, or at its segment where it has none.
    fn finding(&self, fault: &Fault, delimiters: Delimiters) -> Finding {
        let place = self.places.iter().find(|(offset, ..)| *offset == fault.offset).or(self.places.last());
        let (start, length) = place.map_or((0, 1), |(_, start, length)| (*start, *length));
        let line = &self.text[start..(start + length).min(self.text.len())];
        let separator = char::from(delimiters.element);
        let before = fault.element.and_then(|n| line.match_indices(separator).nth(usize::from(n) - 1)).map(|(at, _)| at + 1);
        let span = match before {
            Some(at) => start + at..start + line[at..].find(separator).map_or(line.len(), |end| at + end),
            None => start..start + length,
        };
        error(&format!("x12::{}-{}", fault.level.as_str(), fault.code), &self.text, span, fault.says.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ISA: &str =
        "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000007*0*T*>~";

    #[test]
    fn a_set_is_put_alone_into_the_envelope_that_it_received_in() {
        let received = format!(
            "{ISA}GS*PO*A*B*20261123*0700*1*X*004010~ST*850*0001~SE*2*0001~GE*1*1~\
             GS*PO*A*C*20261123*0700*2*X*004010~ST*850*0002~SE*2*0002~ST*850*0003~SE*2*0003~GE*2*2~IEA*2*000000007~"
        );
        let alone = |set: &str| in_envelope(received.as_bytes(), set).map(|bytes| String::from_utf8(bytes).unwrap());
        let expected = format!("{ISA}GS*PO*A*C*20261123*0700*2*X*004010~ST*850*0003~BEG*00~SE*3*0003~GE*1*2~IEA*1*000000007~");
        for set in ["ST*850*0003~BEG*00~SE*3*0003~", "ST*850*0003~BEG*00~SE*3*0003"] {
            assert_eq!(alone(set).as_deref(), Some(expected.as_str()), "{set}");
        }
        for set in ["ST*850*0009~SE*2*0009~", "BEG*00~", ""] {
            assert_eq!(alone(set), None, "{set}");
        }
        assert_eq!(in_envelope(b"{}", "ST*850*0001~SE*2*0001~"), None);
        let cut = received.split("ST*850*0003").next().unwrap();
        assert_eq!(in_envelope(cut.as_bytes(), "ST*850*0003~SE*2*0003~"), None, "the set is not in the interchange");
    }
}
