//! A database restored from a backup never has a number given out twice.

use crate::scene::Scene;
use std::collections::BTreeSet;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::{Database, eventually};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn after_a_restore_nothing_goes_out_until_a_person_says_so() {
    let database = Database::new();
    let mut scene = Scene::open_on(&database).await;
    for _ in 0..3 {
        scene.send(1, Flaw::None);
    }
    scene.quiet(3).await;
    scene.service.stop();
    // The state of a backup made after the first acknowledgment.
    database.run("update counter set value = 1; delete from ledger where direction = 'out' and control > '000000001'").await;
    scene.service.launch();
    eventually("it gives up", || std::future::ready(scene.service.has_ended().then_some(()))).await;
    let logged = scene.service.logged();
    let reported = logged.lines().last().unwrap_or_default();
    assert!(reported.contains("the database is older than what was sent") && reported.contains("--accept-restore"), "{logged}");
    assert!(reported.contains("is at 1, but 3 was used"), "{reported}");
    scene.service.arguments = vec!["--accept-restore".to_owned()];
    scene.service.start().await;
    scene.send(1, Flaw::None);
    scene.quiet(4).await;
    let numbers: BTreeSet<String> = scene.acknowledged().into_iter().map(|one| one.control).collect();
    let expected: BTreeSet<String> = (1..=4).map(|n| format!("{n:09}")).collect();
    assert_eq!(numbers, expected, "it went on behind what was given out");
    // One report is enough: the next start finds nothing wrong.
    scene.service.stop();
    scene.service.arguments.clear();
    scene.service.start().await;
    scene.send(1, Flaw::None);
    scene.quiet(5).await;
}
