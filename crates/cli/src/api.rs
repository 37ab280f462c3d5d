//! Asks the service.

use crate::error::CommandError;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::path::PathBuf;
use wirewatch_links::http;
use wirewatch_service::access::{TOKEN_FILE, Token};
use wirewatch_service::api::problem::Problem;

/// Address of the service and the caller's token.
#[derive(Debug, clap::Args)]
pub struct ClientArgs {
    /// Address of the service; otherwise the one in the token file
    #[arg(long, global = true, env = "WIREWATCH_SERVER", value_name = "URL")]
    server: Option<String>,
    /// The service's token file; otherwise state/token.json here or in a folder above
    #[arg(long, global = true, env = "WIREWATCH_TOKEN_FILE", value_name = "FILE")]
    token_file: Option<PathBuf>,
}

/// Which messages: by flow, partner, state and key.
#[derive(Debug, clap::Args)]
pub struct Which {
    /// Only this flow
    #[arg(long, default_value = "")]
    pub flow: String,
    /// Only this partner
    #[arg(long, default_value = "")]
    pub partner: String,
    /// Only this state: running, waiting, retrying, failed, done, skipped or discarded
    #[arg(long, default_value = "")]
    pub state: String,
    /// Only this key, e.g. a purchase order number, or the number in the target
    #[arg(long, default_value = "")]
    pub key: String,
    /// Only keys that begin with this text
    #[arg(long, default_value = "", value_name = "TEXT")]
    pub key_prefix: String,
}

/// Size and format of a list.
#[derive(Debug, clap::Args)]
pub struct Page {
    /// The next page, as named at the end of a page
    #[arg(long, default_value = "")]
    pub before: String,
    /// Rows of a page
    #[arg(long, default_value_t = 30)]
    pub limit: u32,
    /// Print as JSON
    #[arg(long)]
    pub json: bool,
}

/// A client with address and token.
#[derive(Debug, Clone)]
pub struct Client {
    http: reqwest::Client,
    server: String,
    token: String,
}

impl ClientArgs {
    /// The client these arguments mean.
    pub fn client(&self) -> Result<Client, CommandError> {
        let path = match &self.token_file {
            Some(path) => path.clone(),
            None => find_token_file().ok_or_else(|| {
                let says = "no token file found: run this in the folder where the service was started, or name the file with --token-file";
                CommandError::Unreachable(says.to_owned())
            })?,
        };
        let token = Token::read(&path).map_err(|error| CommandError::Unreachable(format!("{}: {error}", path.display())))?;
        let server = self.server.clone().unwrap_or(token.address).trim_end_matches('/').to_owned();
        let http = http::client(http::Means::default()).map_err(CommandError::Failed)?;
        Ok(Client { http, server, token: token.token })
    }
}

fn find_token_file() -> Option<PathBuf> {
    let here = std::env::current_dir().ok()?;
    here.ancestors().map(|folder| folder.join("state").join(TOKEN_FILE)).find(|path| path.exists())
}

/// Formats a path of the API, with each value as one segment: names and keys can have any characters.
macro_rules! api_path {
    ($template:literal $(, $value:expr)*) => {
        format!(concat!("/api/", $template) $(, $crate::api::segment(&$value.to_string()))*)
    };
}
pub(crate) use api_path;

/// Returns the path of a message in the API. A message is named by its id or by a key, which can have any characters.
pub fn message_path(message: &str) -> String {
    api_path!("messages/{}", message)
}

/// Returns a text as one segment of a path.
pub fn segment(text: &str) -> String {
    utf8_percent_encode(text, SEGMENT).to_string()
}

/// Characters to escape in a segment of a path: all but the unreserved ones (RFC 3986).
const SEGMENT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

impl Client {
    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http.request(method, format!("{}{path}", self.server)).bearer_auth(&self.token)
    }

    /// Sends `GET` and returns the result.
    pub async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<T, CommandError> {
        let query: Vec<_> = query.iter().filter(|(_, value)| !value.is_empty()).collect();
        self.read(self.send(self.request(Method::GET, path).query(&query)).await?).await
    }

    /// `GET` of bytes.
    pub async fn bytes(&self, path: &str) -> Result<Vec<u8>, CommandError> {
        let response = self.send(self.request(Method::GET, path)).await?;
        Ok(response.bytes().await.map_err(|error| CommandError::Unreachable(deepest(&error)))?.to_vec())
    }

    /// Sends `POST` with JSON and returns the result.
    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, CommandError> {
        self.read(self.send(self.request(Method::POST, path).json(body)).await?).await
    }

    /// Sends `PUT` with JSON and returns the result.
    pub async fn put<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, CommandError> {
        self.read(self.send(self.request(Method::PUT, path).json(body)).await?).await
    }

    /// Sends `DELETE`.
    pub async fn delete(&self, path: &str) -> Result<(), CommandError> {
        self.send(self.request(Method::DELETE, path)).await.map(drop)
    }

    /// Sends `POST` with bytes and returns the result.
    pub async fn post_bytes<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
        body: Vec<u8>,
    ) -> Result<T, CommandError> {
        self.read(self.send(self.request(Method::POST, path).query(query).body(body)).await?).await
    }

    /// The live stream from a position on.
    pub async fn stream(&self, last: Option<&str>) -> Result<Response, CommandError> {
        let mut request = self.request(Method::GET, "/api/stream");
        if let Some(last) = last {
            request = request.header("last-event-id", last);
        }
        self.send(request).await
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, CommandError> {
        let unreachable = |error: reqwest::Error| {
            let says = format!("the service cannot be reached at {}: {}. Is it running?", self.server, deepest(&error));
            CommandError::Unreachable(says)
        };
        let response = request.send().await.map_err(unreachable)?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let text = response.text().await.unwrap_or_default();
        let problem =
            serde_json::from_str(&text).unwrap_or_else(|_| Problem::new(status, format!("the service answered {status}")));
        match status {
            StatusCode::SERVICE_UNAVAILABLE => Err(CommandError::Unreachable(problem.detail.unwrap_or(problem.title))),
            _ => Err(CommandError::Refused(Box::new(problem))),
        }
    }

    async fn read<T: DeserializeOwned>(&self, response: Response) -> Result<T, CommandError> {
        let bytes = response.bytes().await.map_err(|error| CommandError::Unreachable(deepest(&error)))?;
        serde_json::from_slice(&bytes).map_err(|error| {
            CommandError::Failed(format!(
                "the answer of the service cannot be read: {error}. Do client and service have the same version?"
            ))
        })
    }
}

fn deepest(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(next) = cause.source() {
        cause = next;
    }
    cause.to_string()
}
