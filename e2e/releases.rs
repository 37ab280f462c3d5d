//! Releases: their changes, deploying an old copy, rollback; and one workspace in several environments.

use crate::scene::Scene;
use serde_json::{Value, json};
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::{Database, Service, eventually};

fn read(service: &Service, file: &str) -> String {
    std::fs::read_to_string(service.workspace().join(file)).unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_release_shows_what_it_changes_and_a_stale_copy_is_refused_file_by_file() {
    let scene = Scene::open().await;
    let service = &scene.service;
    let folder = service.workspace().display().to_string();
    let (code, out, _) = service.command(&["deploy", "--check", &folder]);
    assert_eq!((code, out.as_str()), (0, "release 1 has exactly these files; nothing to deploy\n"));

    let colleague = tempfile::tempdir().unwrap();
    let copied = std::process::Command::new("cp").arg("-r").arg(service.workspace()).arg(colleague.path().join("w")).status();
    assert!(copied.unwrap().success());
    let stale = colleague.path().join("w").display().to_string();

    let before = read(service, "flows/picks.toml");
    service.write("flows/picks.toml", &before.replace("Picks to the warehouse", "Picks"));
    let (code, out, _) = service.command(&["deploy", "--check", &folder]);
    assert_eq!(code, 1, "something differs");
    assert!(out.contains("changed flows/picks.toml  +1 -1"), "{out}");
    assert_eq!(service.get("/api/workspace").await.unwrap()["release"], 1, "nothing was changed");
    let (code, out, err) = service.command(&["deploy", "--why", "shorter title", &folder]);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("release 2 runs now"), "{out}");

    // The colleague's copy is older: deploying it would silently undo the change of the title.
    std::fs::write(colleague.path().join("w/tables/extra.csv"), "key,value\na,b\n").unwrap();
    let (code, _, err) = service.command(&["deploy", &stale]);
    assert_eq!(code, 1, "{err}");
    assert!(err.contains("release::stale") && err.contains("it would undo what"), "{err}");
    assert!(err.contains("flows/picks.toml:1:1"), "{err}");
    assert_eq!(service.get("/api/workspace").await.unwrap()["release"], 2);
    let (code, out, err) = service.command(&["deploy", "--take-back", &stale]);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("new     tables/extra.csv") && out.contains("release 3 runs now"), "{out}");

    let (code, _, err) = service.command(&["rollback", "2", "--why", "the title was meant"]);
    assert_eq!(code, 0, "{err}");
    let (_, out, _) = service.command(&["releases"]);
    let rows: Vec<&str> = out.lines().skip(1).map(str::trim_start).collect();
    assert!(
        rows[0].starts_with("4") && rows[0].contains("runs") && rows[0].contains("back to release 2: the title was meant"),
        "{out}"
    );
    assert!(rows[2].contains("shorter title") && rows.len() == 4, "{out}");
    let (_, out, _) = service.command(&["releases", "4"]);
    assert!(out.contains("gone    tables/extra.csv") && out.contains("- title  = \"Picks to the warehouse\""), "{out}");
    assert_eq!(service.command(&["rollback", "77", "--why", "x"]).0, 1);

    // A release is fetched as it was deployed, into an empty folder only.
    let fetched = colleague.path().join("fetched");
    let to = fetched.display().to_string();
    let (code, out, err) = service.command(&["releases", "1", "--to", &to]);
    assert!(code == 0 && out.contains("release 1: "), "{out}{err}");
    assert_eq!(std::fs::read_to_string(fetched.join("flows/picks.toml")).unwrap(), before);
    let (code, out, _) = service.command(&["releases", "1", "--to", &to]);
    assert!(code == 1 && out.is_empty(), "{out}");
    let (code, _, err) = service.command(&["releases", "77", "--to", &format!("{to}-77")]);
    assert!(code == 1 && err.contains("there is no release 77"), "{err}");

    // A case that fails stops a deploy.
    let case = "cases/partner-order-booked/expect.json";
    let expected = read(service, case);
    service.write(case, &expected.replacen("done", "failed", 1));
    let (code, _, err) = service.command(&["deploy", &folder]);
    assert!(code == 1 && err.contains("partner-order-booked") && err.contains("1 failed; nothing was deployed"), "{err}");
    assert_eq!(service.get("/api/workspace").await.unwrap()["release"], 4);
    service.write(case, &expected);

    // The release and the folder are equal; then they differ, and this is reported.
    let warned = || async {
        let status: Value = service.get("/api/status").await?;
        Some(
            status["warnings"]
                .as_array()?
                .iter()
                .any(|one| one.as_str().unwrap_or_default().contains("differs from the running release")),
        )
    };
    eventually("the folder is what runs", || async { (!warned().await?).then_some(()) }).await;
    service.write("flows/picks.toml", &before.replace("Picks to the warehouse", "Picking"));
    eventually("the folder differs from the running release", || async { warned().await?.then_some(()) }).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn in_an_environment_connections_are_elsewhere_and_production_takes_no_test() {
    let mut scene = Scene::prepare(&Database::new()).await;
    let erp = read(&scene.service, "connections/erp.toml");
    let (_, rest) = erp.split_once("address   = ").unwrap();
    let address = rest.lines().next().unwrap().to_owned();
    scene.service.write("connections/erp.toml", &erp.replace(&address, "\"http://127.0.0.1:1\""));
    let production =
        format!("title = \"Production\"\nproduction = true\n[connections.erp]\naddress = {address}\ntimeout = \"9s\"\n");
    scene.service.write("env/production.toml", &production);
    scene.service.write("env/test.toml", "[connections.epr]\naddress = \"http://127.0.0.1:2\"\n");
    let folder = scene.service.workspace().display().to_string();
    let (code, _, err) = scene.service.command(&["check", &folder]);
    assert_eq!(code, 1);
    assert!(err.contains("env/test.toml:1:14") && err.contains("did you mean \"erp\"?"), "{err}");
    std::fs::remove_file(scene.service.workspace().join("env/test.toml")).unwrap();
    let (code, _, err) = scene.service.command(&["check", "--env", "production", &folder]);
    assert_eq!(code, 0, "{err}");
    assert!(err.contains("warehouse is not mentioned: it keeps the address amqp://"), "{err}");
    let (code, _, err) = scene.service.command(&["check", "--env", "prodution", &folder]);
    assert_eq!(code, 1);
    assert!(err.contains("did you mean \"production\"?"), "{err}");
    scene.service.write("env/production.toml", &production.replace("\"9s\"", "\"soon\""));
    let (code, _, err) = scene.service.command(&["check", "--env", "production", &folder]);
    assert_eq!(code, 1);
    assert!(err.contains("(as env/production.toml has it)"), "{err}");
    scene.service.write("env/production.toml", &production);

    scene.service.arguments.extend(["--env", "production"].map(str::to_owned));
    scene.service.start().await;
    let workspace = scene.service.get("/api/workspace").await.unwrap();
    assert_eq!(workspace["environment"], json!({ "name": "production", "title": "Production", "production": true }));
    let (_, out, _) = scene.service.command(&["status"]);
    assert!(out.lines().next().unwrap().contains("in Production"), "{out}");
    // It reaches the order system of the environment.
    let sent = scene.marrowfield.interchange_of(1, Flaw::None);
    scene.drop("po-meant.edi", sent.text.replace("*0*T*", "*0*P*").as_bytes());
    scene.quiet(1).await;
    assert_eq!(scene.orders.summary().booked, 1);

    let sent = scene.marrowfield.interchange_of(1, Flaw::None);
    scene.drop("po-test.edi", sent.text.as_bytes());
    let (verdict, says) = scene.verdict("po-test.edi").await;
    assert!(verdict == "failed" && says.contains("ISA15 is T"), "{verdict}: {says}");
    // Not even by hand.
    let id = scene.arrival("po-test.edi").await["id"].as_str().unwrap().to_owned();
    let (code, out, err) = scene.service.command(&["accept", &id, "--why", "try it"]);
    assert!(code == 0 && out.contains("failed") && out.contains("ISA15 is T"), "{out}{err}");
    assert_eq!((scene.orders.summary().booked, scene.acknowledged().len()), (1, 1), "nothing was sent");
}

