//! Objects behind HTTP: a bucket of an S3-compatible store, or files of a plain HTTP server. Requests run on threads of their own. Readers wait for them;
//! pieces announced in advance are fetched ahead.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path as FilePath, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD as BASE64;
use bytes::Bytes;
use cobble_types::{Code, Error, Result};
use futures::TryStreamExt;
use http::header::{AUTHORIZATION, HeaderMap, HeaderValue};
use object_store::aws::AmazonS3Builder;
use object_store::http::HttpBuilder;
use object_store::path::{Path, PathPart};
use object_store::{
    BackoffConfig, Certificate, ClientOptions, GetOptions, GetRange, ObjectMeta, ObjectStore, ObjectStoreExt, PutMode,
    RetryConfig, UpdateVersion,
};
use tokio_util::sync::CancellationToken;

use cobble_network::TestStep;
use cobble_network::test_steps::{self, reporter};
use cobble_network::threads::{self, Silence, ask, chain, network};
use cobble_network::tls::{self, Tls};

use crate::marks::{self, Hidden};
use crate::{
    ANY_VERSION, Blob, Condition, Entry, Folder, Listing, Storage, StoredFile, changed, file_error, is_hidden,
};

type Answer<T> = threads::Answer<object_store::Result<T>>;

/// Waits, but not longer than the run.
fn wait<T>(answer: &Answer<T>, cancel: &CancellationToken) -> object_store::Result<T> {
    threads::wait(answer, cancel).unwrap_or_else(|silence| {
        let source = match silence {
            Silence::GivenUp => "the request was given up".into(),
            Silence::Cancelled => Error::new(Code::Cancelled, "the run was cancelled").into(),
        };
        Err(object_store::Error::Generic { store: "network", source })
    })
}

#[derive(Debug, Clone)]
pub struct Objects {
    settings: ObjectSettings,
    store: Arc<dyn ObjectStore>,
    /// A listing was found to be out of date.
    changed: Arc<AtomicBool>,
}

/// A bucket of a store that speaks the S3 protocol.
#[derive(Debug)]
pub struct S3Address {
    pub connection: String,
    /// Where nothing else is said, HTTPS; on this very machine HTTP.
    pub endpoint: String,
    pub bucket: String,
    /// Only what is below this folder of the bucket.
    pub folder: String,
    /// Nothing for a bucket that everyone may read.
    pub key: Option<AccessKey>,
    /// False when the bucket is a part of the host's name.
    pub path_style: bool,
    pub signing_region: String,
}

/// What requests are signed with.
#[derive(Clone)]
pub struct AccessKey {
    pub id: String,
    pub secret: String,
    /// Of a key that is good for a time only.
    pub session: Option<String>,
}

impl std::fmt::Debug for AccessKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("‹hidden›")
    }
}

/// Files that a web server gives.
#[derive(Debug)]
pub struct HttpAddress {
    pub connection: String,
    /// Of a file, or of the folder that the files are in.
    pub url: String,
    /// Paths below the URL.
    pub files: Option<Vec<String>>,
    pub sign_in: Option<SignIn>,
}

/// What a web server asks for (RFC 7617, RFC 6750).
#[derive(Clone)]
pub enum SignIn {
    Password { user: String, password: String },
    Token(String),
}

impl std::fmt::Debug for SignIn {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("‹hidden›")
    }
}

/// How long is waited, and whose certificates are good.
#[derive(Debug)]
pub struct Limits {
    pub connect: Duration,
    pub request: Duration,
    pub tls: Tls,
}

/// Where the objects are, as errors name it.
#[derive(Debug, Clone)]
struct ObjectSettings {
    connection: String,
    /// With its scheme, without a slash at the end.
    endpoint: String,
    bucket: Option<String>,
    folder: String,
    key: Option<AccessKey>,
    signing_region: String,
    path_style: bool,
    /// Where the server cannot list: paths below the folder.
    names: Option<Vec<String>>,
    connect_limit: Duration,
}

fn bad(name: &str, what: impl std::fmt::Display, hint: &str) -> Error {
    Error::new(Code::BadSetting, format!("connection {name}: {what}")).hint(hint)
}

