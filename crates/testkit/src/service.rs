//! A service under test: started as its users start it, killed at will, called over HTTP.

use crate::database::Database;
use crate::wait::eventually_within;
use rustix::process::Signal;
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;
use wirewatch_loopback::{OwnedProcess, free_port, http_client};

/// A running service with its own folder and workspace.
#[derive(Debug)]
pub struct Service {
    /// Holds state, files and workspace.
    pub folder: tempfile::TempDir,
    /// Further arguments of its next start.
    pub arguments: Vec<String>,
    database: String,
    program: PathBuf,
    port: u16,
    process: Option<OwnedProcess>,
    http: reqwest::Client,
}

/// Returns a program of the workspace beside the running test.
///
/// # Panics
/// When it is not built.
#[must_use]
pub fn target_binary(name: &str) -> PathBuf {
    let test = std::env::current_exe().expect("a test has a file");
    let path = test.ancestors().nth(2).expect("target folder").join(name);
    assert!(path.exists(), "{} is not built: run `make test`, which builds it first", path.display());
    path
}

impl Service {
    /// A service that is not started yet, with the demo workspace calling `order_system`.
    ///
    /// # Panics
    /// When its folder cannot be made.
    #[must_use]
    pub fn new(database: &Database, demo: &Path, order_system: &str) -> Self {
        let service = Self::bare(database);
        copy(demo, &service.workspace());
        service.change("connections/erp.toml", "http://127.0.0.1:7812", order_system);
        service
    }

    /// A service that is not started yet, with a workspace of these files.
    ///
    /// # Panics
    /// When its folder cannot be made.
    #[must_use]
    pub fn with_files(database: &Database, files: &[(&str, &str)]) -> Self {
        let service = Self::bare(database);
        for (name, text) in files {
            service.write(name, text);
        }
        service
    }

    fn bare(database: &Database) -> Self {
        let folder = tempfile::Builder::new().prefix("wirewatch-test-").tempdir().expect("a folder");
        Self {
            database: database.url.clone(),
            program: target_binary("wirewatch"),
            port: free_port().expect("a port"),
            process: None,
            arguments: Vec::new(),
            http: http_client(),
            folder,
        }
    }

    /// Creates another process of the same service, not started yet: with the same database, workspace, files and key of secrets,
    /// which exist once this one has started.
    ///
    /// # Panics
    /// When its folder cannot be created, or this one was never started.
    #[must_use]
    pub fn companion(&self, database: &Database) -> Self {
        let other = Self::bare(database);
        copy(&self.workspace(), &other.workspace());
        let [own, others] = [self, &other].map(|service| service.folder.path().join("state"));
        std::fs::create_dir_all(&others).expect("made");
        std::fs::copy(own.join("secrets.key"), others.join("secrets.key")).expect("copied");
        std::fs::create_dir_all(self.files()).expect("made");
        std::os::unix::fs::symlink(self.files(), other.files()).expect("linked");
        other
    }

    /// Writes a file of the workspace.
    ///
    /// # Panics
    /// When it cannot be written.
    pub fn write(&self, file: &str, text: &str) {
        let path = self.workspace().join(file);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        std::fs::write(path, text).expect("written");
    }

    /// Freezes the process, like a machine that hangs; `false` continues it.
    ///
    /// # Panics
    /// When it is not running.
    pub fn freeze(&mut self, frozen: bool) {
        self.process.as_mut().expect("running").signal(if frozen { Signal::STOP } else { Signal::CONT });
    }

    /// The workspace folder.
    #[must_use]
    pub fn workspace(&self) -> PathBuf {
        self.folder.path().join("workspace")
    }

    /// Returns the files folder.
    #[must_use]
    pub fn files(&self) -> PathBuf {
        self.folder.path().join("state/files")
    }

    /// Replaces text in a workspace file.
    ///
    /// # Panics
    /// When the file does not contain `from`.
    pub fn change(&self, file: &str, from: &str, to: &str) {
        let path = self.workspace().join(file);
        let text = std::fs::read_to_string(&path).expect("a workspace file");
        assert!(text.contains(from), "{file} holds {from}");
        std::fs::write(&path, text.replace(from, to)).expect("written");
    }

    /// Starts it and waits until it answers.
    pub async fn start(&mut self) {
        self.launch();
        let url = format!("http://127.0.0.1:{}/health/ready", self.port);
        eventually_within(Duration::from_secs(60), "the service answers", || async {
            self.http
                .get(&url)
                .timeout(Duration::from_secs(5))
                .send()
                .await
                .ok()
                .filter(|response| response.status().is_success())
        })
        .await;
    }

    /// Starts it without waiting.
    ///
    /// # Panics
    /// When there is no such program.
    pub fn launch(&mut self) {
        let text = |path: PathBuf| path.to_string_lossy().into_owned();
        let mut arguments = vec![
            "serve".to_owned(),
            "--listen".to_owned(),
            format!("127.0.0.1:{}", self.port),
            "--workspace".to_owned(),
            text(self.workspace()),
            "--state".to_owned(),
            text(self.folder.path().join("state")),
            "--unsafe-database".to_owned(),
        ];
        arguments.extend(self.arguments.iter().cloned());
        let log = std::fs::OpenOptions::new().create(true).append(true).open(self.log()).expect("a log");
        let database = self.database.clone();
        let process = OwnedProcess::spawn("KILL", &text(self.program.clone()), &arguments, move |command| {
            command.env("WIREWATCH_DATABASE", database).stderr(log);
        });
        self.process = Some(process.expect("started"));
    }

