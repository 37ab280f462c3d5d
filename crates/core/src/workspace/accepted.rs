//! Warnings that a file accepts: `accept = [{ warning = "connection::unsigned", because = "…" }]`.

use super::fields::Fields;
use crate::finding::{Finding, Severity};
use std::cell::RefCell;

/// Marks the warnings from `before` on that the file accepts; an acceptance without such a warning is a warning.
pub(super) fn accept(fields: &Fields<'_>, findings: &RefCell<Vec<Finding>>, before: usize) {
    for table in fields.tables("accept") {
        let (warning, because) = (table.needed_text("warning"), table.needed_text("because"));
        table.done();
        let (Some(warning), Some(because)) = (warning, because) else { continue };
        let mut found = 0;
        for finding in findings.borrow_mut().iter_mut().skip(before) {
            if finding.severity == Severity::Warning && finding.code == warning.value {
                finding.accepted = Some(because.value.clone());
                found += 1;
            }
        }
        if found == 0 {
            let says = format!("the warning {} is not found here (any more)", warning.value);
            fields.file().warning(warning.span, "accept::nothing", says, Some("remove it".to_owned()));
        }
    }
}