/// The address with a scheme. Without one it is HTTPS, except on this very machine.
fn with_scheme(address: &str) -> String {
    let address = address.trim().trim_end_matches('/');
    if address.contains("://") {
        return address.to_owned();
    }
    let host = address.split([':', '/']).next().unwrap_or_default();
    let own = host == "localhost" || host.starts_with("127.");
    format!("{}://{address}", if own { "http" } else { "https" })
}

fn client(name: &str, limits: &Limits) -> Result<ClientOptions> {
    let mut options = ClientOptions::new()
        .with_allow_http(true)
        .with_connect_timeout(limits.connect)
        .with_timeout(limits.request)
        .with_allow_invalid_certificates(limits.tls.unverified);
    if let Some(text) = &limits.tls.authorities {
        let all = Certificate::from_pem_bundle(text)
            .map_err(|e| bad(name, format!("ca_file: {e}"), "give a file of certificates in PEM"))?;
        for certificate in all {
            options = options.with_root_certificate(certificate);
        }
    }
    Ok(options)
}

fn signed_in(name: &str, sign_in: Option<&SignIn>, options: ClientOptions) -> Result<ClientOptions> {
    let words = match sign_in {
        None => return Ok(options),
        Some(SignIn::Password { user, password }) => format!("Basic {}", BASE64.encode(format!("{user}:{password}"))),
        Some(SignIn::Token(token)) => format!("Bearer {token}"),
    };
    let mut value = HeaderValue::from_str(&words)
        .map_err(|_| bad(name, "the secret has characters that no request can carry", "set the secret again"))?;
    value.set_sensitive(true);
    Ok(options.with_default_headers(HeaderMap::from_iter([(AUTHORIZATION, value)])))
}

fn retries() -> RetryConfig {
    let backoff =
        BackoffConfig { init_backoff: Duration::from_millis(100), max_backoff: Duration::from_secs(2), base: 2.0 };
    RetryConfig { backoff, max_retries: 3, retry_timeout: Duration::from_secs(20) }
}

impl Objects {
    pub fn s3(address: S3Address, limits: &Limits) -> Result<Objects> {
        let S3Address { connection, bucket, path_style, .. } = address;
        let endpoint = with_scheme(&address.endpoint);
        let place = endpoint.split_once("://").map_or("", |(_, rest)| rest);
        if !path_style && place.split(':').next().is_some_and(|host| host.parse::<std::net::IpAddr>().is_ok()) {
            let what = format!("{place} is not a host that the bucket's name can be a part of");
            return Err(bad(&connection, what, "set path_style to true"));
        }
        // In the other style the bucket is a part of the host's name.
        let host = match path_style {
            true => endpoint.clone(),
            false => endpoint.replacen("://", &format!("://{bucket}."), 1),
        };
        let _ = network();
        let builder = AmazonS3Builder::new()
            .with_bucket_name(&bucket)
            .with_endpoint(host)
            .with_virtual_hosted_style_request(!path_style)
            .with_region(&address.signing_region)
            .with_client_options(client(&connection, limits)?)
            .with_retry(retries());
        let builder = match &address.key {
            Some(AccessKey { id, secret, session: None }) => {
                builder.with_access_key_id(id).with_secret_access_key(secret)
            }
            Some(AccessKey { id, secret, session: Some(session) }) => {
                builder.with_access_key_id(id).with_secret_access_key(secret).with_token(session)
            }
            None => builder.with_skip_signature(true),
        };
        let store = builder.build().map_err(|e| bad(&connection, e, "check the address and the bucket"))?;
        let settings = ObjectSettings {
            connection,
            endpoint,
            bucket: Some(bucket),
            folder: address.folder.trim_matches('/').to_owned(),
            key: address.key,
            signing_region: address.signing_region,
            path_style,
            names: None,
            connect_limit: limits.connect,
        };
        Ok(Objects { settings, store: Arc::new(store), changed: Arc::default() })
    }