    /// The file that it logs to.
    #[must_use]
    pub fn log(&self) -> PathBuf {
        self.folder.path().join("service.log")
    }

    /// Returns its log.
    #[must_use]
    pub fn logged(&self) -> String {
        std::fs::read_to_string(self.log()).unwrap_or_default()
    }

    /// Ends it at once, as `kill -9` does.
    pub fn kill(&mut self) {
        if let Some(mut process) = self.process.take() {
            process.end(Signal::KILL, Duration::from_secs(10));
        }
    }

    /// Ends it politely.
    pub fn stop(&mut self) {
        if let Some(mut process) = self.process.take() {
            process.end(Signal::TERM, Duration::from_secs(20));
        }
    }

    /// Returns whether its process has ended.
    pub fn has_ended(&mut self) -> bool {
        self.process.as_mut().is_none_or(|process| process.ended().is_some())
    }

    /// The most memory it has used so far, in kilobytes.
    ///
    /// # Panics
    /// When it is not running.
    #[must_use]
    pub fn peak_memory_kb(&self) -> u64 {
        let id = self.process.as_ref().expect("running").id();
        let status = std::fs::read_to_string(format!("/proc/{id}/status")).expect("a status");
        let line = status.lines().find(|line| line.starts_with("VmHWM:")).expect("a peak");
        line.split_whitespace().nth(1).and_then(|kb| kb.parse().ok()).expect("a number")
    }

    fn token(&self) -> String {
        let text = std::fs::read_to_string(self.folder.path().join("state/token.json")).unwrap_or_default();
        let token: Value = serde_json::from_str(&text).unwrap_or_default();
        token["token"].as_str().unwrap_or_default().to_owned()
    }

    /// The URL of a path.
    #[must_use]
    pub fn url(&self, path: &str) -> String {
        format!("http://127.0.0.1:{}{path}", self.port)
    }

    /// Asks; `None` while it does not answer with success.
    pub async fn get(&self, path: &str) -> Option<Value> {
        let response = self.http.get(self.url(path)).bearer_auth(self.token()).send().await.ok()?;
        if response.status().is_success() { response.json().await.ok() } else { None }
    }

    /// Sends a request; returns status and body.
    ///
    /// # Panics
    /// When there is no answer.
    pub async fn ask(&self, path: &str) -> (u16, Value) {
        let response = self.http.get(self.url(path)).bearer_auth(self.token()).send().await.expect("an answer");
        (response.status().as_u16(), response.json().await.unwrap_or_default())
    }

    /// Builds a request of any method, with the token.
    ///
    /// # Panics
    /// When the method is invalid.
    pub fn request(&self, method: &str, path: &str) -> reqwest::RequestBuilder {
        let method = reqwest::Method::from_bytes(method.as_bytes()).expect("a method");
        self.http.request(method, self.url(path)).bearer_auth(self.token())
    }

    /// A request to be sent, with the token.
    pub fn post(&self, path: &str) -> reqwest::RequestBuilder {
        self.http.post(self.url(path)).bearer_auth(self.token())
    }

    /// Sets a secret to one the service makes up, and gives it.
    ///
    /// # Panics
    /// When it gives none.
    pub async fn secret(&self, name: &str) -> String {
        let (_, set) = self.put(&format!("/api/secrets/{name}"), &serde_json::json!({})).await;
        set["value"].as_str().expect("a value").to_owned()
    }

    /// Sends `PUT` with JSON; returns status and body.
    ///
    /// # Panics
    /// When there is no answer.
    pub async fn put(&self, path: &str, body: &Value) -> (u16, Value) {
        let request = self.http.put(self.url(path)).bearer_auth(self.token());
        let response = request.json(body).send().await.expect("an answer");
        (response.status().as_u16(), response.json().await.unwrap_or_default())
    }

    /// Sends `POST` with JSON; returns status and body.
    ///
    /// # Panics
    /// When there is no answer.
    pub async fn act(&self, path: &str, body: &Value) -> (u16, Value) {
        let response = self.post(path).json(body).send().await.expect("an answer");
        (response.status().as_u16(), response.json().await.unwrap_or_default())
    }

    /// Runs a command of the client; exit code, output, errors.
    ///
    /// # Panics
    /// When it cannot be run.
    #[must_use]
    pub fn command(&self, arguments: &[&str]) -> (i32, String, String) {
        let output = Command::new(&self.program)
            .args(arguments)
            .env("WIREWATCH_TOKEN_FILE", self.folder.path().join("state/token.json"))
            .env("TZ", "UTC")
            .current_dir(self.folder.path())
            .output()
            .expect("run");
        let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
        (output.status.code().unwrap_or(-1), text(output.stdout), text(output.stderr))
    }
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).expect("a folder");
    for entry in std::fs::read_dir(from).expect("the demo workspace") {
        let path = entry.expect("an entry").path();
        let target = to.join(path.file_name().expect("a name"));
        if path.is_dir() { copy(&path, &target) } else { std::fs::copy(&path, &target).map(|_| ()).expect("copied") }
    }
}
