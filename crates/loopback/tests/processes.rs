//! Children end with the process that started them; servers are found, started and stopped.

use rustix::process::{Pid, Signal, test_kill_process};
use std::io::{BufRead, BufReader, Write};
use std::process::Stdio;
use std::time::{Duration, Instant};
use wirewatch_loopback::{OwnedProcess, free_port};

fn alive(id: i32) -> bool {
    Pid::from_raw(id).is_some_and(|pid| test_kill_process(pid).is_ok())
}

fn shell(script: &str) -> OwnedProcess {
    OwnedProcess::spawn("KILL", "sh", &["-c".to_owned(), script.to_owned()], |_| {}).unwrap()
}

#[test]
fn a_child_that_ends_is_reported_with_its_code() {
    let mut child = shell("exit 7");
    assert_eq!(child.wait(Duration::from_secs(10)).and_then(|status| status.code()), Some(7));
    assert_eq!(child.ended().and_then(|status| status.code()), Some(7), "and again when asked later");
    // Its process id may belong to another process by now.
    child.signal(Signal::KILL);
}

#[test]
fn a_child_is_asked_to_end_and_killed_when_it_does_not() {
    let (ready, writer) = std::io::pipe().unwrap();
    let script = "trap 'exit 3' TERM; echo ready; while :; do sleep 0.01; done";
    let mut polite = OwnedProcess::spawn("KILL", "sh", &["-c".to_owned(), script.to_owned()], |command| {
        command.stdout(writer);
    })
    .unwrap();
    BufReader::new(ready).read_line(&mut String::new()).unwrap();
    polite.end(Signal::TERM, Duration::from_secs(10));
    assert_eq!(polite.ended().and_then(|status| status.code()), Some(3));
    let mut deaf = shell("trap '' TERM; while :; do sleep 0.01; done");
    let begun = Instant::now();
    deaf.end(Signal::TERM, Duration::from_millis(200));
    assert!(deaf.ended().is_some() && begun.elapsed() < Duration::from_secs(5));
}

#[test]
fn a_child_does_not_outlive_its_owner() {
    let child = shell("sleep 600");
    let id = child.id();
    assert!(alive(id));
    drop(child);
    assert!(!alive(id));
}

#[test]
fn a_program_that_is_not_there_is_an_error_or_ends_at_once() {
    let started = OwnedProcess::spawn("KILL", "no-such-program-anywhere", &[], |command| {
        command.stderr(Stdio::null());
    });
    match started {
        Ok(mut child) => assert!(!child.wait(Duration::from_secs(10)).expect("it ends").success()),
        Err(error) => assert_eq!(error.kind(), std::io::ErrorKind::NotFound),
    }
}

#[test]
fn a_free_port_can_be_listened_at() {
    let port = free_port().unwrap();
    let listener = std::net::TcpListener::bind(("127.0.0.1", port)).unwrap();
    std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        stream.write_all(b"here\n").unwrap();
    });
    let stream = std::net::TcpStream::connect(("127.0.0.1", port)).unwrap();
    let mut line = String::new();
    BufReader::new(stream).read_line(&mut line).unwrap();
    assert_eq!(line, "here\n");
}