    pub fn http(address: HttpAddress, limits: &Limits) -> Result<Objects> {
        let name = address.connection;
        let url = with_scheme(&address.url);
        let (base, names) = match address.files {
            Some(names) => (url, names),
            None => {
                let (scheme, rest) = url.split_once("://").unwrap_or(("https", &url));
                let (folder, file) = rest.rsplit_once('/').ok_or_else(|| {
                    bad(&name, format!("{url} names no file"), "give the URL of a file, or name files below it")
                })?;
                (format!("{scheme}://{folder}"), vec![file.to_owned()])
            }
        };
        let _ = network();
        let store = HttpBuilder::new()
            .with_url(&base)
            .with_client_options(signed_in(&name, address.sign_in.as_ref(), client(&name, limits)?)?)
            .with_retry(retries())
            .build()
            .map_err(|e| bad(&name, e, "give a URL such as https://files.example.test/drop"))?;
        let settings = ObjectSettings {
            connection: name,
            endpoint: base,
            bucket: None,
            folder: String::new(),
            key: None,
            signing_region: String::new(),
            path_style: true,
            names: Some(names),
            connect_limit: limits.connect,
        };
        Ok(Objects { settings, store: Arc::new(store), changed: Arc::default() })
    }

    /// The name that an object is shown under and known by.
    fn shown(&self, location: &str) -> PathBuf {
        match &self.settings.bucket {
            Some(bucket) => PathBuf::from(format!("s3://{bucket}/{location}")),
            None => PathBuf::from(format!("{}/{location}", self.settings.endpoint)),
        }
    }

    /// The object of these names below the folder.
    fn object(&self, names: &[String]) -> Path {
        let folders = self.settings.folder.split('/').filter(|name| !name.is_empty());
        folders.chain(names.iter().map(String::as_str)).map(PathPart::from).collect()
    }

    fn location(&self, path: &FilePath) -> Path {
        let text = path.to_string_lossy();
        let start = self.shown("").to_string_lossy().len();
        Path::from_url_path(text.get(start..).unwrap_or_default()).unwrap_or_default()
    }

    fn entry(&self, meta: &ObjectMeta) -> Option<Entry> {
        let location = meta.location.as_ref();
        let below = match self.settings.folder.as_str() {
            "" => location,
            folder => location.strip_prefix(folder)?.strip_prefix('/')?,
        };
        let names: Vec<String> = below.split('/').map(str::to_owned).collect();
        if names.iter().any(|name| is_hidden(name)) {
            return None;
        }
        let file = StoredFile { path: self.shown(location), bytes: meta.size, version: version_of(meta) };
        Some(Entry { file, names })
    }

    /// What went wrong with a request, the setting at fault and the way out. `<Code>` is from the S3 API's error responses.
    fn fault(&self, path: &FilePath, error: &object_store::Error) -> (Error, &'static str) {
        let s = &self.settings;
        if matches!(error, object_store::Error::NotFound { .. } | object_store::Error::Precondition { .. }) {
            self.changed.store(true, Ordering::Relaxed);
        }
        let text = chain(error);
        let said =
            text.split_once("<Code>").and_then(|(_, rest)| Some(rest.split_once("</Code>")?.0)).unwrap_or_default();
        let make = |code: Code, what: String, hint: &str| file_error(&s.connection, path, code, what).hint(hint);
        let bucket = s.bucket.clone().unwrap_or_default();
        match said {
            "NoSuchBucket" => {
                let hint = "check its spelling; where the bucket is a part of the host's name, set path_style to false";
                return (make(Code::NotFound, format!("there is no bucket {bucket}"), hint), "bucket");
            }
            "InvalidAccessKeyId" | "NotSignedUp" => {
                return (make(Code::SourceSignIn, "the access key is not known".into(), "correct the user"), "user");
            }
            "SignatureDoesNotMatch" => {
                let hint = "correct the secret; some stores also want their own signing_region";
                return (make(Code::SourceSignIn, "the secret key does not fit the access key".into(), hint), "secret");
            }
            "RequestTimeTooSkewed" => {
                let what = format!("its clock and this machine's differ too much; here it is {} UTC", now());
                return (make(Code::SourceSignIn, what, "set this machine's clock"), "address");
            }
            "AccessDenied" => {
                let (hint, setting) = match s.key.is_some() {
                    true => ("give the access key the right to list and read the bucket", "user"),
                    false => ("the bucket is not open to everyone: give an access key and its secret", "user"),
                };
                return (make(Code::SourceRefused, "reading is not allowed".into(), hint), setting);
            }
            _ => {}
        }
        let lower = text.to_lowercase();
        match error {
            _ if lower.contains("the run was cancelled") => {
                (Error::new(Code::Cancelled, "the run was cancelled"), "address")
            }
            object_store::Error::NotFound { .. } => {
                (make(Code::NotFound, "there is no such file".into(), "check the address and the name"), "address")
            }
            object_store::Error::Precondition { .. } => (changed(&s.connection, path), "address"),
            object_store::Error::PermissionDenied { .. } | object_store::Error::Unauthenticated { .. } => (
                make(Code::SourceRefused, "reading is not allowed".into(), "check user, secret and their rights"),
                "user",
            ),
            _ if lower.contains("peer certificate") && tls::fault(&text).is_some() => {
                let (what, hint) = tls::fault(&text).unwrap_or_default();
                let error = make(Code::SourceUnreachable, what.into(), hint);
                let setting = tls::setting_at_fault(&error).unwrap_or("address");
                (error, setting)
            }
            _ if lower.contains("invalid http")
                || lower.contains("invalidcontenttype")
                || lower.contains("corrupt message") =>
            {
                let (what, hint) = match s.endpoint.starts_with("https:") {
                    true => ("TLS was expected, but the server speaks plain HTTP", "begin the address with http://"),
                    false => {
                        ("the server does not answer in HTTP", "it may expect TLS: begin the address with https://")
                    }
                };
                (make(Code::SourceUnreachable, what.into(), hint), "address")
            }
            _ if lower.contains("dns error") && !s.path_style => {
                let what = format!("the host of bucket {bucket} has no address");
                (make(Code::SourceUnreachable, what, "set path_style to true"), "path_style")
            }
            _ if lower.contains("timed out") || lower.contains("timeout") => {
                let hint = "check that the server works, or raise request_limit";
                (make(Code::SourceTimeout, "the server did not answer in time".into(), hint), "request_limit")
            }
            _ => {
                let short: String = text.chars().take(300).collect();
                (make(Code::SourceUnreachable, short, "check that the server runs and can be reached"), "address")
            }
        }
    }

