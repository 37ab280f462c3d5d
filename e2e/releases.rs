//! Releases: what they change, what a stale copy is told, the way back; and the same workspace in several environments.

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
    assert_eq!((code, out.as_str()), (0, "release 1 runs exactly this; nothing to do\n"));

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

    // The colleague's copy is from before: deploying it would take the title back unseen.
    std::fs::write(colleague.path().join("w/tables/extra.csv"), "key,value\na,b\n").unwrap();
    let (code, _, err) = service.command(&["deploy", &stale]);
    assert_eq!(code, 1, "{err}");
    assert!(err.contains("release::stale") && err.contains("it would take back what"), "{err}");
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

    // What runs and what stands in the folder are the same again; then they are not, and it is said.
    let warned = || async {
        let status: Value = service.get("/api/status").await?;
        Some(status["warnings"].as_array()?.iter().any(|one| one.as_str().unwrap_or_default().contains("is not what runs")))
    };
    eventually("the folder is what runs", || async { (!warned().await?).then_some(()) }).await;
    service.write("flows/picks.toml", &before.replace("Picks to the warehouse", "Picking"));
    eventually("the folder is not what runs", || async { warned().await?.then_some(()) }).await;
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
    assert!(err.contains("nothing is said of warehouse: it stays at amqp://"), "{err}");
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
    // It reaches the order system that the environment names.
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
    assert_eq!((scene.orders.summary().booked, scene.acknowledged().len()), (1, 1), "nothing came of it");
}
