//! Turns events of the service into arrivals of `incidents` connections, so that flows notify people with retries, holds and a
//! history.

use crate::run::App;
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::broadcast::{Receiver, error::RecvError};
use wirewatch_core::Timestamp;
use wirewatch_core::before::Before;
use wirewatch_core::connection::ConnectionKind;
use wirewatch_core::duration::short;
use wirewatch_core::incident::{Incident, What};
use wirewatch_core::intake::Provenance;
use wirewatch_core::workspace::Workspace;
use wirewatch_engine::{Clock, Source, SystemClock};
use wirewatch_journal::{Event, FeedRow, JournalError};

/// Interval at which silent intakes are looked for.
const LISTEN: Duration = Duration::from_secs(2);

/// An intake that has received nothing for longer than usual.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Silence {
    pub flow: String,
    pub connection: String,
    /// The connection, or its queue.
    pub place: String,
    pub since: Timestamp,
    /// Longest usual time between two arrivals.
    pub usual: Duration,
}

impl Silence {
    /// Returns the silence as a sentence.
    #[must_use]
    pub fn says(&self, now: Timestamp) -> String {
        format!(
            "nothing was received from {} for {}; expected at least every {}",
            self.place,
            short(now.since(self.since)),
            short(self.usual)
        )
    }
}

/// Tells of what happens for as long as the service runs.
pub async fn tell(app: Arc<App>, mut live: Receiver<Arc<FeedRow>>) {
    loop {
        let row = match live.recv().await {
            Ok(row) => row,
            // Missed events are shown on the overview all the same.
            Err(RecvError::Lagged(missed)) => {
                tracing::warn!(missed, "some incidents were not reported");
                continue;
            }
            Err(RecvError::Closed) => return,
        };
        // Each process reports only what it has committed itself.
        if row.writer != app.journal.writer() {
            continue;
        }
        let (_, workspace) = app.engine.releases().current();
        for incident in row.events.iter().filter_map(|event| incident(event, &workspace)) {
            report(&app, &workspace, &incident).await;
        }
    }
}

/// Looks for silence for as long as the service runs.
pub async fn listen(app: Arc<App>) {
    let mut reported: BTreeMap<(String, String), Timestamp> = BTreeMap::new();
    loop {
        tokio::time::sleep(LISTEN).await;
        let (now, (_, workspace)) = (SystemClock.now(), app.engine.releases().current());
        let found = match silences(&app, now).await {
            Ok(found) => found,
            Err(error) => {
                tracing::debug!(%error, "cannot find out whether an intake is silent");
                continue;
            }
        };
        for silence in &found {
            let key = (silence.flow.clone(), silence.place.clone());
            if reported.insert(key, silence.since) == Some(silence.since) {
                continue;
            }
            let incident = Incident {
                connection: silence.connection.clone(),
                flow: silence.flow.clone(),
                says: silence.says(now),
                same: format!("silent {} {} {}", silence.flow, silence.place, silence.since.0),
                ..blank(What::Silent, now)
            };
            report(&app, &workspace, &incident).await;
        }
    }
}

/// Returns the intakes that are silent for longer than usual.
///
/// # Errors
/// [`JournalError`] when the database does not answer.
pub async fn silences(app: &App, now: Timestamp) -> Result<Vec<Silence>, JournalError> {
    let (_, workspace) = app.engine.releases().current();
    let mut found = Vec::new();
    for (flow, intake) in workspace.intakes() {
        let Some(usual) = intake.silent_after else { continue };
        let place = intake.place();
        // An intake that has never received anything is silent since the service started.
        let since = app.store.last_at(&place).await?.unwrap_or(app.started);
        if now.since(since) > usual {
            found.push(Silence { flow: flow.name.clone(), connection: intake.from.clone(), place, since, usual });
        }
    }
    Ok(found)
}

fn blank(what: What, at: Timestamp) -> Incident {
    let none = String::new;
    Incident {
        what,
        connection: none(),
        flow: none(),
        step: none(),
        partner: none(),
        key: none(),
        id: none(),
        says: none(),
        at,
        same: none(),
    }
}

fn incident(event: &Event, workspace: &Workspace) -> Option<Incident> {
    let says = event.says.clone();
    match (event.kind.as_str(), event.state.as_str()) {
        ("hold", state @ ("on-hold" | "in-use")) => {
            // The sentence is complete: people read it far from the console.
            let what = if state == "on-hold" { What::OnHold } else { What::Resumed };
            let same = format!("{} {} {}", what.as_str(), event.step, event.at.0);
            let sentence = |title: &str| match what {
                What::OnHold => format!("{title} is on hold: {says}"),
                _ => format!("{title} is in use again"),
            };
            match Before::of(&event.step) {
                // A person paused or resumed it.
                Before::Flow(_) => None,
                Before::Connection(name) => {
                    let says = sentence(workspace.connections.get(name).map_or(name, |known| &known.title));
                    Some(Incident { connection: name.to_owned(), says, same, ..blank(what, event.at) })
                }
                Before::Step { flow, .. } if tells(workspace, flow) => None,
                Before::Step { flow, step } => {
                    let title = workspace.flows.get(flow).map_or(flow, |known| &known.title);
                    let (says, flow, step) = (sentence(&format!("the step {step} of {title}")), flow.to_owned(), step.to_owned());
                    Some(Incident { flow, step, says, same, ..blank(what, event.at) })
                }
            }
        }
        // A flow that reports incidents does not report its own failures: that would go on without end.
        ("message", "failed") if !tells(workspace, &event.flow) => Some(Incident {
            flow: event.flow.clone(),
            step: event.step.clone(),
            partner: event.partner.clone(),
            key: event.key.clone(),
            id: event.id.to_string(),
            says,
            same: format!("failed {} {}", event.id, event.at.0),
            ..blank(What::Failed, event.at)
        }),
        ("arrival", "failed") => Some(Incident {
            connection: event.step.clone(),
            partner: event.partner.clone(),
            key: event.key.clone(),
            id: event.id.to_string(),
            says,
            same: format!("unread {}", event.id),
            ..blank(What::Unread, event.at)
        }),
        _ => None,
    }
}

fn is_own(workspace: &Workspace, connection: &str) -> bool {
    workspace.connections.get(connection).is_some_and(|known| matches!(known.kind, ConnectionKind::Incidents))
}

fn tells(workspace: &Workspace, flow: &str) -> bool {
    workspace.flows.get(flow).is_some_and(|flow| flow.intakes.iter().any(|intake| is_own(workspace, &intake.from)))
}

/// Delivers an incident to every `incidents` connection that a flow takes from.
async fn report(app: &App, workspace: &Workspace, incident: &Incident) {
    let own = workspace.connections.values().filter(|connection| matches!(connection.kind, ConnectionKind::Incidents));
    let asked = |name: &str| workspace.intakes().any(|(_, intake)| intake.from == name && intake.hears(incident.what.as_str()));
    for connection in own.filter(|connection| asked(&connection.name)) {
        let what = incident.what.as_str().to_owned();
        let provenance = Provenance {
            connection: connection.name.clone(),
            name: what.clone(),
            event: what,
            delivery: incident.same.clone(),
            ..Provenance::default()
        };
        let mut taking = app.engine.read(Source { provenance, ..Source::default() });
        let document: Value = incident.document();
        let taken = async {
            taking.feed(document.to_string().as_bytes()).await?;
            app.engine.take(vec![taking.ready().await?]).await.remove(0)
        };
        if let Err(error) = taken.await {
            tracing::warn!(%error, what = incident.what.as_str(), "an incident was not reported");
        }
    }
}
