//! Tables whose last states another service's catalog knows, which is asked through the open protocol (Iceberg REST catalog specification). The
//! catalog writes the metadata files; a commit tells it what changes, and what must be so for that.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use cobble_format::Known;
use cobble_storage::{AccessKey, Limits, Objects, S3Address, SchemaProperties, Storage};
use cobble_types::{Code, Error, Result};
use reqwest::Method;
use serde_json::{Value as Json, json};

use super::protocol::{Answer, Protocol, Request, joined, parts};
use super::{Current, FirstView, Make, TableCatalog, TableName, ViewCatalog, ViewState, first_file};
use crate::table::{LakeTable, latest};
use crate::{updates, view};

/// Storages that are kept of those that keys were given for.
const STORAGES: usize = 16;
/// Levels of schemas within schemas that are looked into.
const LEVELS: usize = 8;

#[derive(Debug)]
pub struct Rest {
    pub protocol: Arc<Protocol>,
    /// Where the files are; without it the catalog says so.
    pub storage: Option<Arc<dyn Storage>>,
    /// Schemas in schemas are listed, too.
    pub nested: bool,
    /// What the catalog has told of a storage, with the storage.
    given: Mutex<Vec<(Given, Arc<dyn Storage>)>>,
    /// Tables as they were told last, by the mark that the catalog gives a state. Where it gives keys, it is asked for them each time.
    known: Mutex<Known<Current>>,
}

/// What a catalog tells of a storage.
#[derive(Clone, PartialEq)]
struct Given {
    bucket: String,
    config: BTreeMap<String, String>,
}

impl std::fmt::Debug for Given {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Given").field("bucket", &self.bucket).finish_non_exhaustive()
    }
}

impl Rest {
    pub fn new(protocol: Arc<Protocol>, storage: Option<Arc<dyn Storage>>, nested: bool) -> Rest {
        Rest { protocol, storage, nested, given: Mutex::default(), known: Mutex::default() }
    }

    fn connection(&self) -> &str {
        &self.protocol.settings.connection
    }

    fn wrong(&self, what: impl std::fmt::Display) -> Error {
        Error::new(Code::SourceData, format!("connection {}: the catalog's answer: {what}", self.connection()))
            .hint("it may be none of the open protocol, or the table is of a later version of the table specification")
    }

    /// What went wrong where something was to get a name.
    fn taken_or_failed(&self, answer: &Answer) -> Error {
        let fault = self.protocol.fault(answer);
        match answer.status {
            409 => Error::new(Code::AlreadyExists, fault.message).hint("choose another name"),
            _ => fault,
        }
    }

    fn at_storage(&self, what: impl std::fmt::Display) -> Error {
        Error::new(Code::BadSetting, format!("connection {}: {what}", self.connection()))
            .hint("the catalog lists the table; name the connection that holds its files in the setting storage")
    }

