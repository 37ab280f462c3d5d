//! The maps of the running release, tried as one writes them. Nothing is stored; a changed map runs once it is deployed.

use super::problem::Problem;
use super::{Answer, releases};
use crate::access::Person;
use crate::run::App;
use crate::view::words::FieldType;
use crate::view::{
    Changed, MapDraft, MapDraftRequest, MapOpen, MapProposal, MapRule, MapRuleRequest, MapSample, MapSource, MapStory, MapText,
    MapTried, MapTry, MapView, MapWithin, ReleaseView, sure_time,
};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use serde_json::Value;
use std::collections::HashMap;
use std::sync::Arc;
use wirewatch_core::Timestamp;
use wirewatch_core::flow::{Flow, Verb};
use wirewatch_core::map::edit::{Within, place, with_rule};
use wirewatch_core::map::{Map, Rules};
use wirewatch_core::propose::{ProposedRule, propose};
use wirewatch_core::trial::{Case, MapTable, Subject, Tryout, map_table};
use wirewatch_core::workspace::Workspace;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::DraftRow;

/// Bytes of a document and of a map file, at most.
const MAX_TEXT: usize = 1 << 20;

/// The maps of the running release.
#[utoipa::path(get, path = "/api/maps", operation_id = "maps", responses((status = 200, body = Vec<MapView>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<MapView>> {
    let (_, workspace) = app.engine.releases().current();
    let drafts = app.store.drafts().await?;
    let changed = changed(&app).await?;
    Ok(Json(workspace.maps.values().map(|map| view(&workspace, map, &drafts, &changed)).collect()))
}

/// One map with its file and the documents of its cases.
#[utoipa::path(get, path = "/api/maps/{name}", operation_id = "map", params(("name" = String, Path)),
    responses((status = 200, body = MapStory), (status = 404, body = Problem)))]
pub async fn one(State(app): State<Arc<App>>, Path(name): Path<String>) -> Answer<MapStory> {
    let (_, workspace) = app.engine.releases().current();
    let map = workspace.maps.get(&name).ok_or_else(|| unknown(&name))?;
    let text = releases::running_files(&app).await?.remove(&file_of(&name)).unwrap_or_default();
    let of = Subject::Map(name);
    let own = workspace.cases.values().filter(|case| case.of == of);
    let sample = |case: &Arc<Case>| {
        let (name, text) = (case.name.clone(), case.given.1.clone());
        MapSample { name, text, with: case.variables.clone(), meta: case.meta.clone() }
    };
    let samples = own.map(sample).collect();
    let drafts = app.store.drafts().await?;
    let own = drafts.iter().find(|draft| draft.file == file_of(&map.name));
    let draft =
        own.map(|draft| MapDraft { text: draft.text.clone(), by: draft.by_whom.clone(), at: sure_time(Timestamp(draft.at)) });
    Ok(Json(MapStory { map: view(&workspace, map, &drafts, &changed(&app).await?), text, samples, draft }))
}

/// Proposed rules for the map's target, from names, synonyms of the trade, formats and values; each with its confidence.
#[utoipa::path(get, path = "/api/maps/{name}/proposals", operation_id = "map_proposals", params(("name" = String, Path)),
    responses((status = 200, body = Vec<MapProposal>), (status = 404, body = Problem)))]
pub async fn proposals(State(app): State<Arc<App>>, Path(name): Path<String>) -> Answer<Vec<MapProposal>> {
    let (_, workspace) = app.engine.releases().current();
    let map = workspace.maps.get(&name).ok_or_else(|| unknown(&name))?;
    let (from, to) = (map.from.clone(), map.to.clone());
    // Every source field is compared with every target field: with a thousand each, that takes a while.
    let all = tokio::task::spawn_blocking(move || propose(&workspace, &from, &to).map(|proposal| proposal.each()));
    // Nothing is proposed for a target that has no JSON schema.
    let all = all.await.ok().and_then(Result::ok).unwrap_or_default();
    let shown = |one: ProposedRule| MapProposal {
        path: one.path,
        expression: one.rule.expression,
        confidence: one.rule.confidence.into(),
        because: one.rule.because,
        within: one.within.into_iter().map(|list| MapWithin { into: list.into, of: list.of }).collect(),
    };
    Ok(Json(all.into_iter().map(shown).collect()))
}

/// A map file with a rule more, where it belongs. Nothing is stored.
#[utoipa::path(post, path = "/api/maps/{name}/rule", operation_id = "map_rule", params(("name" = String, Path)), request_body = MapRuleRequest,
    responses((status = 200, body = MapText), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn rule(State(app): State<Arc<App>>, Path(name): Path<String>, Json(asked): Json<MapRuleRequest>) -> Answer<MapText> {
    if !app.engine.releases().current().1.maps.contains_key(&name) {
        return Err(unknown(&name));
    }
    let lists: Vec<Within> = asked.within.into_iter().map(|list| Within { into: list.into, of: list.of }).collect();
    let (within, target) = place(&asked.path, &lists);
    let text = with_rule(&asked.text, &within, &target, &asked.expression);
    text.map(|text| Json(MapText { text })).map_err(|says| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, says))
}

