//! A database whose user cannot enter the requested folder.

use rustix::process::geteuid;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use wirewatch_loopback::{Cluster, Options, moved};

#[test]
fn data_that_cannot_lie_where_it_was_asked_for_lies_elsewhere_and_is_found_again() {
    // Like root's own home: no other user can enter it.
    let home = tempfile::tempdir().unwrap();
    fs::set_permissions(home.path(), fs::Permissions::from_mode(0o700)).unwrap();
    let folder = home.path().join("shop/state/postgres");
    let start = || Cluster::start(Options { folder: folder.clone(), port: None, durable: false }).unwrap();
    let first = start();
    first.create_database("orders").unwrap();
    let lies = first.folder().to_owned();
    drop(first);
    // PostgreSQL runs as another user only when we are root.
    if geteuid().is_root() {
        assert!(!lies.starts_with(home.path()), "{}", lies.display());
        assert!(lies.file_name().unwrap().to_string_lossy().ends_with("shop-state-postgres"), "{}", lies.display());
        assert_eq!(moved(&folder).as_deref(), Some(&*lies));
    } else {
        assert_eq!((lies.as_path(), moved(&folder)), (&*folder, None));
    }
    let again = start();
    assert_eq!(again.folder(), lies);
    let url = again.url("orders");
    again.create_database("orders").unwrap();
    assert!(url.ends_with("/orders"));
    drop(again);
    // Another folder of the same name has its own location.
    let other = Cluster::start(Options { folder: folder.with_file_name("other"), port: None, durable: false }).unwrap();
    assert_ne!(other.folder(), lies);
    let others = other.folder().to_owned();
    drop(other);
    for place in [lies, others] {
        fs::remove_dir_all(place).unwrap();
    }
}
