//! Sets as interchanges to a partner.

use crate::partner::{Envelopes, Partner};
use crate::x12::definitions::SetDefinition;
use crate::x12::plain::{ComposeError, Node, compose};
use crate::x12::{Envelope, GroupHead, SeparatorInside, Writer};
use std::sync::Arc;

/// A set to be written.
#[derive(Debug, Clone)]
pub struct Outgoing {
    pub definition: Arc<SetDefinition>,
    /// The nodes between ST and SE; those two are generated.
    pub nodes: Vec<Node>,
}

/// Numbers and moment of what is written. Interchanges and groups count up from these.
#[derive(Debug, Clone)]
pub struct Numbering {
    pub interchange: u32,
    pub group: u32,
    /// `CCYYMMDD` and `HHMM`.
    pub date: String,
    pub time: String,
    /// ISA15: `P` or `T`.
    pub usage: String,
}

/// Why a set could not be written.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotWritten {
    #[error(transparent)]
    Compose(#[from] ComposeError),
    #[error(transparent)]
    Separator(#[from] SeparatorInside),
}

/// Writes the sets into as many interchanges as the partner's profile requires, sets of a kind in one group.
///
/// # Errors
/// [`NotWritten`] for the first value that does not fit its place; nothing is written then.
pub fn interchanges(partner: &Partner, sets: &[Outgoing], numbering: &Numbering) -> Result<Vec<Vec<u8>>, NotWritten> {
    let kind = |set: &Outgoing| (set.definition.functional_id.clone(), set.definition.version.clone());
    let mut groups: Vec<Vec<&Outgoing>> = Vec::new();
    for set in sets {
        let same = groups.iter_mut().find(|group| kind(group[0]) == kind(set));
        match same.filter(|_| partner.sending.envelopes != Envelopes::PerSet) {
            Some(group) => group.push(set),
            None => groups.push(vec![set]),
        }
    }
    let together = match partner.sending.envelopes {
        Envelopes::One => vec![groups],
        Envelopes::PerGroup | Envelopes::PerSet => groups.into_iter().map(|group| vec![group]).collect(),
    };
    let mut group_number = numbering.group;
    let mut written = Vec::with_capacity(together.len());
    for (n, groups) in together.into_iter().enumerate() {
        let version = groups.iter().map(|group| group[0].definition.version.as_str()).max().unwrap_or("004010");
        let mut writer = Writer::new(
            Envelope {
                sender: partner.us.clone(),
                receiver: partner.them.clone(),
                date: numbering.date.clone(),
                time: numbering.time.clone(),
                version: control_version(version),
                control: numbering.interchange + n as u32,
                wants_ta1: false,
                usage: numbering.usage.clone(),
                delimiters: partner.sending.delimiters,
            },
            partner.sending.style,
        );
        for group in groups {
            writer.start_group(&GroupHead {
                functional_id: group[0].definition.functional_id.clone(),
                sender: partner.us.id.clone(),
                receiver: partner.them.id.clone(),
                control: group_number,
                version: group[0].definition.version.clone(),
            });
            group_number += 1;
            for set in group {
                compose(&set.definition, &set.nodes, &mut writer)?;
            }
        }
        written.push(writer.finish()?);
    }
    Ok(written)
}

/// Returns the ISA12 for a version of the sets: `00401` for `004010`.
fn control_version(version: &str) -> String {
    version.get(..5).unwrap_or("00401").to_owned()
}
