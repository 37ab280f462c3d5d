//! Runs a command with a private PostgreSQL server that ends with it: `with-postgres cargo test`.

use std::process::{Command, ExitCode};

fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let Some(program) = arguments.next() else {
        eprintln!("with-postgres: a command is needed");
        return ExitCode::from(2);
    };
    let (cluster, _folder) = wirewatch_testkit::private_cluster(false);
    let status = Command::new(program).args(arguments).env("WIREWATCH_TEST_POSTGRES", cluster.url("postgres")).status();
    match status {
        Ok(status) => ExitCode::from(u8::try_from(status.code().unwrap_or(1)).unwrap_or(1)),
        Err(error) => {
            eprintln!("with-postgres: {error}");
            ExitCode::FAILURE
        }
    }
}