    /// The storage of a table at this location.
    fn storage_of(&self, location: &str, answer: &Json) -> Result<Arc<dyn Storage>> {
        if let Some(storage) = &self.storage {
            return Ok(storage.clone());
        }
        let (scheme, rest) = location.split_once("://").unwrap_or_default();
        let bucket = rest.split('/').next().unwrap_or_default();
        if !matches!(scheme, "s3" | "s3a" | "s3n") || bucket.is_empty() {
            return Err(self.at_storage(format!("the table's files are at {location}, which is in no bucket")));
        }
        let texts = |json: Option<&Json>| -> BTreeMap<String, String> {
            let own = json.and_then(Json::as_object).into_iter().flatten();
            own.filter_map(|(name, value)| Some((name.clone(), value.as_str()?.to_owned()))).collect()
        };
        let mut config = self.protocol.told().map(|told| told.properties).unwrap_or_default();
        config.extend(texts(answer.get("config")));
        let named = answer.get("storage-credentials").and_then(Json::as_array).into_iter().flatten();
        let prefix = |own: &&Json| own.get("prefix").and_then(Json::as_str).unwrap_or_default().to_owned();
        let fitting = named.filter(|own| location.starts_with(&prefix(own)));
        // Of several that fit the one with the longest prefix is meant.
        if let Some(own) = fitting.max_by_key(|own| prefix(own).len()) {
            config.extend(texts(own.get("config")));
        }
        config.retain(|name, _| name.starts_with("s3.") || name == "client.region");
        let wanted = Given { bucket: bucket.to_owned(), config };
        let mut given = self.given.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, storage)) = given.iter().find(|(known, _)| *known == wanted) {
            return Ok(storage.clone());
        }
        let told = |name: &str| wanted.config.get(name).cloned();
        let Some(endpoint) = told("s3.endpoint") else {
            return Err(self.at_storage(format!("the catalog does not say how the storage of {location} is reached")));
        };
        let key = told("s3.access-key-id").zip(told("s3.secret-access-key"));
        let address = S3Address {
            connection: self.connection().to_owned(),
            endpoint,
            bucket: bucket.to_owned(),
            folder: String::new(),
            key: key.map(|(id, secret)| AccessKey { id, secret, session: told("s3.session-token") }),
            path_style: told("s3.path-style-access").is_none_or(|own| own != "false"),
            signing_region: told("s3.region")
                .or_else(|| told("client.region"))
                .unwrap_or_else(|| "us-east-1".to_owned()),
        };
        let settings = &self.protocol.settings;
        let limits =
            Limits { connect: settings.connect_limit, request: settings.request_limit, tls: settings.tls.clone() };
        let storage: Arc<dyn Storage> = Arc::new(Objects::s3(address, &limits)?);
        given.insert(0, (wanted, storage.clone()));
        given.truncate(STORAGES);
        Ok(storage)
    }

    /// A table as an answer tells it.
    fn current_of(&self, name: &TableName, mut body: Json) -> Result<Current> {
        let document = body.get_mut("metadata").map(Json::take).filter(Json::is_object);
        let document = document.ok_or_else(|| self.wrong(format!("{name} has no metadata")))?;
        let location = document.get("location").and_then(Json::as_str).map(|own| own.trim_end_matches('/').to_owned());
        let location = location.ok_or_else(|| self.wrong(format!("{name} has no location")))?;
        let storage = self.storage_of(&location, &body)?;
        let elsewhere = |what: &str| self.at_storage(format!("{name}: {what} is not below {}", storage.address()));
        let home = storage.names_of(&location).ok_or_else(|| elsewhere(&location))?;
        let named = body.get("metadata-location").and_then(Json::as_str).map(str::to_owned);
        let file = match &named {
            Some(named) => storage.at(&storage.names_of(named).ok_or_else(|| elsewhere(named))?, 0)?,
            None => first_file(&storage, &home)?,
        };
        Ok(Current { storage, home, file, document: Some(Arc::new(document)), named })
    }

    fn loaded(&self, name: &TableName) -> Result<Option<Json>> {
        let schema = joined(&name.schema);
        let answer = self.protocol.call(Request::new(Method::GET, &["namespaces", &schema, "tables", &name.table]))?;
        match answer.status {
            200 => Ok(Some(answer.body)),
            404 if answer.body.pointer("/error/type").is_some() => Ok(None),
            _ => Err(self.protocol.fault(&answer)),
        }
    }

    /// Whether a table has what was sent to be changed, after the catalog did not say.
    fn looked_up(&self, table: &LakeTable, before: &Json, next: &Json) -> Result<bool> {
        let body = self.loaded(&table.name)?;
        let Some(now) = body.as_ref().and_then(|body| body.get("metadata")) else { return Ok(false) };
        let snapshots = |json: &Json| -> Vec<i64> {
            let all = json.get("snapshots").and_then(Json::as_array).into_iter().flatten();
            all.filter_map(|own| own.get("snapshot-id").and_then(Json::as_i64)).collect()
        };
        let (known, there) = (snapshots(before), snapshots(now));
        let new: Vec<i64> = snapshots(next).into_iter().filter(|id| !known.contains(id)).collect();
        Ok(match new.is_empty() {
            false => new.iter().all(|id| there.contains(id)),
            true => updates::between(now, next).is_empty(),
        })
    }

    fn make_schema(&self, schema: &str, properties: &SchemaProperties) -> Result<Answer> {
        let body = json!({ "namespace": parts(schema), "properties": properties });
        self.protocol.done(Request::new(Method::POST, &["namespaces"]).with(body))
    }

    fn below(&self, parent: Option<&str>, level: usize, into: &mut Vec<String>) -> Result<()> {
        let own = parent.map(joined);
        let query: Vec<(&str, &str)> = own.as_deref().map(|own| ("parent", own)).into_iter().collect();
        let found = self.protocol.listed(&["namespaces"], &query, "namespaces")?.unwrap_or_default();
        for one in &found {
            let names: Option<Vec<&str>> = one.as_array().map(|names| names.iter().filter_map(Json::as_str).collect());
            let names = names.filter(|names| !names.is_empty()).ok_or_else(|| self.wrong("a namespace has no name"))?;
            let name = names.join(".");
            if into.contains(&name) {
                continue;
            }
            into.push(name.clone());
            if self.nested && level < LEVELS {
                self.below(Some(&name), level + 1, into)?;
            }
        }
        Ok(())
    }
}

