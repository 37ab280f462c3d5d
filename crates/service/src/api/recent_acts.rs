//! The newest acts of people: an act on many messages for one reason is one entry.

use super::{Answer, connections, flows, rows};
use crate::run::App;
use crate::view::words::PersonAct;
use crate::view::{RecentAct, sure_time};
use axum::Json;
use axum::extract::State;
use std::collections::BTreeMap;
use std::sync::Arc;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Id, Timestamp};
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::AuditRow;

/// Acts that are read, and entries that are listed.
const READ: u32 = 500;
const LISTED: usize = 5;
/// How far back, in microseconds: a day.
const SINCE_US: i64 = 24 * 3_600_000_000;

/// The newest acts of people in the last day, newest first; at most 5 entries. Successive acts of one person for one reason are one
/// entry.
#[utoipa::path(get, path = "/api/acts", operation_id = "recent_acts", responses((status = 200, body = Vec<RecentAct>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<RecentAct>> {
    let rows = app.store.newest_acts(Timestamp(SystemClock.now().0 - SINCE_US), READ).await?;
    let (_, workspace) = app.engine.releases().current();
    let parts = parts(&workspace);
    let mut acts = Vec::new();
    for Group { newest, subjects } in groups(rows).into_iter().take(LISTED) {
        let Some(act) = PersonAct::parse(&newest.act) else { continue };
        let mut entry = RecentAct {
            at: sure_time(Timestamp(newest.at)),
            by: newest.by_whom,
            act,
            why: newest.why,
            subjects: subjects.len(),
            name: parts.get(&newest.subject).cloned(),
            message: None,
            arrival: None,
        };
        if let ([subject], None) = (subjects.as_slice(), &entry.name) {
            if let Some(message) = app.store.message(Id(*subject)).await?.map(rows::message) {
                entry.name = Some(if message.key.is_empty() { message.id.clone() } else { message.key });
                entry.message = Some(message.id);
            } else if let Some(arrival) = app.store.arrival(Id(*subject)).await? {
                entry.arrival = Some(Id(arrival.id).to_string());
                entry.name = Some(arrival.name);
            }
        }
        acts.push(entry);
    }
    Ok(Json(acts))
}

/// The flows and connections of a workspace, by the id under which acts on them are recorded.
fn parts(workspace: &Workspace) -> BTreeMap<i64, String> {
    let flows = workspace.flows.values().map(|flow| (flows::subject(&flow.name).0, flow.title.clone()));
    let connections = workspace.connections.values().map(|one| (connections::subject(&one.name).0, one.title.clone()));
    flows.chain(connections).collect()
}

/// Successive acts of one person for one reason.
struct Group {
    newest: AuditRow,
    /// Each once.
    subjects: Vec<i64>,
}

fn groups(rows: Vec<AuditRow>) -> Vec<Group> {
    let mut groups: Vec<Group> = Vec::new();
    for row in rows {
        match groups.last_mut() {
            Some(Group { newest, subjects })
                if (&newest.by_whom, &newest.act, &newest.why) == (&row.by_whom, &row.act, &row.why) =>
            {
                if !subjects.contains(&row.subject) {
                    subjects.push(row.subject);
                }
            }
            _ => groups.push(Group { subjects: vec![row.subject], newest: row }),
        }
    }
    groups
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn acts_for_one_reason_are_one_entry_and_a_repeated_act_counts_its_message_once() {
        let row = |act: &str, subject, why: &str| AuditRow {
            id: 1,
            at: 1,
            by_whom: "ada".into(),
            act: act.into(),
            subject,
            why: why.into(),
        };
        let rows = vec![row("resent", 1, "open"), row("resent", 2, "open"), row("resent", 1, "open"), row("resent", 3, "")];
        let entries: Vec<(String, Vec<i64>)> = groups(rows).into_iter().map(|one| (one.newest.why, one.subjects)).collect();
        assert_eq!(entries, [("open".to_owned(), vec![1, 2]), (String::new(), vec![3])]);
        assert!(groups(Vec::new()).is_empty());
    }
}