    fn host_and_port(&self) -> (String, u16) {
        let (scheme, rest) = self.settings.endpoint.split_once("://").unwrap_or(("https", &self.settings.endpoint));
        let place = rest.split('/').next().unwrap_or_default();
        let usual = if scheme == "http" { 80 } else { 443 };
        match place.rsplit_once(':').and_then(|(host, port)| Some((host, port.parse().ok()?))) {
            Some((host, port)) => (host.to_owned(), port),
            None => (place.to_owned(), usual),
        }
    }
}

/// An entity tag, or the time of the last change.
fn version_of(meta: &ObjectMeta) -> String {
    meta.e_tag.clone().unwrap_or_else(|| meta.last_modified.to_rfc3339())
}

fn now() -> String {
    chrono::Utc::now().format("%Y-%m-%d %H:%M:%S").to_string()
}

impl Storage for Objects {
    fn address(&self) -> String {
        self.shown(&self.settings.folder).display().to_string()
    }

    fn list(&self) -> Result<Listing> {
        let (store, cancel) = (self.store.clone(), CancellationToken::new());
        let metas: Vec<ObjectMeta> = match &self.settings.names {
            None => {
                let prefix = Path::from(self.settings.folder.as_str());
                let listed = ask(async move { store.list(Some(&prefix)).try_collect::<Vec<ObjectMeta>>().await });
                wait(&listed, &cancel).map_err(|e| self.fault(&self.shown(&self.settings.folder), &e).0)?
            }
            Some(names) => {
                let mut found = Vec::new();
                for name in names {
                    let (store, path) = (self.store.clone(), Path::from(name.as_str()));
                    let head = ask(async move { store.head(&path).await });
                    found.push(wait(&head, &cancel).map_err(|e| self.fault(&self.shown(name), &e).0)?);
                }
                found
            }
        };
        // Of each folder what marks in it hide.
        let mark = |meta: &ObjectMeta| {
            let (folder, name) = meta.location.as_ref().rsplit_once('/')?;
            Some((format!("{folder}/"), marks::hidden_by(name)?))
        };
        let hidden: Vec<(String, Hidden)> = metas.iter().filter_map(mark).collect();
        let is_shown = |meta: &&ObjectMeta| {
            let (location, name) = (meta.location.as_ref(), meta.location.filename().unwrap_or_default());
            !hidden.iter().any(|(folder, own)| location.starts_with(folder.as_str()) && own.hides(name))
        };
        let mut entries: Vec<Entry> = metas.iter().filter(is_shown).filter_map(|meta| self.entry(meta)).collect();
        entries.sort_by(|a, b| a.file.path.cmp(&b.file.path));
        Ok(Listing { entries, ..Listing::default() })
    }

