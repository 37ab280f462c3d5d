//! Runs a command with a private PostgreSQL server and a private broker that end with it: `with-servers cargo test`.

use std::process::{Command, ExitCode};
use wirewatch_testkit::{ADMIN_URL, BROKER, private_broker, private_cluster};

fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let Some(program) = arguments.next() else {
        eprintln!("with-servers: a command is needed");
        return ExitCode::from(2);
    };
    let broker = std::thread::spawn(private_broker);
    let (cluster, _folder) = private_cluster(false);
    let Ok((broker, _broker_folder)) = broker.join() else { return ExitCode::FAILURE };
    let (user, password) = broker.user();
    let address = format!("{} {user} {password}", broker.address());
    let mut command = Command::new(program);
    let status = command.args(arguments).env(ADMIN_URL, cluster.url("postgres")).env(BROKER, address).status();
    match status {
        Ok(status) => ExitCode::from(u8::try_from(status.code().unwrap_or(1)).unwrap_or(1)),
        Err(error) => {
            eprintln!("with-servers: {error}");
            ExitCode::FAILURE
        }
    }
}
