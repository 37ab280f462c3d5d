//! Queue → map → queue: persistent messages of 1 KB through quorum queues, fsync on. Beside the service two relays:
//! a pipelined one, which parses and rewrites each message, writes a row for it in grouped statements before publishing and
//! marks it sent in a second one; and a straightforward one, a commit and a confirmation at a time.

use crate::serving::{Serving, serve};
use crate::{Measured, cpu_seconds};
use futures_util::stream::FuturesOrdered;
use futures_util::{FutureExt, StreamExt};
use lapin::message::Delivery;
use lapin::options::{BasicAckOptions, BasicConsumeOptions, BasicPublishOptions, BasicQosOptions, ConfirmSelectOptions};
use lapin::types::FieldTable;
use lapin::uri::{AMQPUri, AMQPUserInfo};
use lapin::{BasicProperties, Channel, Connection, ConnectionProperties};
use sea_orm::{ConnectionTrait, Database, DatabaseConnection, Statement, Value as Parameter};
use serde_json::Value;
use std::collections::HashSet;
use std::path::Path;
use std::time::Instant;
use wirewatch_loopback::{LoopbackBroker, OwnedProcess};
use wirewatch_testkit::TestBroker;

/// Messages of one measurement; fewer for the straightforward relay, which is slow.
pub const MESSAGES: usize = 20_000;
pub const FEW: usize = 1_000;
/// The argument that makes this program a relay: `relay pipelined IN OUT ADDRESS USER`.
pub const RELAY: &str = "relay";
pub const PREFETCH: u16 = 1000;

/// Which relay.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Relay {
    Pipelined,
    Straightforward,
}

const SCHEMA: &str = r#"{ "type": "object", "properties": { "number": { "type": "string" }, "total": { "type": "number" },
    "note": { "type": "string" } } }"#;
const MAP: &str =
    "from = \"order\"\nto = \"order\"\n[set]\nnumber = \"number\"\ntotal = \"round(total * 2, 2)\"\nnote = \"note\"\n";

/// Measures the service on an empty database.
pub async fn measure_service(program: &Path, url: &str, database: i32, broker: &LoopbackBroker) -> Measured {
    let ends = Ends::filled(broker, MESSAGES).await;
    let serving = serve_relay(program, url, broker, &ends.broker).await;
    ends.measure(MESSAGES, serving.process.id(), database).await
}

/// The service, with a flow from the queue `in` over a map to the queue `out`.
pub async fn serve_relay(program: &Path, url: &str, broker: &LoopbackBroker, ends: &TestBroker) -> Serving {
    let (user, password) = broker.user();
    let (from, to) = (ends.name("in"), ends.name("out"));
    let connection = format!(
        "kind = \"amqp\"\naddress = \"{}\"\nauth = {{ as = \"plain\", user = \"{user}\", secret = \"bench\" }}\n\
         [[queue]]\nname = \"{from}\"\n[[queue]]\nname = \"{to}\"\n",
        broker.address()
    );
    let flow = format!(
        "key = \"number\"\n[[intake]]\nfrom = \"bench\"\nqueue = \"{from}\"\ntakes = \"order\"\n[[step]]\nname = \"double\"\n\
         map = \"double\"\n[[step]]\nname = \"on\"\nsend = {{ to = \"bench\", queue = \"{to}\" }}\n"
    );
    let files = [
        ("workspace.toml", "format = 1\n"),
        ("connections/bench.toml", connection.as_str()),
        ("schemas/order.schema.json", SCHEMA),
        ("maps/double.toml", MAP),
        ("flows/bench.toml", flow.as_str()),
    ];
    serve(program, url, &files, ("bench", password)).await
}

/// Measures a relay on an empty database.
pub async fn measure_relay(relay: Relay, url: &str, database: i32, broker: &LoopbackBroker) -> Measured {
    let messages = if relay == Relay::Pipelined { MESSAGES } else { FEW };
    let ends = Ends::filled(broker, messages).await;
    let own = std::env::current_exe().expect("a program has a file");
    let (user, password) = broker.user();
    let how = if relay == Relay::Pipelined { "pipelined" } else { "straightforward" };
    let (from, to) = (ends.broker.name("in"), ends.broker.name("out"));
    let arguments = [RELAY.to_owned(), how.to_owned(), from, to, broker.address(), user.to_owned()];
    let (url, password) = (url.to_owned(), password.to_owned());
    let process = OwnedProcess::spawn("KILL", &own.to_string_lossy(), &arguments, move |command| {
        command.env("WIREWATCH_DATABASE", url).env("PASSWORD", password);
    });
    ends.measure(messages, process.expect("started").id(), database).await
}

/// A full queue and an empty one.
struct Ends {
    broker: TestBroker,
}

