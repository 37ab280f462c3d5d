//! Checks that every protocol keeps the contract of `Links`.

use axum::Router;
use axum::http::StatusCode;
use axum::routing::post;
use std::net::TcpListener;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use wirewatch_core::broker::Broker;
use wirewatch_core::connection::{Auth, AuthMethod, Connection, ConnectionKind, Http, RepeatRule};
use wirewatch_core::flow::Method;
use wirewatch_core::machine::{Effect, Post};
use wirewatch_links::{Outside, Secrets};
use wirewatch_testkit::TestBroker;
use wirewatch_testkit::conformance::{Case, Trial, conforms};

#[derive(Debug)]
struct Password(String);

impl Secrets for Password {
    fn newest(&self, _: &str) -> Option<String> {
        Some(self.0.clone())
    }
}

fn connection(kind: ConnectionKind) -> Connection {
    Connection {
        name: "there".into(),
        title: "There".into(),
        kind,
        repeat: RepeatRule::Safe,
        in_flight: 1,
        per_minute: None,
        page: None,
        notes: String::new(),
    }
}

fn call(path: &str) -> Effect {
    Effect::Call { connection: "there".into(), method: Method::Post, path: path.into(), body: Some("{}".into()) }
}

fn file() -> Effect {
    Effect::Send { connection: "there".into(), file: "a.txt".into(), body: "x".into() }
}

/// An address where nobody listens.
fn nobody() -> String {
    let free = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    free.to_string()
}

struct OfFolder(tempfile::TempDir);

impl OfFolder {
    fn at(&self, path: &str) -> Connection {
        let path = self.0.path().join(path).display().to_string();
        connection(ConnectionKind::Folder { path, settle: Duration::ZERO })
    }
}

impl Trial for OfFolder {
    fn well(&self) -> Case {
        (self.at("out"), file())
    }
    fn nobody(&self) -> Case {
        (self.at("missing"), file())
    }
    fn refused(&self) -> Option<Case> {
        None
    }
    fn foreign(&self) -> Case {
        (self.at("out"), call("/"))
    }
    async fn taken(&self) -> usize {
        std::fs::read_dir(self.0.path().join("out")).unwrap().count()
    }
}

#[tokio::test]
async fn folders_keep_what_links_promise() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("out")).unwrap();
    let outside = Outside::new(
        wirewatch_links::folder::Roots::new(PathBuf::new(), vec![PathBuf::from("/")]),
        Arc::new(Password(String::new())),
    );
    conforms(&outside, &OfFolder(folder)).await;
}

struct OfHttp {
    address: String,
    calls: Arc<AtomicUsize>,
}

impl OfHttp {
    fn at(address: &str) -> Connection {
        let http = Http { address: format!("http://{address}"), timeout: Duration::from_secs(5), ..Http::default() };
        connection(ConnectionKind::Http(Box::new(http)))
    }
}

impl Trial for OfHttp {
    fn well(&self) -> Case {
        (Self::at(&self.address), call("/orders"))
    }
    fn nobody(&self) -> Case {
        (Self::at(&nobody()), call("/orders"))
    }
    fn refused(&self) -> Option<Case> {
        Some((Self::at(&self.address), call("/refused")))
    }
    fn foreign(&self) -> Case {
        (Self::at(&self.address), file())
    }
    async fn taken(&self) -> usize {
        self.calls.load(Ordering::SeqCst)
    }
}

#[tokio::test]
async fn servers_keep_what_links_promise() {
    let calls = Arc::new(AtomicUsize::new(0));
    let counted = calls.clone();
    let router = Router::new()
        .route("/orders", post(async move || counted.fetch_add(1, Ordering::SeqCst).to_string()))
        .route("/refused", post(async || (StatusCode::UNPROCESSABLE_ENTITY, "not like this")));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap().to_string();
    tokio::spawn(async move { axum::serve(listener, router).await });
    let outside = Outside::new(
        wirewatch_links::folder::Roots::new(PathBuf::new(), vec![PathBuf::from("/")]),
        Arc::new(Password(String::new())),
    );
    conforms(&outside, &OfHttp { address, calls }).await;
}

struct OfBroker(TestBroker);

impl OfBroker {
    fn at(&self, address: &str) -> Connection {
        let with = AuthMethod::Plain { user: self.0.user.clone() };
        let broker = Broker {
            address: address.to_owned(),
            timeout: Duration::from_secs(5),
            auth: Some(Auth { secret: "broker".into(), with }),
            queues: Vec::new(),
            exchanges: Vec::new(),
        };
        connection(ConnectionKind::Amqp(Box::new(broker)))
    }

    fn to(&self, queue: &str) -> Effect {
        let post = Post { routing_key: self.0.name(queue), content_type: "application/json", ..Post::default() };
        Effect::Publish { connection: "there".into(), post: Box::new(post), body: "{}".into() }
    }
}

impl Trial for OfBroker {
    fn well(&self) -> Case {
        (self.at(&self.0.address), self.to("here"))
    }
    fn nobody(&self) -> Case {
        (self.at(&format!("amqp://{}", nobody())), self.to("here"))
    }
    fn refused(&self) -> Option<Case> {
        Some((self.at(&self.0.address), self.to("not-there")))
    }
    fn foreign(&self) -> Case {
        (self.at(&self.0.address), call("/"))
    }
    async fn taken(&self) -> usize {
        self.0.depth("here").await.0 as usize
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn brokers_keep_what_links_promise() {
    let broker = TestBroker::open().await;
    broker.queue("here", None).await;
    let outside = Outside::new(
        wirewatch_links::folder::Roots::new(PathBuf::new(), vec![PathBuf::from("/")]),
        Arc::new(Password(broker.password.clone())),
    );
    conforms(&outside, &OfBroker(broker)).await;
}
