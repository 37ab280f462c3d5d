//! Trying out: whole flows and maps over documents, with nothing sent and nothing stored.
//!
//! A dry run runs the same decision of the arrival and the same machine as the service does; only the answers of the
//! outside are given beforehand. A case is a document with the outcome that is expected of it.

mod case;
mod dry_run;
mod given;
mod mask;
mod table;

pub use case::{Case, CaseError, Checked, Subject};
pub use dry_run::{Answer, Answering, Answers, Called, DryRun, Passage, Stage, dry_run};
pub use given::{Given, given_to_map};
pub use mask::{Masked, mask, mask_json};
pub use table::{MapTable, OpenField, Tryout, map_table, misfits};