impl TableCatalog for Rest {
    fn schemas(&self) -> Result<Vec<String>> {
        let mut all = Vec::new();
        self.below(None, 1, &mut all)?;
        all.sort();
        Ok(all)
    }

    fn tables(&self, schema: &str) -> Result<Vec<String>> {
        let own = joined(schema);
        let found = self.protocol.listed(&["namespaces", &own, "tables"], &[], "identifiers")?.unwrap_or_default();
        let name = |one: &Json| one.get("name").and_then(Json::as_str).map(str::to_owned);
        let mut names: Vec<String> = found
            .iter()
            .map(|one| name(one).ok_or_else(|| self.wrong("a table has no name")))
            .collect::<Result<_>>()?;
        names.sort();
        Ok(names)
    }

    fn current(&self, name: &TableName) -> Result<Option<Current>> {
        let schema = joined(&name.schema);
        let mut request = Request::new(Method::GET, &["namespaces", &schema, "tables", &name.table]);
        let place = PathBuf::from(format!("{schema}\u{1f}{}", name.table));
        let held = || self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let known = held().last(&place).filter(|_| self.storage.is_some());
        request.known = known.as_ref().map(|(state, _)| state.clone());
        let answer = self.protocol.call(request)?;
        match (answer.status, known) {
            (200, _) => {
                let current = self.current_of(name, answer.body)?;
                if let (Some(state), Some(_)) = (answer.state, &self.storage) {
                    // Decoded it takes more than its text.
                    held().keep(&place, state, current.clone(), 4 * answer.bytes);
                }
                Ok(Some(current))
            }
            (304, Some((_, current))) => Ok(Some(current)),
            (404, _) if answer.body.pointer("/error/type").is_some() => Ok(None),
            _ => Err(self.protocol.fault(&answer)),
        }
    }

    fn begin(&self, name: &TableName, location: Option<&str>, make: Make<'_>) -> Result<Current> {
        // Where the table is to be is the catalog's to say.
        let wanted = make(location.unwrap_or_default())?;
        let of_id = |list: &str, id: &str, default: &str| {
            let default = wanted.get(default).and_then(Json::as_i64);
            let all = wanted.get(list).and_then(Json::as_array).into_iter().flatten();
            all.into_iter().find(|own| own.get(id).and_then(Json::as_i64) == default).cloned()
        };
        let body = json!({
            "name": name.table,
            "location": location,
            "schema": of_id("schemas", "schema-id", "current-schema-id"),
            "partition-spec": of_id("partition-specs", "spec-id", "default-spec-id"),
            "write-order": of_id("sort-orders", "order-id", "default-sort-order-id"),
            "properties": wanted.get("properties"),
            "stage-create": true,
        });
        let schema = joined(&name.schema);
        let ask =
            || self.protocol.call(Request::new(Method::POST, &["namespaces", &schema, "tables"]).with(body.clone()));
        let mut answer = ask()?;
        if answer.status == 404 && answer.body.pointer("/error/type").is_some() {
            self.make_schema(&name.schema, &SchemaProperties::new())?;
            answer = ask()?;
        }
        match answer.status {
            200..300 => self.current_of(name, answer.body),
            _ => Err(self.taken_or_failed(&answer)),
        }
    }

    fn may_change(&self, _: &LakeTable) -> Result<()> {
        Ok(())
    }

    fn commit(&self, table: &LakeTable, next: &Json) -> Result<bool> {
        let before = if table.is_fresh { updates::nothing() } else { table.document()? };
        let changes = updates::between(&before, next);
        if changes.is_empty() {
            return Ok(true);
        }
        let must = match table.is_fresh {
            true => vec![json!({ "type": "assert-create" })],
            false => updates::requirements(&before, &changes),
        };
        let name = &table.name;
        let body = json!({
            "identifier": { "namespace": parts(&name.schema), "name": name.table },
            "requirements": must,
            "updates": changes,
        });
        let schema = joined(&name.schema);
        let request = Request::new(Method::POST, &["namespaces", &schema, "tables", &name.table]).with(body);
        let silence = match self.protocol.call(request) {
            Ok(answer) => match answer.status {
                200..300 => return Ok(true),
                409 => return Ok(false),
                // A gateway's word is none of the catalog's.
                500..600 => self.protocol.fault(&answer),
                _ => return Err(self.protocol.fault(&answer)),
            },
            Err(none) if none.unsent => return Err(none.error),
            Err(none) => none.error,
        };
        // The change may have been made, or may not: the table says which.
        match self.looked_up(table, &before, next) {
            Ok(is_there) => Ok(is_there),
            Err(_) => {
                Err(table.in_doubt(format!("the catalog did not say whether the change was made: {}", silence.message)))
            }
        }
    }

