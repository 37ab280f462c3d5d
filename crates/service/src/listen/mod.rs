//! Takes connections and serves them, each with limits of time, all with a limit of number.
//!
//! | a client that | is |
//! |---|---|
//! | sends its headers slower than ten seconds, or is idle that long | disconnected |
//! | does not read what it asked for | disconnected after thirty seconds without progress |
//! | is one too many | served; the one that has proved least is disconnected ([`clients`]) |

mod clients;

pub use clients::Client;

use axum::Router;
use axum::http::Request;
use clients::Clients;
use hyper::body::Incoming;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::service::TowerToHyperService;
use std::io;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::task::JoinSet;
use tokio_io_timeout::TimeoutWriter;
use tower::ServiceExt;

/// Longest time for receiving the head of a request, and for an idle connection between two requests.
const HEAD: Duration = Duration::from_secs(10);
/// Longest time without progress while a client reads its response.
const UNREAD: Duration = Duration::from_secs(30);
/// The pause when the system gives no more connections, such as when too many files are open.
const PAUSE: Duration = Duration::from_millis(200);

/// Serves at most `most` connections at a time. Dropping this ends them all.
///
/// # Errors
/// The listener's, when it has failed for good.
pub async fn serve(listener: &TcpListener, router: Router, most: usize) -> io::Result<()> {
    let clients = Arc::new(Clients::new(most));
    let mut serving = JoinSet::new();
    loop {
        while serving.try_join_next().is_some() {}
        let stream = match listener.accept().await {
            Ok((stream, _)) => stream,
            Err(error) if passes(&error) => {
                tracing::warn!(%error, "no connection can be accepted at present");
                tokio::time::sleep(PAUSE).await;
                continue;
            }
            Err(error) => return Err(error),
        };
        let Some(client) = clients.admit() else {
            tracing::warn!(most, "a connection was refused: the limit is reached, and all open ones are in use");
            continue;
        };
        // Answers are small and come at once; waiting for more to send would only make them late.
        let _ = stream.set_nodelay(true);
        let handle = client.handle();
        let service = router.clone().map_request(move |mut request: Request<Incoming>| {
            request.extensions_mut().insert(handle.clone());
            request
        });
        let service = TowerToHyperService::new(service);
        serving.spawn(async move {
            let mut builder = Builder::new(TokioExecutor::new()).http1_only();
            builder.http1().timer(TokioTimer::new()).header_read_timeout(HEAD);
            let mut stream = TimeoutWriter::new(stream);
            stream.set_timeout(Some(UNREAD));
            let stream = Box::pin(stream);
            tokio::select! {
                // A client that breaks off or speaks another protocol is not an error of the service.
                _ = builder.serve_connection(TokioIo::new(stream), service) => {}
                () = client.cut() => {}
            }
        });
    }
}

/// Returns whether accepting connections can continue after this error.
fn passes(error: &io::Error) -> bool {
    use io::ErrorKind::{ConnectionAborted, ConnectionRefused, ConnectionReset, Interrupted, WouldBlock};
    // Too many open files, of this process or of the system (accept(2)).
    const FULL: [i32; 2] = [23, 24];
    matches!(error.kind(), ConnectionAborted | ConnectionRefused | ConnectionReset | Interrupted | WouldBlock)
        || error.raw_os_error().is_some_and(|code| FULL.contains(&code))
}

/// Returns the default limit of connections: half of the files that this process may open, after raising that limit as far as the
/// system allows. The other half is for the database, links and files.
#[must_use]
pub fn most_connections() -> usize {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    /// More than one process has a use for.
    const FILES: u64 = 65_536;
    let limit = getrlimit(Resource::Nofile);
    let wanted = limit.maximum.map_or(FILES, |maximum| maximum.min(FILES));
    if limit.current.is_some_and(|current| current < wanted) {
        // Refused, the limit stays as it is, which is read below.
        let _ = setrlimit(Resource::Nofile, Rlimit { current: Some(wanted), maximum: limit.maximum });
    }
    let files = getrlimit(Resource::Nofile).current.unwrap_or(FILES).min(FILES);
    (files / 2).clamp(16, 10_000) as usize
}