    fn look(&self, folder: &[String]) -> Result<Folder> {
        let prefix = self.object(folder);
        let path = self.shown(prefix.as_ref());
        if self.settings.names.is_some() {
            let what = "a web server does not tell what is in a folder";
            return Err(file_error(&self.settings.connection, &path, Code::Unsupported, what)
                .hint("use a folder or an object store"));
        }
        let store = self.store.clone();
        let listed = ask(async move { store.list_with_delimiter(Some(&prefix)).await });
        let listed = wait(&listed, &CancellationToken::new()).map_err(|e| self.fault(&path, &e).0)?;
        let own = |location: &Path| location.filename().map(str::to_owned);
        let folders: Vec<String> = listed.common_prefixes.iter().filter_map(own).collect();
        let file = |meta: &ObjectMeta| {
            let path = self.shown(meta.location.as_ref());
            let file = StoredFile { path, bytes: meta.size, version: version_of(meta) };
            (file, meta.last_modified.timestamp_millis())
        };
        Ok(Folder::of(folders, listed.objects.iter().map(file).collect()))
    }

    fn at(&self, names: &[String], bytes: u64) -> Result<StoredFile> {
        let path = self.shown(self.object(names).as_ref());
        Ok(StoredFile { path, bytes, version: ANY_VERSION.to_owned() })
    }

    fn names_of(&self, location: &str) -> Option<Vec<String>> {
        let below = match &self.settings.bucket {
            // The same store under the names that other tools have for it.
            Some(bucket) => {
                let (scheme, rest) = location.split_once("://")?;
                let own = matches!(scheme, "s3" | "s3a" | "s3n");
                rest.strip_prefix(bucket.as_str()).filter(|_| own)?.strip_prefix('/')?
            }
            None => location.strip_prefix(self.settings.endpoint.as_str())?.strip_prefix('/')?,
        };
        let below = match self.settings.folder.as_str() {
            "" => below,
            folder => below.strip_prefix(folder)?.strip_prefix('/')?,
        };
        Some(below.split('/').map(str::to_owned).collect())
    }

    fn for_others(&self, with_keys: bool) -> BTreeMap<String, String> {
        let s = &self.settings;
        let mut all = BTreeMap::new();
        if s.bucket.is_none() {
            return all;
        }
        let mut say = |name: &str, value: &str| drop(all.insert(name.to_owned(), value.to_owned()));
        say("s3.endpoint", &s.endpoint);
        say("s3.path-style-access", if s.path_style { "true" } else { "false" });
        say("s3.region", &s.signing_region);
        say("client.region", &s.signing_region);
        if let Some(key) = s.key.as_ref().filter(|_| with_keys) {
            say("s3.access-key-id", &key.id);
            say("s3.secret-access-key", &key.secret);
            if let Some(session) = &key.session {
                say("s3.session-token", session);
            }
        }
        all
    }

    fn location_of(&self, names: &[String]) -> Result<String> {
        let place = self.object(names);
        Ok(match &self.settings.bucket {
            Some(bucket) => format!("s3://{bucket}/{place}"),
            None => self.shown(place.as_ref()).display().to_string(),
        })
    }

    fn open(&self, file: &StoredFile, cancel: &CancellationToken) -> Result<Arc<dyn Blob>> {
        Ok(Arc::new(Object {
            store: self.store.clone(),
            location: self.location(&file.path),
            version: file.version.clone(),
            bytes: file.bytes,
            cancel: cancel.clone(),
            coming: Mutex::default(),
            explain: {
                let (objects, path) = (self.clone(), file.path.clone());
                Box::new(move |error| objects.fault(&path, error).0)
            },
        }))
    }

