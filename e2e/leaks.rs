//! Secrets and keys stay where they are: no answer, table, log, release or backup has one.

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use serde_json::{Value, json};
use std::process::Command;
use std::sync::{Arc, Mutex};
use wirewatch_testkit::{Database, Service, eventually, http_client};

const SECRET: &str = "tell-nobody-of-7f3a9c";
const FLOW: &str = "title = \"Orders\"\nkey = \"number\"\n[[intake]]\nfrom = \"shop\"\ntakes = \"order\"\n\
                    [[step]]\nname = \"book\"\ncall = { at = \"erp\", post = \"/book\", as = \"booked\" }\n";

/// The credentials given to the other side; it books the first order and refuses the second.
type Seen = Arc<Mutex<Vec<String>>>;

async fn book(State(seen): State<Seen>, headers: HeaderMap) -> (StatusCode, String) {
    let given = headers.get("authorization").map(|value| value.to_str().unwrap().to_owned()).unwrap_or_default();
    let mut seen = seen.lock().unwrap();
    seen.push(given);
    match seen.len() {
        1 => (StatusCode::CREATED, "{\"order\":\"1\"}".to_owned()),
        _ => (StatusCode::UNPROCESSABLE_ENTITY, "{\"message\":\"no\"}".to_owned()),
    }
}

/// Everything in the database, as a backup writes it.
fn backup(database: &Database) -> String {
    let versions = std::fs::read_dir("/usr/lib/postgresql").expect("PostgreSQL");
    let program = versions.map(|entry| entry.expect("an entry").path().join("bin/pg_dump")).find(|path| path.exists());
    let output = Command::new(program.expect("pg_dump")).args(["--inserts", &database.url]).output().expect("run");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_answer_table_log_release_or_backup_has_a_secret() {
    let seen = Seen::default();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let router = axum::Router::new().fallback(book).with_state(seen.clone());
    tokio::spawn(async move { axum::serve(listener, router).await });
    let database = Database::new();
    let erp = format!(
        "kind = \"http\"\naddress = \"{address}\"\nrepeat = \"key\"\nauth = {{ as = \"bearer\", secret = \"erp-token\" }}\n"
    );
    let shop = "kind = \"webhook\"\npath = \"shop\"\naccept = [{ warning = \"connection::unsigned\", because = \"a test\" }]";
    let files = [
        ("workspace.toml", "format = 1"),
        ("schemas/order.schema.json", "{ \"type\": \"object\", \"properties\": { \"number\": { \"type\": \"string\" } } }"),
        ("connections/shop.toml", shop),
        ("connections/erp.toml", erp.as_str()),
        ("flows/orders.toml", FLOW),
    ];
    let mut service = Service::with_files(&database, &files);
    // A workspace that contains the state folder, as with `serve --workspace .` beside `state`.
    let state = service.files().parent().unwrap().to_owned();
    std::fs::create_dir_all(&state).unwrap();
    std::os::unix::fs::symlink(&state, service.workspace().join("state")).unwrap();
    service.start().await;
    let (status, _) = service.put("/api/secrets/erp-token", &json!({ "value": SECRET })).await;
    assert_eq!(status, 200);
    for number in ["1", "2"] {
        let call = http_client().post(service.url("/in/shop")).json(&json!({ "number": number }));
        assert_eq!(call.send().await.unwrap().status(), 202);
    }
    let messages = eventually("both have come to their end", || async {
        let page = service.get("/api/messages").await?;
        let all = page["messages"].as_array()?.clone();
        let ended = all.iter().filter(|one| one["state"] == "done" || one["state"] == "failed").count();
        (ended == 2).then_some(all)
    })
    .await;
    assert_eq!(*seen.lock().unwrap(), [format!("Bearer {SECRET}"), format!("Bearer {SECRET}")]);
    // With the folder as it is now, the state and its key in it.
    let folder = service.workspace();
    let (code, out, err) = service.command(&["deploy", folder.to_str().unwrap()]);
    assert_eq!(code, 0, "{out}{err}");
    assert!([&out, &err].iter().any(|text| text.contains("a folder at this place is not read")), "{out}{err}");
    let text = |name: &str| std::fs::read_to_string(state.join(name)).unwrap().trim().to_owned();
    let token: Value = serde_json::from_str(&text("token.json")).unwrap();
    let hidden = [SECRET.to_owned(), text("secrets.key"), token["token"].as_str().unwrap().to_owned()];
    assert!(hidden.iter().all(|one| one.len() > 16), "what is searched for is there");
    // A caller that sends them all the same.
    let mut sent = json!({ "workspace.toml": "format = 1", "README.md": "Orders" });
    for (name, text) in &files[1..] {
        sent[*name] = json!(text);
    }
    for path in ["state/secrets.key", "samples/secrets.key", "cases/a/token.json"] {
        sent[path] = json!(hidden[1]);
    }
    let (status, released) = service.act("/api/releases", &json!({ "files": sent, "why": "", "take_back": true })).await;
    assert_eq!(status, 200, "{released}");
    let strangers = released["findings"].as_array().unwrap().iter().filter(|one| one["code"] == "workspace::stranger").count();
    assert_eq!((strangers, released["what"].as_str()), (3, Some("new")), "{released}");
    let description = service.get("/api/openapi.json").await.unwrap();
    let plain =
        description["paths"].as_object().unwrap().iter().filter(|(path, of)| !path.contains('{') && of.get("get").is_some());
    let mut paths: Vec<String> =
        plain.map(|(path, _)| path.clone()).filter(|path| !path.contains("/live") && !path.contains("stream")).collect();
    for one in &messages {
        paths.push(format!("/api/messages/{}", one["id"].as_str().unwrap()));
        paths.push(format!("/api/arrivals/{}", one["arrival"].as_str().unwrap()));
    }
    paths.extend([1, 2].map(|no| format!("/api/releases/{no}")));
    assert!(paths.len() > 12, "{paths:?}");
    let mut searched = vec![("the log".to_owned(), service.logged()), ("a backup".to_owned(), backup(&database))];
    for path in paths {
        let request = http_client().get(service.url(&path)).bearer_auth(&hidden[2]);
        let Ok(Ok(answer)) = tokio::time::timeout(std::time::Duration::from_secs(5), request.send()).await else { continue };
        let Ok(Ok(text)) = tokio::time::timeout(std::time::Duration::from_secs(5), answer.text()).await else { continue };
        searched.push((path, text));
    }
    assert!(searched.len() > 12, "most answers were read");
    assert!(searched.iter().any(|(_, text)| text.contains("POST /book")), "what was sent is shown, without the secret");
    for (place, text) in &searched {
        for one in &hidden {
            let hex: String = one.bytes().map(|byte| format!("{byte:02x}")).collect();
            assert!(!text.contains(one) && !text.contains(&hex), "{place} has {one}");
        }
    }
}
