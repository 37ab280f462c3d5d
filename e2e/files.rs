//! Files that are difficult to receive: still being written, with names too long for the archive, with an archive that cannot be
//! created.

use crate::scene::Scene;
use serde_json::Value;
use std::fs::OpenOptions;
use std::io::Write;
use std::time::Duration;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::{Database, Service, eventually};

async fn arrivals(service: &Service) -> Vec<Value> {
    let page = eventually("arrivals are listed", || service.get("/api/arrivals?connection=marrowfield-drop&limit=1000")).await;
    page["arrivals"].as_array().unwrap().clone()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_interchanges_written_into_one_open_file_are_both_read() {
    let mut scene = Scene::prepare(&Database::new()).await;
    // As long as the file is open it is not complete, however long its writer pauses after an IEA.
    scene.service.change("connections/marrowfield-drop.toml", "\"300ms\"", "\"1h\"");
    scene.service.start().await;
    let folder = scene.service.files().join("marrowfield/to-us");
    // Files from before the folder is watched wait for `settle`, so files are sent until one is received.
    loop {
        scene.send(1, Flaw::None);
        let taken = eventually("one is taken", || async { (!arrivals(&scene.service).await.is_empty()).then_some(()) });
        if tokio::time::timeout(Duration::from_secs(2), taken).await.is_ok() {
            break;
        }
    }
    let before = arrivals(&scene.service).await.len();
    let [first, second] = std::array::from_fn(|_| scene.marrowfield.interchange_of(2, Flaw::None));
    let mut file = OpenOptions::new().create(true).append(true).open(folder.join("both.edi")).unwrap();
    file.write_all(first.text.as_bytes()).unwrap();
    file.sync_all().unwrap();
    // A complete file: when it is received, the folder was read with the first half in it.
    scene.send(1, Flaw::None);
    eventually("the whole one is taken", || async { (arrivals(&scene.service).await.len() > before).then_some(()) }).await;
    file.write_all(second.text.as_bytes()).unwrap();
    drop(file);
    eventually("both are in one arrival", || async {
        let all = arrivals(&scene.service).await;
        let both = all.iter().find(|one| one["name"] == "both.edi")?;
        (both["messages"] == 4).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_file_that_cannot_be_archived_is_taken_once_shown_and_archived_later() {
    let mut scene = Scene::open().await;
    let folder = scene.service.files().join("marrowfield/to-us");
    // A file is in the place of the archive folder.
    std::fs::write(folder.join("archive"), "").unwrap();
    let sent = scene.send(2, Flaw::None);
    let name = format!("po-{:06}.edi", sent.control);
    let drop_of = |all: Value| all.as_array()?.iter().find(|one| one["name"] == "marrowfield-drop").cloned();
    let shown = eventually("it is shown", || async {
        let one = drop_of(scene.service.get("/api/connections").await?)?;
        one["files"].as_array()?.iter().find(|file| file["file"] == name.as_str()).cloned()
    })
    .await;
    assert!(shown["says"].as_str().unwrap().contains("cannot be moved to "), "{shown}");
    let status = scene.service.get("/api/status").await.unwrap();
    let warned = status["warnings"].as_array().unwrap().iter().any(|one| one.as_str().unwrap().contains("cannot be moved to "));
    assert!(warned, "{status}");
    let (code, out, _) = scene.service.command(&["connection", "list"]);
    assert!(code == 0 && out.contains(&name), "{out}");
    // Scanned again and again, it stays one arrival and is not read again; another file is received meanwhile.
    scene.send(1, Flaw::None);
    scene.quiet(3).await;
    let mine = |all: Vec<Value>| all.iter().filter(|one| one["name"] == name.as_str()).count();
    assert_eq!(mine(arrivals(&scene.service).await), 1);
    scene.service.stop();
    scene.service.start().await;
    eventually("it is shown after a restart", || async {
        let one = drop_of(scene.service.get("/api/connections").await?)?;
        one["files"].as_array()?.iter().any(|file| file["file"] == name.as_str()).then_some(())
    })
    .await;
    assert_eq!(mine(arrivals(&scene.service).await), 1);
    std::fs::remove_file(folder.join("archive")).unwrap();
    eventually("it is archived once it can be", || async { (!folder.join(&name).exists()).then_some(()) }).await;
    // A name that leaves no room for the arrival has its place there, too.
    let long = format!("{}.edi", "x".repeat(244));
    let text = scene.marrowfield.interchange_of(1, Flaw::None).text;
    scene.drop(&long, text.as_bytes());
    eventually("the long one is archived", || async { (!folder.join(&long).exists()).then_some(()) }).await;
    eventually("nothing is in the way any more", || async {
        let one = drop_of(scene.service.get("/api/connections").await?)?;
        one["files"].as_array()?.is_empty().then_some(())
    })
    .await;
    let all = arrivals(&scene.service).await;
    let times = |name: &str| all.iter().filter(|one| one["name"] == name).count();
    assert_eq!((times(&name), times(&long)), (1, 1));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn folders_lie_below_the_files_folder_unless_the_operator_allowed_another() {
    let mut scene = Scene::open().await;
    let elsewhere = scene.service.folder.path().join("elsewhere");
    std::fs::create_dir(&elsewhere).unwrap();
    let outside = elsewhere.to_string_lossy().into_owned();
    let workspace = scene.service.workspace().to_string_lossy().into_owned();
    for path in [outside.as_str(), "../../elsewhere", "/etc"] {
        let text = format!("kind = \"folder\"\npath = \"{path}\"\n");
        scene.service.write("connections/stray.toml", &text);
        let (code, _, errors) = scene.service.command(&["deploy", &workspace]);
        assert!(code == 1 && errors.contains("connections/stray.toml:2:") && errors.contains("--allow-folder"), "{errors}");
    }
    scene.service.write("connections/stray.toml", &format!("kind = \"folder\"\npath = \"{outside}\"\n"));
    scene.service.stop();
    scene.service.arguments.extend(["--allow-folder".to_owned(), outside]);
    scene.service.start().await;
    let (code, out, errors) = scene.service.command(&["connection", "test", "stray"]);
    assert!(code == 0, "{out}{errors}");
}