    fn drop_table(&self, table: &LakeTable) -> Result<()> {
        let schema = joined(&table.name.schema);
        let request = Request::new(Method::DELETE, &["namespaces", &schema, "tables", &table.name.table]);
        self.protocol.done(request.asking("purgeRequested", "true")).map(drop)
    }

    fn release(&self, table: &LakeTable) -> Result<()> {
        let schema = joined(&table.name.schema);
        let request = Request::new(Method::DELETE, &["namespaces", &schema, "tables", &table.name.table]);
        self.protocol.done(request.asking("purgeRequested", "false")).map(drop)
    }

    fn adopt(&self, name: &TableName, location: &str) -> Result<()> {
        let location = location.trim_end_matches('/');
        let file = match location.ends_with(".metadata.json") || location.ends_with(".metadata.json.gz") {
            true => location.to_owned(),
            false => {
                let storage = self.storage.as_ref().ok_or_else(|| {
                    self.at_storage(format!("which metadata file of {location} is the last one cannot be seen"))
                })?;
                let names = storage.names_of(location);
                let names =
                    names.ok_or_else(|| self.at_storage(format!("{location} is not below {}", storage.address())))?;
                let file = latest(storage.as_ref(), &names)?;
                let file = file.ok_or_else(|| self.at_storage(format!("{location} has no metadata file")))?;
                format!("{location}/{}/{}", crate::table::METADATA, file.name())
            }
        };
        let schema = joined(&name.schema);
        let body = json!({ "name": name.table, "metadata-location": file });
        let ask =
            || self.protocol.call(Request::new(Method::POST, &["namespaces", &schema, "register"]).with(body.clone()));
        let mut answer = ask()?;
        if answer.status == 404 && self.schema_properties(&name.schema)?.is_none() {
            self.make_schema(&name.schema, &SchemaProperties::new())?;
            answer = ask()?;
        }
        match answer.status {
            200..300 => Ok(()),
            _ => Err(self.taken_or_failed(&answer)),
        }
    }

    fn rename(&self, table: &LakeTable, to: &TableName) -> Result<()> {
        let name = |own: &TableName| json!({ "namespace": parts(&own.schema), "name": own.table });
        let body = json!({ "source": name(&table.name), "destination": name(to) });
        self.protocol.done(Request::new(Method::POST, &["tables", "rename"]).with(body)).map(drop)
    }

    fn schema_properties(&self, schema: &str) -> Result<Option<SchemaProperties>> {
        let own = joined(schema);
        let answer = self.protocol.call(Request::new(Method::GET, &["namespaces", &own]))?;
        match answer.status {
            200 => {
                let properties = answer.body.get("properties").filter(|own| !own.is_null()).cloned();
                let properties = serde_json::from_value(properties.unwrap_or_else(|| json!({})));
                properties.map(Some).map_err(|_| self.wrong(format!("the properties of {schema} are no texts")))
            }
            404 if answer.body.pointer("/error/type").is_some() => Ok(None),
            _ => Err(self.protocol.fault(&answer)),
        }
    }

    fn keep_schema(&self, schema: &str, properties: Option<&SchemaProperties>) -> Result<()> {
        let own = joined(schema);
        let Some(wanted) = properties else {
            return self.protocol.done(Request::new(Method::DELETE, &["namespaces", &own])).map(drop);
        };
        let Some(known) = self.schema_properties(schema)? else { return self.make_schema(schema, wanted).map(drop) };
        let removals: Vec<&String> = known.keys().filter(|name| !wanted.contains_key(*name)).collect();
        let set: SchemaProperties = wanted.clone();
        let body = json!({ "updates": set, "removals": removals });
        self.protocol.done(Request::new(Method::POST, &["namespaces", &own, "properties"]).with(body)).map(drop)
    }