    fn put(&self, names: &[String], content: Bytes, condition: &Condition) -> Result<StoredFile> {
        let s = &self.settings;
        let is_plain = |name: &String| !name.is_empty() && *name != "." && *name != ".." && !name.contains('/');
        if names.is_empty() || !names.iter().all(is_plain) {
            let what = format!("\"{}\" cannot be the name of an object", names.join("/"));
            return Err(bad(&s.connection, what, "give a path below the address, without . and .."));
        }
        let location = self.object(names);
        let path = self.shown(location.as_ref());
        if s.bucket.is_none() {
            let what = "files behind a web server are only read";
            return Err(file_error(&s.connection, &path, Code::Unsupported, what));
        }
        let mode = match condition {
            Condition::Always => PutMode::Overwrite,
            Condition::Absent => PutMode::Create,
            Condition::Version(version) => {
                PutMode::Update(UpdateVersion { e_tag: Some(version.clone()), version: None })
            }
        };
        let (store, bytes, target) = (self.store.clone(), content.len() as u64, location.clone());
        let put = ask(async move { store.put_opts(&target, content.into(), mode.into()).await });
        let done = wait(&put, &CancellationToken::new()).map_err(|error| match error {
            object_store::Error::AlreadyExists { .. } => {
                file_error(&s.connection, &path, Code::AlreadyExists, "there is an object of this name")
            }
            other => self.fault(&path, &other).0,
        })?;
        self.changed.store(true, Ordering::Relaxed);
        // A store that gives no tag for what it has taken is asked for it.
        let version = match done.e_tag {
            Some(tag) => tag,
            None => {
                let store = self.store.clone();
                let head = ask(async move { store.head(&location).await });
                version_of(&wait(&head, &CancellationToken::new()).map_err(|e| self.fault(&path, &e).0)?)
            }
        };
        Ok(StoredFile { path, bytes, version })
    }

    fn delete(&self, file: &StoredFile) -> Result<()> {
        let (store, location) = (self.store.clone(), self.location(&file.path));
        match wait(&ask(async move { store.delete(&location).await }), &CancellationToken::new()) {
            Ok(()) | Err(object_store::Error::NotFound { .. }) => {
                // What is known of the tables is known of another state.
                self.changed.store(true, Ordering::Relaxed);
                Ok(())
            }
            Err(error) => Err(self.fault(&file.path, &error).0),
        }
    }

    fn has_changed(&self) -> bool {
        self.changed.swap(false, Ordering::Relaxed)
    }

    fn reach(&self, report: &mut (dyn FnMut(TestStep) + Send)) -> bool {
        let (host, port) = self.host_and_port();
        let connection = &self.settings.connection;
        let reached = test_steps::reach(connection, (&host, port), self.settings.connect_limit, &mut *report);
        if !network().block_on(reached) {
            return false;
        }
        let started = Instant::now();
        let (store, prefix) = (self.store.clone(), Path::from(self.settings.folder.as_str()));
        let path = self.shown(&self.settings.folder);
        let Some(first) = self.settings.names.as_ref().map(|names| names.first().cloned().unwrap_or_default()) else {
            let answer = ask(async move { store.list_with_delimiter(Some(&prefix)).await });
            let (outcome, setting) = match wait(&answer, &CancellationToken::new()) {
                Ok(found) => {
                    let count = found.objects.len() + found.common_prefixes.len();
                    (Ok(format!("{} below {}", test_steps::counted(count, "name"), path.display())), "")
                }
                Err(error) => {
                    let (error, setting) = self.fault(&path, &error);
                    (Err(error), setting)
                }
            };
            return reporter(report)("sign in", started, outcome, setting);
        };
        let location = Path::from(first.as_str());
        let answer = ask(async move { store.head(&location).await });
        let (outcome, setting) = match wait(&answer, &CancellationToken::new()) {
            Ok(meta) => (Ok(format!("{first} has {} bytes", meta.size)), ""),
            Err(error) => {
                let (error, setting) = self.fault(&self.shown(&first), &error);
                (Err(error), setting)
            }
        };
        reporter(report)("find", started, outcome, setting)
    }
}

struct Object {
    store: Arc<dyn ObjectStore>,
    location: Path,
    /// An entity tag, or the time of the last change.
    version: String,
    bytes: u64,
    cancel: CancellationToken,
    coming: Mutex<Pieces>,
    explain: Box<dyn Fn(&object_store::Error) -> Error + Send + Sync>,
}

