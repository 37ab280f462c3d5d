//! A service with its partner and its order system, and functions that tests share.

use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Mutex;
use std::time::Duration;
use wirewatch_standins::chat::Chat;
use wirewatch_standins::marrowfield::{Acknowledged, Flaw, Marrowfield, Sent, acknowledgments, drop_file};
use wirewatch_standins::order_system::OrderSystem;
use wirewatch_standins::warehouse::{self, Bus};
use wirewatch_testkit::{Database, Service, TestBroker, eventually};

/// The whole scene. The order system lives on when the service is killed.
pub struct Scene {
    pub service: Service,
    pub orders: OrderSystem,
    pub chat: Chat,
    pub marrowfield: Marrowfield,
    pub sent: Vec<Sent>,
    /// Secret of the web shop's signatures; empty until it is set.
    pub shop_secret: String,
    pub broker: TestBroker,
}

pub fn demo() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/workspace")
}

/// Serves on a free port until the test ends; returns the address.
async fn serve(router: axum::Router) -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move { axum::serve(listener, router).await });
    address
}

impl Scene {
    /// A scene with its own database, started.
    pub async fn open() -> Self {
        Self::open_on(&Database::new()).await
    }

    pub async fn open_on(database: &Database) -> Self {
        Self::open_with(database, TestBroker::open().await).await
    }

    /// A started scene with a broker of its own, for tests that stop the broker.
    pub async fn open_with(database: &Database, broker: TestBroker) -> Self {
        let mut scene = Self::prepare_with(database, broker).await;
        scene.service.start().await;
        scene.shop_secret = scene.service.secret("shop-signing").await;
        let password = json!({ "value": scene.broker.password });
        scene.service.put("/api/secrets/warehouse-bus", &password).await;
        scene
    }

    /// A scene whose service is not started yet.
    pub async fn prepare(database: &Database) -> Self {
        Self::prepare_with(database, TestBroker::open().await).await
    }

    async fn prepare_with(database: &Database, broker: TestBroker) -> Self {
        let orders = OrderSystem::default();
        let address = serve(orders.router()).await;
        let chat = Chat::default();
        let service = Service::new(database, &demo(), &address);
        service.change(
            "connections/chat.toml",
            "address = \"http://127.0.0.1:7815\"",
            &format!("address = \"{}\"", serve(chat.router()).await),
        );
        // Notifications of incidents are not counted by tests.
        for file in ["flows/alerts.toml", "connections/incidents.toml"] {
            std::fs::remove_file(service.workspace().join(file)).unwrap();
        }
        // Tests fail soon rather than late.
        service.change("flows/partner-orders.toml", "first = \"1s\", longest = \"1m\"", "first = \"100ms\", longest = \"1s\"");
        service.change("connections/marrowfield-drop.toml", "\"3s\"", "\"300ms\"");
        // Its queues at the shared broker have their own names; they are not replicated, because there are many and they are
        // short-lived.
        service.change("connections/warehouse.toml", "amqp://127.0.0.1:7814", &broker.address);
        service.change("connections/warehouse.toml", "[[queue]]", "[[queue]]\nreplicated = false");
        for queue in ["orders-released", "picks", "shipments"] {
            let own = broker.name(queue);
            service.change("connections/warehouse.toml", &format!("\"{queue}"), &format!("\"{own}"));
            let quoted = (format!("\"{queue}\""), format!("\"{own}\""));
            for flow in ["flows/picks.toml", "flows/shipments.toml", "flows/moved-dates.toml"] {
                let text = std::fs::read_to_string(service.workspace().join(flow)).unwrap();
                service.write(flow, &text.replace(&quoted.0, &quoted.1));
            }
        }
        let announced = format!("\"{} picks.", broker.name("picks"));
        service.change("cases/pick-announced/expect.json", "\"picks picks.", &announced);
        let keys = broker.name("picks.#");
        service.change("connections/warehouse.toml", &format!("\"{keys}\""), "\"picks.#\"");
        let (marrowfield, sent, shop_secret) = (Marrowfield::new(7, 100, 1000), Vec::new(), String::new());
        Self { service, orders, chat, marrowfield, sent, shop_secret, broker }
    }

    /// Waits until every queue is known, and those of intakes are being read.
    pub async fn queues_known(&self) {
        eventually("the queues are known", || async {
            let all = self.service.get("/api/connections").await?;
            let warehouse = all.as_array()?.iter().find(|one| one["name"] == "warehouse")?.clone();
            let known = |queue: &Value| queue["messages"].is_number() && queue["listening"] != "stopped";
            let taken = |queue: &Value| queue["listening"] == "no" || queue["consumers"] == 1;
            warehouse["queues"].as_array()?.iter().all(|queue| known(queue) && taken(queue)).then_some(())
        })
        .await;
    }

    /// Lets the order system release what the shop sold to the warehouse, which packs it.
    pub fn open_warehouse(&self) -> Warehouse {
        let TestBroker { address, user, password, .. } = &self.broker;
        let bus = Bus { address: address.clone(), user: user.clone(), password: password.clone(), prefix: self.broker.name("") };
        let releasing = tokio::spawn(warehouse::release(bus.clone(), self.orders.clone(), 0, |_| {}));
        Warehouse { tasks: [releasing, tokio::spawn(warehouse::pack(bus, Duration::ZERO))] }
    }