/// A change in the console cannot undo another's, skip a failing case in silence, or be made where the workspace forbids it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_change_from_the_console_is_refused_for_a_stated_reason() {
    let scene = Scene::open().await;
    let service = &scene.service;
    let text = read(service, "flows/picks.toml");
    let shorter = text.replace("Picks to the warehouse", "Picks");
    let broken = text.replace("takes", "taken");
    let post = async |path: &str, body: Value| {
        let response = service.post(path).json(&body).send().await.unwrap();
        (response.status().as_u16(), response.json::<Value>().await.unwrap())
    };
    let change = async |body: Value| post("/api/releases/changes", body).await;
    let files = |after: &str| json!({ "flows/picks.toml": after });
    let map = read(service, "maps/po-to-order.toml");
    let other_map = map.replace("\"BEG03\"", "\"'PO ' & BEG03\"");
    let maps = json!({ "maps/po-to-order.toml": other_map });
    for (body, status, code) in [
        (json!({ "files": files(&shorter), "before": files(&text), "why": " " }), 400, "bad-request"),
        (json!({ "files": files(&shorter), "before": files(&shorter), "why": "x" }), 409, "release-stale"),
        (json!({ "files": files(&shorter), "why": "x" }), 409, "release-stale"),
        (json!({ "files": files(&broken), "before": files(&text), "why": "x" }), 422, "workspace-invalid"),
        (json!({ "files": files(&broken), "before": files(&text), "why": "x", "skip_cases": true }), 422, "workspace-invalid"),
        (json!({ "files": maps, "before": { "maps/po-to-order.toml": map }, "why": "x" }), 422, "cases-failed"),
    ] {
        let (got, problem) = change(body.clone()).await;
        assert_eq!((got, problem["code"].as_str()), (status, Some(code)), "{body} {problem}");
    }
    assert_eq!(service.get("/api/workspace").await.unwrap()["release"], 1, "nothing was deployed");
    let (status, cases) = post("/api/cases", json!({ "files": maps })).await;
    let differs = |one: &&Value| one["outcome"] == "differs";
    let failed: Vec<&Value> = cases.as_array().unwrap().iter().filter(differs).collect();
    assert!(status == 200 && failed.iter().any(|one| one["name"] == "orders-of-marrowfield"), "{cases}");
    let skipped = json!({ "files": maps, "before": { "maps/po-to-order.toml": map }, "why": "as agreed", "skip_cases": true });
    let (status, release) = change(skipped).await;
    assert_eq!((status, release["release"].as_i64()), (200, Some(2)), "{release}");
    // The folder is older now: a deploy of it says so.
    let folder = service.workspace().display().to_string();
    let (code, _, errors) = service.command(&["deploy", "--skip-cases", &folder]);
    assert!(code == 1 && errors.contains("release::stale") && errors.contains("maps/po-to-order.toml"), "{errors}");
    let (code, _, errors) = service.command(&["deploy", "--take-back", &folder]);
    assert_eq!(code, 0, "{errors}");
    service.change("workspace.toml", "deploy_from_console = true", "deploy_from_console = false");
    assert_eq!(service.command(&["deploy", &folder]).0, 0);
    let (status, problem) = change(json!({ "files": files(&shorter), "before": files(&text), "why": "x" })).await;
    assert_eq!((status, problem["code"].as_str()), (403, Some("console-deploy-off")), "{problem}");
}
