//! The client's side of the open protocol for catalogs (Iceberg REST catalog specification): sign-in, the catalog's own settings, calls and their
//! faults. Requests run on the threads of the network; whoever asks waits for them.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use cobble_network::Tls;
use cobble_network::threads::{ask, chain, wait};
use cobble_types::{Code, Error, Result};
use reqwest::{Method, StatusCode, Url};
use serde_json::{Value as Json, json};
use tokio_util::sync::CancellationToken;

use crate::metadata::MOST_BYTES;

/// How a catalog knows who calls.
#[derive(Clone)]
pub enum SignIn {
    Nobody,
    Token(String),
    /// Client credentials are exchanged for tokens (RFC 6749, section 4.4).
    Client {
        id: String,
        secret: String,
        scope: String,
        url: Option<String>,
    },
}

impl fmt::Debug for SignIn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("‹hidden›")
    }
}

#[derive(Debug, Clone)]
pub struct ProtocolSettings {
    pub connection: String,
    /// What stands before `/v1`.
    pub url: String,
    pub warehouse: Option<String>,
    pub sign_in: SignIn,
    /// Tables are opened with keys that the catalog gives.
    pub wants_keys: bool,
    pub connect_limit: Duration,
    pub request_limit: Duration,
    pub tls: Tls,
}

/// A client of a catalog.
pub struct Protocol {
    pub settings: ProtocolSettings,
    http: reqwest::Client,
    /// What the catalog says of itself, once it was asked.
    told: Mutex<Option<Told>>,
    token: Mutex<Option<Token>>,
}

impl fmt::Debug for Protocol {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Protocol").field("settings", &self.settings).finish_non_exhaustive()
    }
}

/// The catalog's settings, its overrides over its defaults.
#[derive(Debug, Clone, Default)]
pub struct Told {
    pub properties: BTreeMap<String, String>,
    /// Calls that it answers, where it tells.
    pub calls: Option<Vec<String>>,
}

#[derive(Clone)]
struct Token {
    text: String,
    ends: Option<Instant>,
}

/// An answer that the catalog gave.
#[derive(Debug)]
pub struct Answer {
    pub status: u16,
    pub body: Json,
    /// Of the body.
    pub bytes: usize,
    pub state: Option<String>,
}

/// Why there is no answer.
#[derive(Debug)]
pub struct NoAnswer {
    pub error: Error,
    /// The request has not reached anybody.
    pub unsent: bool,
}

impl From<NoAnswer> for Error {
    fn from(none: NoAnswer) -> Error {
        none.error
    }
}

/// A token is exchanged for a new one when less than this is left of it.
const LEAST_LEFT: Duration = Duration::from_secs(30);

/// A call, by its place below the prefix.
pub struct Request<'r> {
    pub method: Method,
    pub path: Vec<&'r str>,
    pub query: Vec<(&'r str, String)>,
    pub body: Option<Json>,
    pub known: Option<String>,
}

