//! The service with a workspace of a few files, and a secret.

use std::path::Path;
use std::time::Duration;
use wirewatch_loopback::{OwnedProcess, free_port};

/// A running service; dropped, it is killed.
pub struct Serving {
    pub process: OwnedProcess,
    pub port: u16,
    _folder: tempfile::TempDir,
}

/// Starts the service on an empty database and waits until it answers.
pub async fn serve(program: &Path, url: &str, files: &[(&str, &str)], (secret, value): (&str, &str)) -> Serving {
    let folder = tempfile::tempdir().expect("a folder");
    let workspace = folder.path().join("workspace");
    for (name, text) in files {
        let path = workspace.join(name);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        std::fs::write(path, text).expect("written");
    }
    let port = free_port().expect("a port");
    let state = folder.path().join("state");
    let text = |path: &Path| path.to_string_lossy().into_owned();
    let arguments =
        ["serve", "--listen", &format!("127.0.0.1:{port}"), "--workspace", &text(&workspace), "--state", &text(&state)]
            .map(str::to_owned);
    let url = url.to_owned();
    let process = OwnedProcess::spawn("KILL", &text(program), &arguments, move |command| {
        command.env("WIREWATCH_DATABASE", url).env("WIREWATCH_LOG", "warn");
    });
    let process = process.expect("started");
    let base = format!("http://127.0.0.1:{port}");
    while !wirewatch_loopback::http_client()
        .get(format!("{base}/health/ready"))
        .send()
        .await
        .is_ok_and(|response| response.status().is_success())
    {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let token = std::fs::read_to_string(state.join("token.json")).expect("a token");
    let token: serde_json::Value = serde_json::from_str(&token).expect("JSON");
    let request = wirewatch_loopback::http_client().put(format!("{base}/api/secrets/{secret}"));
    let request = request.bearer_auth(token["token"].as_str().unwrap_or_default());
    let set = request.json(&serde_json::json!({ "value": value })).send().await.expect("an answer");
    assert!(set.status().is_success(), "the secret is set");
    Serving { process, port, _folder: folder }
}
