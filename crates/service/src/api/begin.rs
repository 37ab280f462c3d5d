//! Starting points for submitting a document by hand: a made-up one, the last one received, and what its fields mean.

use super::Answer;
use super::flows::known;
use crate::run::App;
use crate::view::some;
use crate::view::words::{DocumentForm, FieldType};
use crate::view::{SubmitBegin, SubmitField, SubmitLast};
use axum::Json;
use axum::extract::{Path, Query, State};
use serde::Deserialize;
use serde_json::Value;
use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::flow::{Intake, Takes, place_of};
use wirewatch_core::schema::{Schema, sample};

/// Largest document, in bytes, that is offered for editing.
const MAX_TEXT: u64 = 64 << 10;

/// Which made-up document.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct BeginQuery {
    /// The same seed makes up the same document.
    #[serde(default)]
    pub seed: u64,
}

/// Starting points for the flow's first intake.
#[utoipa::path(get, path = "/api/flows/{flow}/begin", operation_id = "begin", params(("flow" = String, Path), BeginQuery),
    responses((status = 200, body = SubmitBegin)))]
pub async fn begin(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(query): Query<BeginQuery>,
) -> Answer<SubmitBegin> {
    let (_, workspace) = app.engine.releases().current();
    let (flow, intake) = known(&workspace, &name)?;
    let schema = match &intake.takes {
        Takes::Json(schema) => workspace.schemas.get(schema),
        Takes::X12(_) | Takes::Text => None,
    };
    let (takes, form) = match &intake.takes {
        Takes::X12(set) => (format!("x12/{set}"), DocumentForm::X12),
        Takes::Json(schema) => (schema.clone(), (&intake.form).into()),
        Takes::Text => ("text".to_owned(), DocumentForm::Bytes),
    };
    let mut fields = Vec::new();
    if let Some(schema) = schema {
        schema.level().each("", &mut |path, leaf| {
            let text = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
            fields.push(SubmitField {
                path: path.to_owned(),
                kind: FieldType::parse(&leaf.kind),
                format: some(&leaf.format),
                required: leaf.required,
                title: leaf.title.clone(),
                examples: leaf.examples.iter().map(text).collect(),
            });
        });
    }
    Ok(Json(SubmitBegin {
        flow: flow.title.clone(),
        from: intake.from.clone(),
        takes,
        form,
        events: intake.events.clone(),
        made_up: schema.map(|schema| made_up(schema, &intake.form, query.seed)).unwrap_or_default(),
        fields,
        last: last(&app, intake).await?,
    }))
}

fn made_up(schema: &Schema, form: &Form, seed: u64) -> String {
    let document = sample(schema, seed);
    match form {
        // A made-up document may not fit the written form; then it is shown as JSON.
        Form::Shaped { written, .. } => schema.write(*written, &document).map_or_else(
            |_| serde_json::to_string_pretty(&document).unwrap_or_default(),
            |bytes| String::from_utf8_lossy(&bytes).into_owned(),
        ),
        Form::Json | Form::X12 { .. } | Form::Bytes => serde_json::to_string_pretty(&document).unwrap_or_default(),
    }
}

/// Returns the last document received there, if it is text of a size that a person edits.
async fn last(app: &App, intake: &Intake) -> Result<Option<SubmitLast>, super::problem::Problem> {
    let place = place_of(&intake.from, intake.queue.as_deref().unwrap_or_default());
    let event = intake.events.first().map(String::as_str).unwrap_or_default();
    let newest = match event {
        "" => app.store.newest_at(&place, "").await?,
        event => app.store.newest_at(&intake.from, event).await?,
    };
    let Some(arrival) = newest else { return Ok(None) };
    let bytes = app.store.body(arrival, MAX_TEXT + 1).await?;
    let text = String::from_utf8(bytes).ok().filter(|text| text.len() as u64 <= MAX_TEXT && !text.is_empty());
    Ok(text.map(|text| SubmitLast { arrival: arrival.to_string(), text }))
}
