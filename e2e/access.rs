//! Access: token, host, origin; and an API description that matches the service.

use crate::scene::Scene;
use serde_json::{Value, json};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn without_the_token_or_from_elsewhere_nothing_is_reported() {
    let scene = Scene::open().await;
    let http = wirewatch_testkit::http_client();
    let url = scene.service.url("/api/status");
    let status = |request: reqwest::RequestBuilder| async { request.send().await.unwrap().status().as_u16() };
    assert_eq!(status(http.get(&url)).await, 401);
    assert_eq!(status(http.get(&url).bearer_auth("wrong")).await, 401);
    let response = http.get(&url).header("host", "evil.example").send().await.unwrap();
    assert_eq!(response.status().as_u16(), 421);
    assert_eq!(response.headers()["content-type"], "application/problem+json");
    let body: Value = response.json().await.unwrap();
    assert_eq!(body["status"], json!(421));
    assert_eq!(status(scene.service.post("/api/bulk-acts").header("origin", "http://evil.example")).await, 403);
    assert_eq!(status(http.get(scene.service.url("/health/ready"))).await, 200);
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &std::fs::metadata(scene.service.folder.path().join("state/token.json")).unwrap().permissions(),
    );
    assert_eq!(mode & 0o777, 0o600, "the token is for its owner's eyes");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_path_of_the_description_answers() {
    let scene = Scene::open().await;
    let http = wirewatch_testkit::http_client();
    let description: Value = http.get(scene.service.url("/api/openapi.json")).send().await.unwrap().json().await.unwrap();
    assert_eq!(description["openapi"], "3.1.0");
    let paths = description["paths"].as_object().unwrap();
    assert!(paths.len() > 12, "{}", paths.len());
    for (path, methods) in paths.iter().filter(|(path, _)| *path != "/api/stream") {
        let path = path.replace("{id}", "0000000000000").replace("{key}", "K").replace("{name}", "erp").replace("{flow}", "none");
        for method in methods.as_object().unwrap().keys() {
            let method = reqwest::Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            let response = http.request(method.clone(), scene.service.url(&path)).send().await.unwrap();
            assert_eq!(response.status().as_u16(), 401, "{method} {path} is behind the token");
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_workspace_with_errors_never_replaces_the_running_one() {
    let mut scene = Scene::open().await;
    let release = |status: Value| status["release"].as_i64().unwrap();
    let before = release(scene.service.get("/api/status").await.unwrap());
    scene.service.change("flows/partner-orders.toml", "map  = \"po-to-order\"", "map  = \"po-to-ordre\"");
    let workspace = scene.service.workspace().to_string_lossy().into_owned();
    let (code, _, err) = scene.service.command(&["deploy", &workspace]);
    assert_eq!(code, 1);
    assert!(err.contains("did you mean \"po-to-order\"?") && err.contains("the current release stays"), "{err}");
    // Not at a restart either.
    scene.service.stop();
    scene.service.start().await;
    assert_eq!(release(scene.service.get("/api/status").await.unwrap()), before);
    assert!(scene.service.logged().contains("the newest release runs instead"));
    scene.send(1, wirewatch_standins::marrowfield::Flaw::None);
    scene.quiet(1).await;
    // Corrected, it is released without a restart.
    scene.service.change("flows/partner-orders.toml", "po-to-ordre", "po-to-order");
    scene.service.change("flows/partner-orders.toml", "Partner purchase orders", "Orders of partners");
    let (code, out, err) = scene.service.command(&["deploy", &workspace]);
    let reported = format!("changed flows/partner-orders.toml  +1 -1\nrelease {} runs now", before + 1);
    assert_eq!((code, out.trim()), (0, reported.as_str()), "{err}");
    assert_eq!(
        scene.service.command(&["deploy", &workspace]).1.trim(),
        format!("release {} has exactly these files; nothing to deploy", before + 1)
    );
}
