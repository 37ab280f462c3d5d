//! One flow with all that a person asks about it: its line, notes, intakes with their newest arrival, failures, and versions.

use super::problem::Problem;
use super::{Answer, connections, flows, overview, releases, rows};
use crate::run::App;
use crate::view::{FlowIntake, FlowLine, FlowStory, ReleaseView, time};
use axum::Json;
use axum::extract::{Path, State};
use std::collections::BTreeSet;
use std::sync::Arc;
use wirewatch_core::Id;
use wirewatch_core::flow::{Flow, Verb, place_of};
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::JournalError;

/// One flow: its line as in the overview, its notes, intakes with their newest arrival, failures, and the releases that changed it.
#[utoipa::path(get, path = "/api/flows/{flow}", operation_id = "flow", params(("flow" = String, Path)),
    responses((status = 200, body = FlowStory), (status = 404, body = Problem)))]
pub async fn one(State(app): State<Arc<App>>, Path(name): Path<String>) -> Answer<FlowStory> {
    let (_, workspace) = app.engine.releases().current();
    let flow = flows::flow_of(&workspace, &name)?;
    let mut connections = connections::views(&app).await;
    let lines = overview::lines(&app, SystemClock.now(), &connections, Some(&name)).await?;
    let line = lines.into_iter().next().ok_or_else(|| Problem::not_found(format!("there is no flow `{name}`")))?;
    let used = used(&line);
    connections.retain(|connection| used.contains(connection.name.as_str()));
    let files = files_of(flow);
    let mut versions = releases::compared(&app).await?;
    for version in &mut versions {
        version.changes.retain(|change| files.contains(&change.file));
    }
    versions.retain(|version: &ReleaseView| !version.changes.is_empty());
    Ok(Json(FlowStory {
        notes: flow.notes.clone(),
        intakes: intakes(&app, &line).await?,
        reasons: app.store.reasons(&name).await?.into_iter().map(rows::reason).collect(),
        acts: app.store.audit_of(&[flows::subject(&name)]).await?.into_iter().rev().filter_map(rows::act).collect(),
        versions,
        connections,
        line,
    }))
}

/// Returns the connections that a line names.
fn used(line: &FlowLine) -> BTreeSet<&str> {
    let intakes = line.intakes.iter().map(|intake| intake.connection.as_str());
    intakes.chain(line.steps.iter().filter_map(|step| step.connection.as_deref())).collect()
}

/// Returns the files that a flow is made of: its own and its maps.
fn files_of(flow: &Flow) -> BTreeSet<String> {
    let maps = flow.steps.iter().filter_map(|step| match &step.verb {
        Verb::Map { map } => Some(format!("maps/{map}.toml")),
        _ => None,
    });
    maps.chain([format!("flows/{}.toml", flow.name)]).collect()
}

/// Returns the intakes of a flow, each with the newest arrival at its connection or queue.
async fn intakes(app: &App, line: &FlowLine) -> Result<Vec<FlowIntake>, JournalError> {
    let mut intakes = Vec::new();
    for intake in &line.intakes {
        let place = place_of(&intake.connection, intake.queue.as_deref().unwrap_or_default());
        let newest = match app.store.newest_at(&place, "").await? {
            Some(arrival) => app.store.arrival(arrival).await?,
            None => None,
        };
        intakes.push(FlowIntake {
            connection: intake.connection.clone(),
            queue: intake.queue.clone(),
            takes: intake.takes.clone(),
            received: newest.as_ref().and_then(|arrival| time(arrival.received)),
            sample: newest.map(|arrival| Id(arrival.id).to_string()),
        });
    }
    Ok(intakes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use wirewatch_core::flow::{END, Retry, Step};

    #[test]
    fn a_flow_is_made_of_its_file_and_its_maps() {
        let map = |name: &str| Verb::Map { map: name.into() };
        let step = |verb| Step { name: "one".into(), verb, retry: Retry::default(), next: END, way: String::new() };
        let deliver = Flow::acknowledgments().steps.remove(0);
        let flow = Flow {
            name: "shop/orders".into(),
            steps: vec![step(map("to-order")), deliver, step(map("shop/lines")), step(map("to-order"))],
            ..Flow::acknowledgments()
        };
        let files: Vec<String> = files_of(&flow).into_iter().collect();
        assert_eq!(files, ["flows/shop/orders.toml", "maps/shop/lines.toml", "maps/to-order.toml"]);
    }
}