/// Pieces by their start, with their length: on their way, or here.
type Pieces = BTreeMap<u64, (u64, Arc<Mutex<Piece>>)>;

enum Piece {
    Coming(Answer<Bytes>),
    Here(Bytes),
}

/// Pieces with a gap of at most this many bytes between them are one request.
const GAP: u64 = 1 << 18;
/// A request asks for at most this many bytes.
const REQUEST: u64 = 16 << 20;

impl Object {
    fn request(&self, start: u64, length: u64) -> Answer<Bytes> {
        let (store, location) = (self.store.clone(), self.location.clone());
        let options = GetOptions {
            range: Some(GetRange::Bounded(start..start + length)),
            if_match: Some(self.version.clone()).filter(|version| version.contains('"')),
            if_unmodified_since: chrono::DateTime::parse_from_rfc3339(&self.version).ok().map(Into::into),
            ..GetOptions::default()
        };
        let (version, size) = (self.version.clone(), self.bytes);
        ask(async move {
            let found = store.get_opts(&location, options).await?;
            // Not every server heeds the condition.
            let another = found.meta.e_tag.as_ref().is_some_and(|tag| version.contains('"') && *tag != version);
            if another || found.meta.size != size {
                let source = "it is another one than the listing says".into();
                return Err(object_store::Error::Precondition { path: location.to_string(), source });
            }
            found.bytes().await
        })
    }

    fn failed(&self, error: &object_store::Error) -> io::Error {
        io::Error::other((self.explain)(error))
    }
}

impl Blob for Object {
    fn size(&self) -> u64 {
        self.bytes
    }

    fn read(&self, start: u64, length: usize) -> io::Result<Bytes> {
        let length = length as u64;
        let known = {
            let coming = self.coming.lock().unwrap_or_else(PoisonError::into_inner);
            coming
                .range(..=start)
                .next_back()
                .filter(|(first, (size, _))| start + length <= *first + size)
                .map(|(first, (_, piece))| (*first, piece.clone()))
        };
        let Some((first, piece)) = known else {
            let bytes = wait(&self.request(start, length), &self.cancel).map_err(|e| self.failed(&e))?;
            return if bytes.len() as u64 == length { Ok(bytes) } else { Err(io::ErrorKind::UnexpectedEof.into()) };
        };
        let mut piece = piece.lock().unwrap_or_else(PoisonError::into_inner);
        if let Piece::Coming(answer) = &*piece {
            let bytes = wait(answer, &self.cancel).map_err(|e| self.failed(&e))?;
            *piece = Piece::Here(bytes);
        }
        let Piece::Here(bytes) = &*piece else { return Err(io::ErrorKind::UnexpectedEof.into()) };
        let from = (start - first) as usize;
        if bytes.len() < from + length as usize {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        Ok(bytes.slice(from..from + length as usize))
    }

    fn soon(&self, pieces: &[(u64, u64)]) {
        let mut wanted: Vec<(u64, u64)> = pieces.iter().copied().filter(|(_, length)| *length > 0).collect();
        wanted.sort_unstable();
        let mut merged: Vec<(u64, u64)> = Vec::new();
        for (start, length) in wanted {
            match merged.last_mut() {
                Some((first, size)) if start <= *first + *size + GAP && start + length - *first <= REQUEST => {
                    *size = (*size).max(start + length - *first);
                }
                _ => merged.push((start, length)),
            }
        }
        let mut coming = self.coming.lock().unwrap_or_else(PoisonError::into_inner);
        // What was read in order lies behind and is not needed again.
        if let (Some(first), true) = (merged.first(), coming.len() > 8) {
            coming.retain(|start, _| *start >= first.0);
        }
        for (start, length) in merged {
            let piece = Piece::Coming(self.request(start, length));
            coming.insert(start, (length, Arc::new(Mutex::new(piece))));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_without_a_scheme_gets_one() {
        for (given, wanted) in [
            ("127.0.0.1:9000", "http://127.0.0.1:9000"),
            ("localhost", "http://localhost"),
            ("store.example.test/", "https://store.example.test"),
            ("http://store.example.test:80/", "http://store.example.test:80"),
        ] {
            assert_eq!(with_scheme(given), wanted);
        }
    }
}