    /// Only calls that the catalog names are made: whoever has no views need not know the calls.
    fn as_views(&self) -> Result<Option<&dyn ViewCatalog>> {
        let told = self.protocol.told()?;
        let by_property = told.properties.get("view-endpoints-supported").is_some_and(|own| own == "true");
        let named = told.calls.iter().flatten().any(|call| call.ends_with("/namespaces/{namespace}/views"));
        Ok((by_property || named).then_some(self as &dyn ViewCatalog))
    }
}

impl ViewCatalog for Rest {
    fn views(&self, schema: &str) -> Result<Vec<String>> {
        let found = self.protocol.listed(&["namespaces", &joined(schema), "views"], &[], "identifiers")?;
        let name = |one: &Json| one.get("name").and_then(Json::as_str).map(str::to_owned);
        let found = found.unwrap_or_default();
        let mut names: Vec<String> =
            found.iter().map(|one| name(one).ok_or_else(|| self.wrong("a view has no name"))).collect::<Result<_>>()?;
        names.sort();
        Ok(names)
    }

    fn view(&self, name: &TableName) -> Result<Option<ViewState>> {
        let schema = joined(&name.schema);
        let mut answer =
            self.protocol.call(Request::new(Method::GET, &["namespaces", &schema, "views", &name.table]))?;
        match answer.status {
            200 => {
                let document = answer.body.get_mut("metadata").map(Json::take).filter(Json::is_object);
                let document = document.ok_or_else(|| self.wrong(format!("{name} has no metadata")))?;
                let metadata = answer.body.get("metadata-location").and_then(Json::as_str).map(str::to_owned);
                Ok(Some(ViewState { name: name.clone(), document, metadata }))
            }
            404 if answer.body.pointer("/error/type").is_some() => Ok(None),
            _ => Err(self.protocol.fault(&answer)),
        }
    }

    fn make_view(&self, name: &TableName, new: &FirstView) -> Result<()> {
        let properties = if new.properties.is_object() { new.properties.clone() } else { json!({}) };
        let mut body =
            json!({ "name": name.table, "schema": new.schema, "view-version": new.version, "properties": properties });
        if let Some(location) = &new.location {
            body["location"] = json!(location);
        }
        let schema = joined(&name.schema);
        let ask =
            || self.protocol.call(Request::new(Method::POST, &["namespaces", &schema, "views"]).with(body.clone()));
        let mut answer = ask()?;
        if answer.status == 404 && self.schema_properties(&name.schema)?.is_none() {
            self.make_schema(&name.schema, &SchemaProperties::new())?;
            answer = ask()?;
        }
        match answer.status {
            200..300 => Ok(()),
            _ => Err(self.taken_or_failed(&answer)),
        }
    }

    fn change_view(&self, view: &ViewState, updates: &[Json], _: i64) -> Result<bool> {
        let name = &view.name;
        let body = json!({
            "identifier": { "namespace": parts(&name.schema), "name": name.table },
            "requirements": view::requirements(&view.document),
            "updates": updates,
        });
        let schema = joined(&name.schema);
        let request = Request::new(Method::POST, &["namespaces", &schema, "views", &name.table]).with(body);
        let answer = self.protocol.call(request)?;
        match answer.status {
            200..300 => Ok(true),
            409 => Ok(false),
            _ => Err(self.protocol.fault(&answer)),
        }
    }

    fn adopt_view(&self, name: &TableName, metadata: &str) -> Result<()> {
        let schema = joined(&name.schema);
        let body = json!({ "name": name.table, "metadata-location": metadata });
        let request = Request::new(Method::POST, &["namespaces", &schema, "register-view"]).with(body);
        self.protocol.done(request).map(drop)
    }

    fn drop_view(&self, view: &ViewState) -> Result<()> {
        let schema = joined(&view.name.schema);
        let request = Request::new(Method::DELETE, &["namespaces", &schema, "views", &view.name.table]);
        self.protocol.done(request).map(drop)
    }

    fn rename_view(&self, view: &ViewState, to: &TableName) -> Result<()> {
        let name = |own: &TableName| json!({ "namespace": parts(&own.schema), "name": own.table });
        let body = json!({ "source": name(&view.name), "destination": name(to) });
        let answer = self.protocol.call(Request::new(Method::POST, &["views", "rename"]).with(body))?;
        match answer.status {
            200..300 => Ok(()),
            _ => Err(self.taken_or_failed(&answer)),
        }
    }
}
