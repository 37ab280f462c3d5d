//! Trying out: whole flows and maps over documents, with nothing sent and nothing stored.
//!
//! A rehearsal runs the same decision of the arrival and the same machine as the service does; only the answers of the
//! outside are given beforehand. A case is a document with the outcome that is expected of it.

mod case;
mod given;
mod mask;
mod rehearse;
mod table;

pub use case::{Case, CaseError, Checked, Subject};
pub use given::{Given, given_to_map};
pub use mask::{Masked, mask, mask_json};
pub use rehearse::{Answer, Answering, Answers, Called, Passage, Rehearsal, Stage, rehearse};
pub use table::{MapTable, OpenField, Tryout, map_table, misfits};
