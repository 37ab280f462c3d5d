//! A stretch of network between two programs that a test cuts, and mends.

use std::net::SocketAddr;
use tokio::io::copy_bidirectional;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio::task::JoinHandle;

/// State of the network.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Line {
    Whole,
    /// Connections are closed, and new ones are closed at once.
    Cut,
}

/// A relay. When it is dropped, it accepts no more connections.
#[derive(Debug)]
pub struct Relay {
    /// Address to connect to.
    pub address: SocketAddr,
    line: watch::Sender<Line>,
    task: JoinHandle<()>,
}

impl Relay {
    /// Starts a relay to that address.
    ///
    /// # Panics
    /// When no port is free.
    pub async fn to(target: SocketAddr) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let address = listener.local_addr().expect("an address");
        let (line, state) = watch::channel(Line::Whole);
        let task = tokio::spawn(async move {
            while let Ok((mut near, _)) = listener.accept().await {
                let mut state = state.clone();
                tokio::spawn(async move {
                    if *state.borrow() == Line::Cut {
                        return;
                    }
                    let Ok(mut far) = TcpStream::connect(target).await else { return };
                    tokio::select! {
                        _ = copy_bidirectional(&mut near, &mut far) => {}
                        _ = state.wait_for(|line| *line == Line::Cut) => {}
                    }
                });
            }
        });
        Self { address, line, task }
    }

    /// Closes every connection, whatever it is doing, and every new one.
    pub fn cut(&self) {
        self.line.send_replace(Line::Cut);
    }

    /// Lets connections pass again.
    pub fn mend(&self) {
        self.line.send_replace(Line::Whole);
    }
}

impl Drop for Relay {
    fn drop(&mut self) {
        self.task.abort();
    }
}
