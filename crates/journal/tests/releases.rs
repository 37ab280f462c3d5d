//! Releases as they are kept: nothing in them but a workspace, and a damaged one hides no other.

use wirewatch_core::workspace::{Files, digest};
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::PgJournal;
use wirewatch_testkit::Database;

fn files(paths: &[&str]) -> Files {
    paths.iter().map(|path| ((*path).to_owned(), "text".to_owned())).collect()
}

#[tokio::test]
async fn a_state_folder_that_was_released_once_is_taken_out() {
    let database = Database::new();
    let store = PgJournal::open(&database.url, "test").await.unwrap().store();
    let with_state = files(&["workspace.toml", "maps/a.toml", "state/secrets.key", "samples/token.json"]);
    let plain = files(&["workspace.toml", "maps/a.toml"]);
    for kept in [&with_state, &plain] {
        store.add_release(&digest(kept).to_string(), kept, "ada", "", SystemClock.now()).await.unwrap();
    }
    database.run("insert into release (no, digest, files, at, by_whom, says) values (3, 'x', 'x', 0, 'nobody', '')").await;
    database.run("delete from seaql_migrations where version = 'm013_known_files'").await;
    let store = PgJournal::open(&database.url, "test").await.unwrap().store();
    let all = store.releases(i64::MAX, 10).await.unwrap();
    let kept: Vec<_> = all.iter().map(|release| release.files.clone()).collect();
    assert_eq!(kept, [Some(plain.clone()), Some(plain.clone()), None]);
    assert_eq!(all[0].digest, digest(&plain).to_string(), "it is known again by what it has now");
}
