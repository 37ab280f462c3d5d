//! Files written for others to collect, and every fault of a folder.

use std::fs;
use std::path::Path;
use wirewatch_core::Digest;
use wirewatch_core::connection::{Connection, ConnectionKind, RepeatRule};
use wirewatch_core::flow::Method;
use wirewatch_core::machine::{Effect, Outcome, Work};
use wirewatch_engine::Links;
use wirewatch_links::Outside;
use wirewatch_links::folder::{move_away, test, write};

fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> =
        fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

fn held(outcome: &Outcome) -> &str {
    match outcome {
        Outcome::Held { says, status: 0 } => says,
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn a_file_is_there_whole_and_alone() {
    let folder = tempfile::tempdir().unwrap();
    assert!(matches!(write(folder.path(), "997-1.edi", b"ISA~").await, Outcome::Answer { status: 0, .. }));
    assert_eq!(names(folder.path()), ["997-1.edi"], "no half file is left beside it");
    assert_eq!(fs::read(folder.path().join("997-1.edi")).unwrap(), b"ISA~");
}

#[tokio::test]
async fn the_same_file_again_changes_nothing_and_a_half_one_of_before_is_no_harm() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join(".997-1.edi.part"), "left by a crash, and longer than the file itself").unwrap();
    for _ in 0..2 {
        assert!(matches!(write(folder.path(), "997-1.edi", b"ISA~").await, Outcome::Answer { .. }));
        assert_eq!(fs::read(folder.path().join("997-1.edi")).unwrap(), b"ISA~");
    }
    assert_eq!(names(folder.path()), ["997-1.edi"]);
}

#[tokio::test]
async fn a_folder_that_is_not_there_is_reported_with_what_to_do() {
    let folder = tempfile::tempdir().unwrap();
    let outcome = write(&folder.path().join("gone"), "a", b"x").await;
    assert_eq!(held(&outcome), "the folder does not exist; create it or correct the path");
}

#[tokio::test]
async fn a_file_where_the_folder_should_be_holds_the_connection() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("file"), "").unwrap();
    let outcome = write(&folder.path().join("file"), "a", b"x").await;
    assert!(held(&outcome).to_lowercase().contains("not a directory"), "{outcome:?}");
}

#[tokio::test]
async fn a_folder_where_the_file_should_be_fails_that_message_and_leaves_nothing_half() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("997-1.edi")).unwrap();
    let outcome = write(folder.path(), "997-1.edi", b"ISA~").await;
    assert!(matches!(&outcome, Outcome::Refused { says, .. } if says.contains("is a folder there")), "{outcome:?}");
    assert_eq!(names(folder.path()), ["997-1.edi"]);
}

#[tokio::test]
async fn a_name_that_the_system_does_not_take_fails_that_message_and_a_long_one_is_written() {
    let folder = tempfile::tempdir().unwrap();
    let (longest, longer) = ("x".repeat(255), "x".repeat(256));
    for name in ["", ".", "..", "a/b", "/etc/x", "a\0b", &longer] {
        let outcome = write(folder.path(), name, b"ISA~").await;
        assert!(matches!(outcome, Outcome::Refused { .. }), "{name:?}: {outcome:?}");
    }
    assert!(matches!(write(folder.path(), &longest, b"ISA~").await, Outcome::Answer { .. }));
    assert_eq!(names(folder.path()), [longest]);
}

#[tokio::test]
async fn a_full_disk_holds_the_connection_and_takes_no_room() {
    // A device that has no room left, ever.
    let folder = tempfile::tempdir().unwrap();
    std::os::unix::fs::symlink("/dev/full", folder.path().join(".997-1.edi.part")).unwrap();
    let outcome = write(folder.path(), "997-1.edi", b"ISA~").await;
    assert_eq!(held(&outcome), "the disk is full; make room");
    assert_eq!(names(folder.path()), Vec::<String>::new(), "nothing half is left");
}

#[tokio::test]
async fn a_test_leaves_no_trace() {
    let folder = tempfile::tempdir().unwrap();
    assert!(test(folder.path()).await.unwrap().ends_with("can be read and written"));
    assert_eq!(names(folder.path()), Vec::<String>::new());
    let gone = folder.path().join("gone");
    assert_eq!(
        test(&gone).await.unwrap_err(),
        format!("{}: the folder does not exist; create it or correct the path", gone.display())
    );
}

#[test]
fn a_move_keeps_both_files_where_names_meet() {
    let folder = tempfile::tempdir().unwrap();
    let (from, to) = (folder.path().join("from"), folder.path().join("to"));
    fs::write(&from, "1").unwrap();
    move_away(&from, &to).unwrap();
    fs::write(&from, "2").unwrap();
    assert!(move_away(&from, &to).is_err());
    assert_eq!((fs::read(&from).unwrap(), fs::read(&to).unwrap()), (b"2".to_vec(), b"1".to_vec()));
}

#[derive(Debug)]
struct NoSecrets;

impl wirewatch_links::Secrets for NoSecrets {
    fn newest(&self, _: &str) -> Option<String> {
        None
    }
}

#[tokio::test]
async fn an_effect_that_a_connection_cannot_do_holds_it_in_words() {
    let folder = tempfile::tempdir().unwrap();
    let connection = |kind| Connection {
        name: "there".into(),
        title: "There".into(),
        kind,
        repeat: RepeatRule::Safe,
        in_flight: 1,
        per_minute: None,
        page: None,
        notes: String::new(),
    };
    let work =
        |effect| Work { step: "s".into(), generation: 0, effect, request: Digest::default(), key: Digest::default(), once: None };
    let outside =
        Outside::new(wirewatch_links::folder::Roots::new(folder.path().to_owned(), Vec::new()), std::sync::Arc::new(NoSecrets));
    let dir = connection(ConnectionKind::Folder { path: "out".into(), settle: std::time::Duration::ZERO });
    let call = work(Effect::Call { connection: "there".into(), method: Method::Get, path: "/".into(), body: None });
    assert!(held(&outside.perform(&dir, &call).await).contains("cannot do this"));
    fs::create_dir(folder.path().join("out")).unwrap();
    let send = work(Effect::Send { connection: "there".into(), file: "a.edi".into(), body: "x".into() });
    assert!(matches!(outside.perform(&dir, &send).await, Outcome::Answer { .. }), "relative paths start at the service's files");
    assert_eq!(names(&folder.path().join("out")), ["a.edi"]);
}
