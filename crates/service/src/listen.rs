//! Takes connections and serves them. A caller that drips its headers, or says nothing, is let go.

use axum::Router;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::service::TowerToHyperService;
use std::io;
use std::time::Duration;
use tokio::net::TcpListener;

/// How long the head of a request may take to come, and how long a connection may stand idle between two.
const HEAD: Duration = Duration::from_secs(10);
/// The pause when the system gives no more connections, such as when too many files are open.
const PAUSE: Duration = Duration::from_millis(200);

/// Serves until the task is dropped.
///
/// # Errors
/// The listener's, when it has failed for good.
pub async fn serve(listener: TcpListener, router: Router) -> io::Result<()> {
    let service = TowerToHyperService::new(router);
    loop {
        let stream = match listener.accept().await {
            Ok((stream, _)) => stream,
            Err(error) if passes(&error) => {
                tracing::warn!(%error, "no connection can be taken at present");
                tokio::time::sleep(PAUSE).await;
                continue;
            }
            Err(error) => return Err(error),
        };
        // Answers are small and come at once; waiting for more to send would only make them late.
        let _ = stream.set_nodelay(true);
        let service = service.clone();
        tokio::spawn(async move {
            let mut builder = Builder::new(TokioExecutor::new()).http1_only();
            builder.http1().timer(TokioTimer::new()).header_read_timeout(HEAD);
            // A caller that breaks off or speaks something else is no trouble of ours.
            let _ = builder.serve_connection(TokioIo::new(stream), service).await;
        });
    }
}

/// Whether the next connection may be taken all the same.
fn passes(error: &io::Error) -> bool {
    use io::ErrorKind::{ConnectionAborted, ConnectionRefused, ConnectionReset, Interrupted, WouldBlock};
    // Too many open files, of this process or of the system (accept(2)).
    const FULL: [i32; 2] = [23, 24];
    matches!(error.kind(), ConnectionAborted | ConnectionRefused | ConnectionReset | Interrupted | WouldBlock)
        || error.raw_os_error().is_some_and(|code| FULL.contains(&code))
}
