//! A chat with rooms, each with an address that accepts sentences.
//!
//! `POST /{room}` with `{"text": …}` adds a sentence, once per `Idempotency-Key`; `GET /{room}` returns the room; `GET /` is a
//! page with all rooms for people.

use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{Html, IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::{BTreeMap, HashSet, VecDeque};
use std::sync::{Arc, Mutex};

/// Most sentences in a room.
const MAX_SENTENCES: usize = 200;

#[derive(Debug, Default)]
struct Rooms {
    sentences: BTreeMap<String, VecDeque<String>>,
    keys: HashSet<String>,
}

/// The chat; clones share it.
#[derive(Debug, Clone, Default)]
pub struct Chat {
    rooms: Arc<Mutex<Rooms>>,
}

#[derive(Deserialize)]
struct Sentence {
    text: String,
}

impl Chat {
    /// The routes.
    pub fn router(&self) -> Router {
        Router::new().route("/", get(page)).route("/{room}", get(read).post(say)).with_state(self.clone())
    }

    /// Returns the sentences of a room, oldest first.
    #[must_use]
    pub fn sentences(&self, room: &str) -> Vec<String> {
        let rooms = self.rooms.lock().expect("no holder panics");
        rooms.sentences.get(room).into_iter().flatten().cloned().collect()
    }
}

async fn say(State(own): State<Chat>, Path(room): Path<String>, headers: HeaderMap, Json(sentence): Json<Sentence>) -> Response {
    let mut rooms = own.rooms.lock().expect("no holder panics");
    let key = headers.get("idempotency-key").and_then(|key| key.to_str().ok());
    if let Some(key) = key.map(str::to_owned)
        && !rooms.keys.insert(key)
    {
        return Json(json!({ "stored": true, "duplicate": true })).into_response();
    }
    let sentences = rooms.sentences.entry(room).or_default();
    sentences.push_back(sentence.text);
    if sentences.len() > MAX_SENTENCES {
        sentences.pop_front();
    }
    (StatusCode::CREATED, Json(json!({ "stored": true }))).into_response()
}

async fn read(State(own): State<Chat>, Path(room): Path<String>) -> Json<Value> {
    Json(json!({ "room": room, "sentences": own.sentences(&room) }))
}

/// Every room, newest sentence first.
async fn page(State(own): State<Chat>) -> Html<String> {
    let rooms = own.rooms.lock().expect("no holder panics");
    let escape = |text: &str| text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
    let room = |(name, sentences): (&String, &VecDeque<String>)| {
        let items: String = sentences.iter().rev().map(|text| format!("<li>{}</li>", escape(text))).collect();
        format!("<section><h2>{}</h2><ul>{items}</ul></section>", escape(name))
    };
    let rooms: String = rooms.sentences.iter().map(room).collect();
    let none = "<p>No messages yet.</p>".to_owned();
    Html(include_str!("chat.html").replace("{rooms}", if rooms.is_empty() { &none } else { &rooms }))
}