impl Ends {
    async fn filled(broker: &LoopbackBroker, messages: usize) -> Self {
        let (user, password) = broker.user();
        let broker = TestBroker::at(&broker.address(), user, password).await;
        broker.queue("in", None).await;
        broker.queue("out", None).await;
        let note = "clover ".repeat(130);
        for n in 0..messages {
            let body = format!(r#"{{"number":"{n}","total":12.50,"note":"{note}"}}"#);
            broker.fill("in", body.as_bytes(), BasicProperties::default().with_message_id(n.to_string().into())).await;
        }
        broker.filled().await;
        Self { broker }
    }

    /// From the first message that comes out to the last, so that starting does not count.
    async fn measure(&self, messages: usize, program: i32, database: i32) -> Measured {
        let channel = self.broker.channel();
        channel.basic_qos(PREFETCH, BasicQosOptions::default()).await.expect("set");
        let (queue, options) = (self.broker.name("out"), BasicConsumeOptions::default());
        let consumer = channel.basic_consume(queue.into(), "far end".into(), options, FieldTable::default()).await;
        let mut consumer = consumer.expect("a consumer");
        let mut received: HashSet<u64> = HashSet::new();
        let mut begun = None;
        while received.len() < messages {
            let delivery = consumer.next().await.expect("more to come").expect("a message");
            begun.get_or_insert_with(|| (cpu_seconds(program), cpu_seconds(database), Instant::now()));
            let body: Value = serde_json::from_slice(&delivery.data).expect("JSON");
            received.insert(body["number"].as_str().and_then(|number| number.parse().ok()).expect("a number"));
            if received.len().is_multiple_of(250) || received.len() == messages {
                channel.basic_ack(delivery.delivery_tag, BasicAckOptions { multiple: true }).await.expect("acknowledged");
            }
        }
        let (cpu, database_cpu, begun) = begun.expect("a first message");
        Measured {
            orders_per_s: messages as f64 / begun.elapsed().as_secs_f64(),
            cpu_s: (cpu_seconds(program) - cpu) / messages as f64,
            database_cpu_s: (cpu_seconds(database) - database_cpu) / messages as f64,
        }
    }
}

/// Runs a relay as a process of its own until it is killed.
pub async fn relay(arguments: &[String]) {
    let [how, from, to, address, user] = arguments else { panic!("five arguments") };
    let db = Database::connect(std::env::var("WIREWATCH_DATABASE").expect("a database")).await.expect("a database");
    db.execute_unprepared("create table relayed (id bigint primary key, body bytea not null, sent boolean not null)")
        .await
        .expect("a table");
    let mut uri: AMQPUri = address.parse().expect("an address");
    let password = std::env::var("PASSWORD").expect("a password");
    uri.authority.userinfo = AMQPUserInfo { username: user.clone(), password };
    let open = async || {
        let connection = Connection::connect_uri(uri.clone(), ConnectionProperties::default()).await.expect("a connection");
        let channel = connection.create_channel().await.expect("a channel");
        (connection, channel)
    };
    let ((_taking, taking), (_sending, sending)) = (open().await, open().await);
    let pipelined = how == "pipelined";
    taking.basic_qos(if pipelined { PREFETCH } else { 1 }, BasicQosOptions::default()).await.expect("set");
    sending.confirm_select(ConfirmSelectOptions::default()).await.expect("confirms");
    let options = BasicConsumeOptions::default();
    let consumer = taking.basic_consume(from.as_str().into(), "relay".into(), options, FieldTable::default()).await;
    let ends = RelayEnds { db, taking, sending, to: to.clone() };
    ends.run(consumer.expect("a consumer")).await;
}

struct RelayEnds {
    db: DatabaseConnection,
    taking: Channel,
    sending: Channel,
    to: String,
}

impl RelayEnds {
    /// A group is all that has arrived: with a prefetch of one, one message.
    async fn run(&self, mut consumer: lapin::Consumer) {
        let mut under_way = FuturesOrdered::new();
        loop {
            tokio::select! {
                biased;
                Some((last, ids)) = under_way.next(), if !under_way.is_empty() => self.settle(last, ids).await,
                first = consumer.next() => {
                    let mut group: Vec<Delivery> = vec![first.expect("more to come").expect("a message")];
                    while group.len() < 500 && let Some(Some(Ok(next))) = consumer.next().now_or_never() {
                        group.push(next);
                    }
                    let (last, ids, confirms) = self.publish(group).await;
                    under_way.push_back(async move {
                        for confirm in confirms {
                            assert!(confirm.await.expect("confirmed").is_ack(), "stored by the broker");
                        }
                        (last, ids)
                    });
                }
            }
        }
    }

    async fn publish(&self, group: Vec<Delivery>) -> (u64, Vec<i64>, Vec<lapin::PublisherConfirm>) {
        let ids: Vec<i64> = group.iter().map(|delivery| delivery.delivery_tag as i64).collect();
        let rewritten: Vec<Vec<u8>> = group.iter().map(|delivery| rewrite(&delivery.data)).collect();
        let bodies: Vec<Vec<u8>> = group.iter().map(|delivery| delivery.data.clone()).collect();
        let text = "insert into relayed select id, body, false from unnest($1::bigint[], $2::bytea[]) as u(id, body)";
        self.write(text, [ids.clone().into(), bodies.into()]).await;
        let mut confirms = Vec::with_capacity(group.len());
        for (delivery, body) in group.iter().zip(&rewritten) {
            let id = delivery.properties.message_id().clone().unwrap_or_default();
            let properties = BasicProperties::default().with_delivery_mode(2).with_message_id(id);
            let options = BasicPublishOptions { mandatory: true, ..BasicPublishOptions::default() };
            let sent = self.sending.basic_publish("".into(), self.to.as_str().into(), options, body, properties).await;
            confirms.push(sent.expect("sent"));
        }
        (group.last().map_or(0, |delivery| delivery.delivery_tag), ids, confirms)
    }

    async fn settle(&self, last: u64, ids: Vec<i64>) {
        self.write("update relayed set sent = true where id = any($1::bigint[])", [ids.into()]).await;
        self.taking.basic_ack(last, BasicAckOptions { multiple: true }).await.expect("acknowledged");
    }

    async fn write<const N: usize>(&self, text: &str, values: [Parameter; N]) {
        let statement = Statement::from_sql_and_values(self.db.get_database_backend(), text, values);
        self.db.execute_raw(statement).await.expect("written");
    }
}

fn rewrite(body: &[u8]) -> Vec<u8> {
    let mut value: Value = serde_json::from_slice(body).expect("JSON");
    let total = value["total"].as_f64().expect("a total") * 2.0;
    value["total"] = total.into();
    serde_json::to_vec(&value).expect("JSON")
}
