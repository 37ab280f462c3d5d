//! A database of another version is refused; a damaged release does not hide others.

use wirewatch_core::workspace::{Files, digest};
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::{JournalError, PgJournal};
use wirewatch_testkit::Database;

#[tokio::test]
async fn a_damaged_release_hides_no_other() {
    let database = Database::new();
    let store = PgJournal::open(&database.url, "test").await.unwrap().store();
    let plain = Files::from([("workspace.toml".to_owned(), "text".to_owned())]);
    store.add_release(&digest(&plain).to_string(), &plain, "ada", "", SystemClock.now()).await.unwrap();
    database.run("insert into release (no, digest, files, at, by_whom, says) values (2, 'x', 'x', 0, 'nobody', '')").await;
    let all = store.releases(i64::MAX, 10).await.unwrap();
    let stored: Vec<_> = all.iter().map(|release| release.files.clone()).collect();
    assert_eq!(stored, [Some(plain), None]);
}

#[tokio::test]
async fn a_database_of_another_version_is_refused_and_stays_as_it_is() {
    let database = Database::new();
    drop(PgJournal::open(&database.url, "test").await.unwrap());
    let migrations = "select count(*) from seaql_migrations";
    let before = database.number(migrations).await;
    database.run("insert into seaql_migrations (version, applied_at) values ('m999_of_tomorrow', 0)").await;
    let error = PgJournal::open(&database.url, "test").await.unwrap_err();
    assert!(matches!(&error, JournalError::OtherVersion(steps) if steps == "m999_of_tomorrow"), "{error}");
    assert!(error.to_string().contains("use a new database"), "{error}");
    assert_eq!(database.number(migrations).await, before + 1, "nothing was added or taken away");
}

#[tokio::test]
async fn a_database_of_an_earlier_version_is_migrated_with_its_rows() {
    let database = Database::new();
    drop(PgJournal::open(&database.url, "test").await.unwrap());
    // As the first version left it.
    database.run("delete from seaql_migrations where version > 'm001_tables'").await;
    database.run("alter table bulk_act drop column release, drop column correction").await;
    database.run("alter table reason drop column first, drop column last").await;
    database.run("drop table assignment").await;
    database.run("drop index audit_subject").await;
    database.run("insert into audit values (1, 1, 'ada', 'freed', 7, ''), (2, 1, 'ada', 'resent', 7, '')").await;
    database
        .run(
            "insert into timeline values ('order', '', 'MF-1', 1, 'ended', 1, 2, ''), ('order', '', 'MF-2', 1, 'open', 1, 2, '')",
        )
        .await;
    database
        .run(
            "insert into reason values (7, 'orders', 'book', 'erp', 'refused', 'no'), (8, 'orders', 'book', '', 'refused', 'no')",
        )
        .await;
    for (id, at) in [(1, 50), (2, 40)] {
        database
            .run(&format!("insert into live values ({id}, 1, 1, 0, 1, 'orders', 1, 0, '', '', '', '', '', 'failed', 'book', 0, 0, '', 7, 'no', {at})"))
            .await;
    }
    let journal = PgJournal::open(&database.url, "test").await.unwrap();
    let seen = |id: i64| format!("select first * 1000 + last from reason where id = {id}");
    assert_eq!((database.number(&seen(7)).await, database.number(&seen(8)).await), (40_050, 0), "seen as long as its messages");
    assert!(journal.store().assignments().await.unwrap().is_empty());
    assert_eq!(database.number("select count(*) from timeline where state = 'done' and key = 'MF-1'").await, 1);
    assert_eq!(database.number("select count(*) from timeline where state = 'open'").await, 1);
    let acts = journal.store().audit_of(&[wirewatch_core::Id(7)]).await.unwrap();
    assert_eq!(acts.into_iter().map(|one| one.act).collect::<Vec<_>>(), ["resumed", "resent"], "in the words of the API");
    assert!(journal.store().bulk_acts(1).await.unwrap().is_empty(), "its rows can be read");
}