    fn folder(&self, name: &str) -> PathBuf {
        let folder = self.service.files().join("marrowfield").join(name);
        std::fs::create_dir_all(&folder).unwrap();
        folder
    }

    /// Drops an interchange.
    pub fn send(&mut self, orders: usize, flaw: Flaw) -> Sent {
        let sent = self.marrowfield.interchange_of(orders, flaw);
        self.drop(&format!("po-{:06}.edi", sent.control), sent.text.as_bytes());
        self.sent.push(sent.clone());
        sent
    }

    /// The folder for the partner's files.
    pub fn drop_folder(&self) -> PathBuf {
        self.folder("to-us")
    }

    pub fn drop(&self, name: &str, bytes: &[u8]) {
        drop_file(&self.folder("to-us"), name, bytes).unwrap();
    }

    /// The acknowledgments that lie in the collect folder.
    pub fn acknowledged(&self) -> Vec<Acknowledged> {
        acknowledgments(&self.folder("to-them")).unwrap()
    }

    /// Waits for an arrival by file name; returns its verdict and note.
    pub async fn verdict(&self, name: &str) -> (String, String) {
        let arrival = self.arrival(name).await;
        (arrival["verdict"].as_str().unwrap().to_owned(), arrival["says"].as_str().unwrap().to_owned())
    }

    /// Waits for an arrival by file name, split.
    pub async fn arrival(&self, name: &str) -> Value {
        eventually(&format!("{name} arrives"), || async {
            let page = self.service.get("/api/arrivals?limit=1000").await?;
            let found = page["arrivals"].as_array()?.iter().find(|arrival| arrival["name"] == name)?.clone();
            (found["verdict"] != "splitting").then_some(found)
        })
        .await
    }

    /// Waits until so many orders are booked and no message is unfinished.
    pub async fn quiet(&self, booked: usize) {
        let last = Mutex::new(Value::Null);
        let what = || {
            let (orders, log, last) = (self.orders.summary(), self.service.logged(), last.lock().unwrap());
            format!("{booked} orders booked and nothing unfinished; {orders:?}\n{log}\nunfinished at last: {last}")
        };
        eventually(what, || async {
            // Counted first: a status from before the orders arrived has nothing unfinished either.
            let enough = self.orders.summary().booked >= booked;
            let status = self.service.get("/api/status").await?;
            *last.lock().unwrap() = status["unfinished"].clone();
            let quiet = status["unfinished"].as_object()?.keys().all(|state| state == "failed");
            (enough && quiet).then_some(())
        })
        .await;
    }

    /// Every message of a flow.
    pub async fn messages(&self, query: &str) -> Vec<Value> {
        let mut all = Vec::new();
        let mut before = String::new();
        loop {
            let path = format!("/api/messages?limit=1000&before={before}&{query}");
            let page = eventually("messages are listed", || self.service.get(&path)).await;
            all.extend(page["messages"].as_array().unwrap().iter().cloned());
            match page["next"].as_str() {
                Some(next) => next.clone_into(&mut before),
                None => return all,
            }
        }
    }

    /// Checks the promises after any fault: every order sent is booked once, every group acknowledged once, every number used
    /// once.
    pub fn assert_all_once(&self) {
        let mut expected: Vec<String> = self.sent.iter().flat_map(|sent| sent.orders.clone()).collect();
        let mut booked = self.orders.references();
        expected.sort();
        booked.sort();
        assert_eq!(booked, expected, "every order is booked exactly once");
        let acknowledged = self.acknowledged();
        let mut groups: BTreeMap<String, usize> = BTreeMap::new();
        let mut numbers: BTreeMap<String, usize> = BTreeMap::new();
        for one in &acknowledged {
            *groups.entry(one.group.clone()).or_default() += 1;
            *numbers.entry(one.control.clone()).or_default() += 1;
        }
        let expected: BTreeMap<String, usize> = self.sent.iter().map(|sent| (sent.control.to_string(), 1)).collect();
        assert_eq!(groups, expected, "every group has exactly one acknowledgment");
        assert!(numbers.values().all(|times| *times == 1), "no control number is used twice: {numbers:?}");
        let highest = numbers.keys().filter_map(|number| number.parse::<usize>().ok()).max().unwrap_or(0);
        assert_eq!(highest, acknowledged.len(), "no control number is left out");
    }
}

/// A warehouse at work; dropped, it closes.
pub struct Warehouse {
    tasks: [tokio::task::JoinHandle<()>; 2],
}

impl Drop for Warehouse {
    fn drop(&mut self) {
        self.tasks.iter().for_each(tokio::task::JoinHandle::abort);
    }
}

/// A short wait for what must not happen.
pub async fn a_moment() {
    tokio::time::sleep(Duration::from_millis(300)).await;
}

/// The project's folder.
pub fn root() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().expect("the project")
}

/// Exit code, standard output and standard error of a command of the client, with a text on its standard input.
pub fn client(arguments: &[&str], input: &str) -> (i32, String, String) {
    let mut child = Command::new(env!("CARGO_BIN_EXE_wirewatch"))
        .args(arguments)
        .current_dir(root())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the program starts");
    // The process may end before it has read everything.
    let _ = child.stdin.take().expect("piped").write_all(input.as_bytes());
    let done = child.wait_with_output().expect("it ends");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("text");
    (done.status.code().expect("a code"), text(done.stdout), text(done.stderr))
}