/// Stores a draft of the map's file in place of the previous one. `wirewatch map take` brings it into the folder.
#[utoipa::path(put, path = "/api/maps/{name}/draft", operation_id = "keep_map_draft", params(("name" = String, Path)),
    request_body = MapDraftRequest, responses((status = 200, body = MapDraft), (status = 404, body = Problem), (status = 413, body = Problem)))]
pub async fn keep_draft(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(name): Path<String>,
    Json(MapDraftRequest { text }): Json<MapDraftRequest>,
) -> Answer<MapDraft> {
    let (_, workspace) = app.engine.releases().current();
    if !workspace.maps.contains_key(&name) {
        return Err(unknown(&name));
    }
    if text.len() > MAX_TEXT {
        return Err(Problem::new(StatusCode::PAYLOAD_TOO_LARGE, format!("a draft has at most {} KB", MAX_TEXT / 1024)));
    }
    let now = SystemClock.now();
    app.store.keep_draft(&file_of(&name), &text, &by, now).await?;
    Ok(Json(MapDraft { text, by, at: sure_time(now) }))
}

/// Deletes the draft of a map, if there is one.
#[utoipa::path(delete, path = "/api/maps/{name}/draft", operation_id = "drop_map_draft", params(("name" = String, Path)),
    responses((status = 204)))]
pub async fn drop_draft(State(app): State<Arc<App>>, Path(name): Path<String>) -> Result<StatusCode, Problem> {
    app.store.drop_draft(&file_of(&name)).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn file_of(map: &str) -> String {
    format!("maps/{map}.toml")
}

/// Runs a map file on a document; the file need not be deployed.
#[utoipa::path(post, path = "/api/maps/{name}/try", operation_id = "try_map", params(("name" = String, Path)), request_body = MapTry,
    responses((status = 200, body = MapTried), (status = 413, body = Problem)))]
pub async fn try_map(State(app): State<Arc<App>>, Path(name): Path<String>, Json(given): Json<MapTry>) -> Answer<MapTried> {
    if given.given.len().max(given.text.len()) > MAX_TEXT {
        let says = format!("more than {} KB; `wirewatch map run` takes documents of any size", MAX_TEXT / 1024);
        return Err(Problem::new(StatusCode::PAYLOAD_TOO_LARGE, says));
    }
    let (files, environment) = (releases::running_files(&app).await?, app.environment.clone());
    let table = tokio::task::spawn_blocking(move || {
        let on = Tryout { given: given.given.into_bytes(), at: given.at, with: given.with, meta: given.meta };
        map_table(&files, environment.as_deref(), &name, &given.text, &on)
    });
    let table = table
        .await
        .map_err(|_| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "the trial failed because of a fault in the service"))?;
    Ok(Json(tried(table)))
}

fn unknown(name: &str) -> Problem {
    Problem::not_found(format!("the running release has no map `{name}`"))
}

/// Returns the newest release that changed each file, among those that are listed.
async fn changed(app: &App) -> Result<HashMap<String, Changed>, Problem> {
    let mut changed = HashMap::new();
    for ReleaseView { release, at, by, changes, .. } in releases::compared(app).await? {
        for change in changes {
            changed.entry(change.file).or_insert_with(|| Changed { release, at: at.clone(), by: by.clone() });
        }
    }
    Ok(changed)
}

fn view(workspace: &Workspace, map: &Map, drafts: &[DraftRow], changed: &HashMap<String, Changed>) -> MapView {
    fn count(rules: &Rules) -> usize {
        rules.set.len() + rules.each.iter().map(|each| count(&each.rules)).sum::<usize>()
    }
    let draft = drafts.iter().any(|draft| draft.file == file_of(&map.name));
    let uses = |flow: &&Arc<Flow>| flow.steps.iter().any(|step| matches!(&step.verb, Verb::Map { map: own } if *own == map.name));
    let of = Subject::Map(map.name.clone());
    MapView {
        name: map.name.clone(),
        from: map.from.clone(),
        to: map.to.clone(),
        rules: count(&map.rules),
        used_by: workspace.flows.values().filter(uses).map(|flow| flow.name.clone()).collect(),
        cases: workspace.cases.values().filter(|case| case.of == of).count(),
        draft,
        changed: changed.get(&file_of(&map.name)).cloned(),
    }
}

fn tried(table: MapTable) -> MapTried {
    let shown = |value: Value| match value {
        Value::String(text) => text,
        other => other.to_string(),
    };
    let rules =
        table.rules.into_iter().map(|rule| MapRule { target: rule.target, value: rule.value.map(shown), line: rule.line });
    let source = table.source.into_iter();
    let source =
        source.map(|one| MapSource { path: one.path, title: one.title, value: one.value, times: one.times, used: one.used });
    let open = table.open.into_iter();
    let open =
        open.map(|one| MapOpen { path: one.path, kind: FieldType::parse(&one.kind), required: one.required, title: one.title });
    let result = match table.result {
        Value::Null => String::new(),
        Value::String(text) => text,
        other => serde_json::to_string_pretty(&other).unwrap_or_default(),
    };
    MapTried {
        findings: table.findings,
        documents: table.documents,
        title: table.title,
        with: table.with,
        source: source.collect(),
        rules: rules.collect(),
        open: open.collect(),
        result,
        says: table.says,
    }
}