impl<'r> Request<'r> {
    pub fn new(method: Method, path: &[&'r str]) -> Request<'r> {
        Request { method, path: path.to_vec(), query: vec![], body: None, known: None }
    }

    pub fn with(self, body: Json) -> Request<'r> {
        Request { body: Some(body), ..self }
    }

    pub fn asking(mut self, name: &'r str, value: impl Into<String>) -> Request<'r> {
        self.query.push((name, value.into()));
        self
    }
}

struct Sent {
    method: Method,
    url: Url,
    content: Option<(Vec<u8>, &'static str)>,
    token: Option<String>,
    known: Option<String>,
    wants_keys: bool,
}

async fn sent(http: reqwest::Client, sent: Sent) -> std::result::Result<Answer, reqwest::Error> {
    let mut request = http.request(sent.method, sent.url).header("Accept", "application/json");
    if let Some(token) = sent.token {
        request = request.bearer_auth(token);
    }
    if let Some(known) = sent.known {
        request = request.header("If-None-Match", known);
    }
    if sent.wants_keys {
        request = request.header("X-Iceberg-Access-Delegation", "vended-credentials");
    }
    if let Some((content, kind)) = sent.content {
        request = request.header("Content-Type", kind).body(content);
    }
    let mut response = request.send().await?;
    let status = response.status().as_u16();
    let state = response.headers().get("etag").and_then(|tag| tag.to_str().ok()).map(str::to_owned);
    let mut bytes = Vec::new();
    while let Some(piece) = response.chunk().await? {
        if (bytes.len() + piece.len()) as u64 > MOST_BYTES {
            // What follows is of no use; the status decides what is made of it.
            bytes.clear();
            break;
        }
        bytes.extend_from_slice(&piece);
    }
    let body = serde_json::from_slice(&bytes).unwrap_or(Json::Null);
    Ok(Answer { status, body, bytes: bytes.len(), state })
}

impl Protocol {
    pub fn new(settings: ProtocolSettings) -> Result<Protocol> {
        let url = settings.url.trim();
        let with_scheme = match url.contains("://") {
            true => url.to_owned(),
            false => {
                let host = url.split([':', '/']).next().unwrap_or_default();
                let own = host == "localhost" || host.starts_with("127.");
                format!("{}://{url}", if own { "http" } else { "https" })
            }
        };
        // Clients are told addresses with and without the version.
        let plain = with_scheme.trim_end_matches('/');
        let plain = plain.strip_suffix("/v1").unwrap_or(plain).trim_end_matches('/').to_owned();
        let bad = |what: String, hint: &str| {
            Error::new(Code::BadSetting, format!("connection {}: {what}", settings.connection)).hint(hint)
        };
        let parsed = Url::parse(&plain)
            .map_err(|e| bad(format!("its address is no URL: {e}"), "such as https://tables.example/catalog"))?;
        if !parsed.username().is_empty() || parsed.password().is_some() {
            return Err(bad("its address holds a name or a secret".to_owned(), "give them as user and secret"));
        }
        let is_own =
            parsed.host_str().is_some_and(|host| host == "localhost" || host.starts_with("127.") || host == "[::1]");
        cobble_network::tls::provider();
        let builder = reqwest::Client::builder()
            .connect_timeout(settings.connect_limit)
            .timeout(settings.request_limit)
            .redirect(reqwest::redirect::Policy::none())
            .tls_backend_preconfigured(settings.tls.client()?);
        let builder = if is_own { builder.no_proxy() } else { builder };
        let http = builder.build().map_err(|e| bad(chain(&e), "look at the settings of encryption"))?;
        let settings = ProtocolSettings { url: plain, ..settings };
        Ok(Protocol { settings, http, told: Mutex::default(), token: Mutex::default() })
    }

    fn error(&self, code: Code, what: impl fmt::Display, hint: &str) -> Error {
        Error::new(code, format!("connection {}: {what}", self.settings.connection)).hint(hint)
    }

    fn no_answer(&self, error: &reqwest::Error) -> NoAnswer {
        let what = chain(error);
        let none = |code: Code, what: String, hint: &str| self.error(code, what, hint);
        let url = &self.settings.url;
        let told = match cobble_network::tls::fault(&what) {
            Some((fault, hint)) => none(Code::SourceSignIn, format!("{url}: {fault}"), hint),
            None if error.is_timeout() => none(
                Code::SourceTimeout,
                format!("{url} did not answer in time"),
                "look whether it is up, or raise request_limit",
            ),
            None => none(
                Code::SourceUnreachable,
                format!("{url} cannot be reached: {what}"),
                "check the address, and whether it is up",
            ),
        };
        NoAnswer { error: told, unsent: error.is_connect() }
    }

    fn ask(&self, request: Sent) -> std::result::Result<Answer, NoAnswer> {
        let http = self.http.clone();
        // The URL may carry what is nobody's business.
        let answer = ask(async move { sent(http, request).await.map_err(reqwest::Error::without_url) });
        match wait(&answer, &CancellationToken::new()) {
            Ok(Ok(answer)) => Ok(answer),
            Ok(Err(error)) => Err(self.no_answer(&error)),
            Err(_) => Err(NoAnswer { error: Error::internal("a request to a catalog was given up"), unsent: false }),
        }
    }

    /// The token that calls carry; `anew` leaves one aside that was refused.
    fn token(&self, anew: bool) -> std::result::Result<Option<String>, NoAnswer> {
        let SignIn::Client { id, secret, scope, url } = &self.settings.sign_in else {
            return Ok(match &self.settings.sign_in {
                SignIn::Token(token) => Some(token.clone()),
                _ => None,
            });
        };
        let mut held = self.token.lock().unwrap_or_else(PoisonError::into_inner);
        let is_good = |token: &Token| token.ends.is_none_or(|ends| ends > Instant::now() + LEAST_LEFT);
        if let Some(token) = held.as_ref().filter(|token| !anew && is_good(token)) {
            return Ok(Some(token.text.clone()));
        }
        let place = url.clone().unwrap_or_else(|| format!("{}/v1/oauth/tokens", self.settings.url));
        let refused = |what: String| NoAnswer {
            error: self.error(
                Code::SourceSignIn,
                format!("{place}: {what}"),
                "check user, secret, scope and token_address",
            ),
            unsent: true,
        };
        let url = Url::parse(&place).map_err(|e| refused(format!("it is no URL: {e}")))?;
        let mut form = Url::parse("http://form/").map_err(|e| refused(e.to_string()))?;
        form.query_pairs_mut()
            .append_pair("grant_type", "client_credentials")
            .append_pair("client_id", id)
            .append_pair("client_secret", secret)
            .append_pair("scope", scope);
        let content = form.query().unwrap_or_default().as_bytes().to_vec();
        let answer = self.ask(Sent {
            method: Method::POST,
            url,
            content: Some((content, "application/x-www-form-urlencoded")),
            token: None,
            known: None,
            wants_keys: false,
        })?;
        let text = answer.body.get("access_token").and_then(Json::as_str);
        let Some(text) = text.filter(|_| answer.status == 200) else {
            let why = answer.body.get("error_description").or_else(|| answer.body.get("error")).and_then(Json::as_str);
            return Err(refused(format!("no token was given ({})", why.unwrap_or(&answer.status.to_string()))));
        };
        let seconds = answer.body.get("expires_in").and_then(Json::as_u64);
        let ends = seconds.map(|seconds| Instant::now() + Duration::from_secs(seconds.min(1 << 30)));
        *held = Some(Token { text: text.to_owned(), ends });
        Ok(Some(text.to_owned()))
    }

    fn url(&self, base: &str, path: &[&str], query: &[(&str, String)]) -> Result<Url> {
        let wrong = || self.error(Code::BadSetting, format!("{base} is no URL of a catalog"), "correct the address");
        let mut url = Url::parse(base).map_err(|_| wrong())?;
        url.path_segments_mut().map_err(|()| wrong())?.pop_if_empty().push("v1").extend(path);
        if !query.is_empty() {
            url.query_pairs_mut().extend_pairs(query.iter().map(|(name, value)| (*name, value.as_str())));
        }
        Ok(url)
    }

    fn sent_to(&self, base: &str, request: &Request<'_>) -> std::result::Result<Answer, NoAnswer> {
        let url = self.url(base, &request.path, &request.query).map_err(|error| NoAnswer { error, unsent: true })?;
        let mut anew = false;
        loop {
            let answer = self.ask(Sent {
                method: request.method.clone(),
                url: url.clone(),
                content: request.body.as_ref().map(|body| (body.to_string().into_bytes(), "application/json")),
                token: self.token(anew)?,
                known: request.known.clone(),
                wants_keys: self.settings.wants_keys,
            })?;
            // A token may have ended before its time.
            if !anew && matches!(answer.status, 401 | 419) && matches!(self.settings.sign_in, SignIn::Client { .. }) {
                anew = true;
                continue;
            }
            return Ok(answer);
        }
    }

    /// What the catalog says of itself; asked once.
    pub fn told(&self) -> std::result::Result<Told, NoAnswer> {
        let known = || self.told.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(told) = known().clone() {
            return Ok(told);
        }
        let mut request = Request::new(Method::GET, &["config"]);
        if let Some(warehouse) = &self.settings.warehouse {
            request = request.asking("warehouse", warehouse.clone());
        }
        let answer = self.sent_to(&self.settings.url, &request)?;
        if answer.status != 200 || !answer.body.is_object() {
            return Err(NoAnswer { error: self.fault(&answer), unsent: true });
        }
        let texts = |name: &str| {
            let own = answer.body.get(name).and_then(Json::as_object).into_iter().flatten();
            own.filter_map(|(name, value)| Some((name.clone(), value.as_str()?.to_owned()))).collect::<BTreeMap<_, _>>()
        };
        let mut properties = texts("defaults");
        if let Some(warehouse) = &self.settings.warehouse {
            properties.insert("warehouse".to_owned(), warehouse.clone());
        }
        properties.extend(texts("overrides"));
        let calls = answer.body.get("endpoints").and_then(Json::as_array);
        let calls = calls.map(|all| all.iter().filter_map(Json::as_str).map(str::to_owned).collect());
        let told = Told { properties, calls };
        *known() = Some(told.clone());
        Ok(told)
    }

    /// Asks anew what the catalog says of itself.
    pub fn forget(&self) {
        *self.told.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }

    /// Makes a call below the prefix.
    pub fn call(&self, request: Request<'_>) -> std::result::Result<Answer, NoAnswer> {
        let told = self.told()?;
        let base = told.properties.get("uri").map_or(self.settings.url.as_str(), String::as_str);
        let base = base.trim_end_matches('/');
        let base = base.strip_suffix("/v1").unwrap_or(base);
        let prefix: Vec<&str> = told
            .properties
            .get("prefix")
            .map(|own| own.split('/').filter(|part| !part.is_empty()).collect())
            .unwrap_or_default();
        let path = [prefix.as_slice(), request.path.as_slice()].concat();
        self.sent_to(base, &Request { path, ..request })
    }

    /// What an answer says went wrong.
    pub fn fault(&self, answer: &Answer) -> Error {
        let told = answer.body.pointer("/error/message").and_then(Json::as_str);
        let kind = answer.body.pointer("/error/type").and_then(Json::as_str).unwrap_or_default();
        let status =
            StatusCode::from_u16(answer.status).map_or_else(|_| answer.status.to_string(), |status| status.to_string());
        let told: String = told.unwrap_or("it says no more").chars().take(500).collect();
        let what = format!(
            "the catalog at {} refused: {told} ({status}{}{kind})",
            self.settings.url,
            if kind.is_empty() { "" } else { ", " }
        );
        match answer.status {
            401 | 419 => self.error(Code::SourceSignIn, what, "check user and secret"),
            403 => self.error(Code::SourceSignIn, what, "the catalog does not allow this to whoever signs in"),
            404 if kind.is_empty() => self.error(
                Code::SourceUnreachable,
                what,
                "there may be no catalog at this address; it is what stands before /v1",
            ),
            404 => self.error(Code::NotFound, what, "check the name, and the setting warehouse"),
            409 => self.error(Code::Conflict, what, "try it again"),
            406 | 501 => self.error(Code::Unsupported, what, "the catalog does not do this"),
            400 | 422 => self.error(Code::SourceRefused, what, "the catalog takes no such request"),
            _ => self.error(Code::SourceUnreachable, what, "try it again later"),
        }
    }

    /// Makes a call that is to succeed.
    pub fn done(&self, request: Request<'_>) -> Result<Answer> {
        let answer = self.call(request)?;
        match answer.status {
            200..300 => Ok(answer),
            _ => Err(self.fault(&answer)),
        }
    }

    /// All pages of a list, of what stands under this name.
    pub fn listed(&self, path: &[&str], query: &[(&str, &str)], member: &str) -> Result<Option<Vec<Json>>> {
        let mut all = Vec::new();
        let mut token = String::new();
        loop {
            let mut request = Request::new(Method::GET, path).asking("pageToken", token.clone());
            for (name, value) in query {
                request = request.asking(name, *value);
            }
            let answer = self.call(request)?;
            match answer.status {
                200 => {}
                404 if answer.body.pointer("/error/type").is_some() => return Ok(None),
                _ => return Err(self.fault(&answer)),
            }
            let own = answer.body.get(member).and_then(Json::as_array).cloned();
            let own = own.ok_or_else(|| {
                self.error(
                    Code::SourceData,
                    format!("the catalog's list has no {member}"),
                    "it may be none of the open protocol",
                )
            })?;
            let is_empty = own.is_empty();
            all.extend(own);
            match answer.body.get("next-page-token").and_then(Json::as_str) {
                // One that gives the same page for ever is not followed.
                Some(next) if !next.is_empty() && next != token && !is_empty => token = next.to_owned(),
                _ => return Ok(Some(all)),
            }
        }
    }
}

/// A schema's name in a path and in a body: its parts are joined by points here.
pub fn joined(schema: &str) -> String {
    schema.split('.').collect::<Vec<_>>().join("\u{1f}")
}

pub fn parts(schema: &str) -> Json {
    json!(schema.split('.').collect::<Vec<_>>())
}
