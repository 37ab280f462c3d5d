//! The acknowledgments that an input would get, before they are numbered and sent by the service.

use crate::x12::ack::{AckForm, AckKind, AckStyle, Stamp, functional_ack, interchange_ack, is_acknowledged};
use crate::x12::{Header, Reading};

/// An acknowledgment as a whole interchange.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drafted {
    pub kind: AckKind,
    /// Control number of the group that it answers; of the interchange for a TA1.
    pub answers: String,
    pub bytes: Vec<u8>,
    pub segment_terminator: u8,
}

impl Drafted {
    /// Returns its bytes with each segment on a line of its own.
    #[must_use]
    pub fn lines(&self) -> Vec<u8> {
        let mut lines = Vec::with_capacity(self.bytes.len() + 16);
        for segment in self.bytes.split_inclusive(|byte| *byte == self.segment_terminator) {
            lines.extend_from_slice(segment);
            if self.segment_terminator != b'\n' {
                lines.push(b'\n');
            }
        }
        lines
    }
}

/// Returns a TA1 for each interchange whose ISA14 requests one, and a 997 or 999 for each group, in the order of the input. `style` is
/// that of the partner of an interchange. Control numbers count up from `stamp`'s.
#[must_use]
pub fn acknowledgments(reading: &Reading, style: impl Fn(&Header) -> AckStyle, stamp: &Stamp) -> Vec<Drafted> {
    let mut drafted: Vec<Drafted> = Vec::new();
    for interchange in &reading.interchanges {
        let segment_terminator = interchange.header.delimiters.segment;
        let next = |drafted: &[Drafted]| {
            let n = u32::try_from(drafted.len()).unwrap_or(u32::MAX);
            Stamp {
                interchange_control: stamp.interchange_control.saturating_add(n),
                group_control: stamp.group_control.saturating_add(n),
                ..stamp.clone()
            }
        };
        if interchange.header.wants_ta1 {
            let bytes = interchange_ack(interchange, &next(&drafted));
            let answers = interchange.header.control.clone();
            drafted.push(Drafted { kind: AckKind::Interchange, answers, bytes, segment_terminator });
        }
        // A broken interchange is answered by its TA1 alone: its groups are not processed.
        for group in interchange.groups.iter().filter(|group| interchange.faults.is_empty() && is_acknowledged(group)) {
            let style = style(&interchange.header);
            let bytes = functional_ack(&interchange.header, group, style, &next(&drafted));
            let kind = match style.form {
                AckForm::Functional => AckKind::Functional,
                AckForm::Implementation => AckKind::Implementation,
            };
            drafted.push(Drafted { kind, answers: group.control.clone(), bytes, segment_terminator });
        }
    }
    drafted
}
