//! Child processes that end with this process, however it ends.

use rustix::net::sockopt::set_socket_reuseaddr;
use rustix::net::{AddressFamily, SocketFlags, SocketType, bind, getsockname, socket_with};
use rustix::process::{Pid, Signal, kill_process};
use std::io;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::process::{Command, ExitStatus, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

/// A child that is killed when this process ends, even by `kill -9`.
///
/// The kernel does that (`PR_SET_PDEATHSIG`, set by `setpriv`). It watches the thread that started the child, so a dedicated
/// thread starts it and waits for its end.
#[derive(Debug)]
pub struct OwnedProcess {
    pid: Pid,
    ended: Receiver<io::Result<ExitStatus>>,
    status: Option<ExitStatus>,
}

impl OwnedProcess {
    /// Starts `program` with `arguments`. `on_death` is the signal sent to it when this process ends, e.g. `KILL`.
    ///
    /// `prepare` may set environment, folder and output.
    ///
    /// # Errors
    /// The system's; `NotFound` without `setpriv` (package util-linux).
    pub fn spawn(
        on_death: &str,
        program: &str,
        arguments: &[String],
        prepare: impl FnOnce(&mut Command) + Send + 'static,
    ) -> io::Result<Self> {
        let mut all = vec!["--pdeathsig".to_owned(), on_death.to_owned(), "--".to_owned(), program.to_owned()];
        all.extend_from_slice(arguments);
        Self::spawn_setpriv(all, prepare)
    }

    pub(crate) fn spawn_setpriv(arguments: Vec<String>, prepare: impl FnOnce(&mut Command) + Send + 'static) -> io::Result<Self> {
        let (started_out, started) = channel();
        let (ended_out, ended) = channel();
        std::thread::Builder::new().name("keeper".to_owned()).spawn(move || {
            let mut command = Command::new("setpriv");
            command.args(arguments).stdin(Stdio::null());
            prepare(&mut command);
            match command.spawn() {
                Err(error) => drop(started_out.send(Err(error))),
                Ok(mut child) => {
                    let _ = started_out.send(Ok(child.id()));
                    let _ = ended_out.send(child.wait());
                }
            }
        })?;
        let id = started.recv().map_err(|_| io::Error::other("the starting thread ended"))??;
        let pid = i32::try_from(id).ok().and_then(Pid::from_raw).ok_or_else(|| io::Error::other("no process id"))?;
        Ok(Self { pid, ended, status: None })
    }

    /// The process id.
    #[must_use]
    pub fn id(&self) -> i32 {
        self.pid.as_raw_nonzero().get()
    }

    /// Sends a signal; nothing when it has ended.
    pub fn signal(&mut self, signal: Signal) {
        if self.ended().is_none() {
            let _ = kill_process(self.pid, signal);
        }
    }

    /// Returns its exit status if it has ended.
    pub fn ended(&mut self) -> Option<ExitStatus> {
        if self.status.is_none() {
            self.status = self.ended.try_recv().ok().and_then(Result::ok);
        }
        self.status
    }

    /// Waits for its end, at most `limit`.
    pub fn wait(&mut self, limit: Duration) -> Option<ExitStatus> {
        if self.status.is_none() {
            self.status = self.ended.recv_timeout(limit).ok().and_then(Result::ok);
        }
        self.status
    }

    /// Asks it to end with `signal`, and kills it when it has not after `limit`.
    pub fn end(&mut self, signal: Signal, limit: Duration) {
        self.signal(signal);
        if self.wait(limit).is_none() {
            self.signal(Signal::KILL);
            self.wait(Duration::from_secs(5));
        }
    }
}

impl Drop for OwnedProcess {
    fn drop(&mut self) {
        self.end(Signal::KILL, Duration::from_secs(5));
    }
}

/// A port that nobody listens at just now.
///
/// # Errors
/// The system's.
pub fn free_port() -> io::Result<u16> {
    // Bound, and not listened at: a child that is started at this moment may have the socket for a little longer, and nobody
    // else could listen at the port meanwhile.
    let socket = socket_with(AddressFamily::INET, SocketType::STREAM, SocketFlags::CLOEXEC, None)?;
    set_socket_reuseaddr(&socket, true)?;
    bind(&socket, &SocketAddrV4::new(Ipv4Addr::LOCALHOST, 0))?;
    Ok(SocketAddrV4::try_from(getsockname(&socket)?)?.port())
}
