//! The maps of the running release, tried as one writes them. Nothing is stored; a changed map runs once it is deployed.

use super::Answer;
use super::problem::Problem;
use crate::run::App;
use crate::view::{MapRule, MapSample, MapSource, MapStory, MapTried, MapTry, MapView};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde_json::Value;
use std::sync::Arc;
use wirewatch_core::map::{Map, Rules};
use wirewatch_core::trial::{MapTable, Subject, map_table};
use wirewatch_core::workspace::Files;

/// Bytes of a document and of a map file, at most.
const LARGEST: usize = 1 << 20;

/// The maps of the running release.
#[utoipa::path(get, path = "/api/maps", operation_id = "maps", responses((status = 200, body = Vec<MapView>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<MapView>> {
    let (_, workspace) = app.engine.releases().current();
    Ok(Json(workspace.maps.values().map(|map| view(map)).collect()))
}

/// One map with its file and the documents of its cases.
#[utoipa::path(get, path = "/api/maps/{name}", operation_id = "map", params(("name" = String, Path)),
    responses((status = 200, body = MapStory), (status = 404, body = Problem)))]
pub async fn one(State(app): State<Arc<App>>, Path(name): Path<String>) -> Answer<MapStory> {
    let (_, workspace) = app.engine.releases().current();
    let map = workspace.maps.get(&name).ok_or_else(|| unknown(&name))?;
    let text = files(&app).await?.remove(&format!("maps/{name}.toml")).unwrap_or_default();
    let of = Subject::Map(name);
    let own = workspace.cases.values().filter(|case| case.of == of);
    let samples = own.map(|case| MapSample { name: case.name.clone(), text: case.given.1.clone() }).collect();
    Ok(Json(MapStory { map: view(map), text, samples }))
}

/// What a map file gives for a document, whether or not it is the one that runs.
#[utoipa::path(post, path = "/api/maps/{name}/try", operation_id = "try_map", params(("name" = String, Path)), request_body = MapTry,
    responses((status = 200, body = MapTried), (status = 413, body = Problem)))]
pub async fn try_map(State(app): State<Arc<App>>, Path(name): Path<String>, Json(given): Json<MapTry>) -> Answer<MapTried> {
    if given.given.len().max(given.text.len()) > LARGEST {
        let says = format!("more than {} KB; `wirewatch map run` takes documents of any size", LARGEST / 1024);
        return Err(Problem::new(StatusCode::PAYLOAD_TOO_LARGE, says));
    }
    let (files, environment) = (files(&app).await?, app.environment.clone());
    let table = tokio::task::spawn_blocking(move || {
        map_table(&files, environment.as_deref(), &name, &given.text, given.given.as_bytes(), given.at)
    });
    let table = table.await.map_err(|_| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "trying it ended unexpectedly"))?;
    Ok(Json(tried(table)))
}

/// The files of the running release.
async fn files(app: &App) -> Result<Files, Problem> {
    let (current, _) = app.engine.releases().current();
    Ok(app.store.releases(current, 1).await?.pop().map(|row| row.files).unwrap_or_default())
}

fn unknown(name: &str) -> Problem {
    Problem::not_found(format!("the running release has no map `{name}`"))
}

fn view(map: &Map) -> MapView {
    fn count(rules: &Rules) -> usize {
        rules.set.len() + rules.each.iter().map(|each| count(&each.rules)).sum::<usize>()
    }
    MapView { name: map.name.clone(), from: map.from.clone(), to: map.to.clone(), rules: count(&map.rules) }
}

fn tried(table: MapTable) -> MapTried {
    let shown = |value: Value| match value {
        Value::String(text) => text,
        other => other.to_string(),
    };
    let rules =
        table.rules.into_iter().map(|rule| MapRule { target: rule.target, value: rule.value.map(shown), line: rule.line });
    let source = table.source.into_iter();
    let source = source.map(|one| MapSource { path: one.path, value: one.value, times: one.times, used: one.used });
    let result =
        if table.result.is_null() { String::new() } else { serde_json::to_string_pretty(&table.result).unwrap_or_default() };
    MapTried {
        findings: table.findings,
        documents: table.documents,
        title: table.title,
        source: source.collect(),
        rules: rules.collect(),
        result,
        says: table.says,
    }
}
