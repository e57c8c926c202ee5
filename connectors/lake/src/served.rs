//! A lake's tables through the open protocol for catalogs (Iceberg REST catalog specification), so that other tools open and change them.

use std::collections::BTreeMap;
use std::sync::Arc;

use cobble_connect::{CatalogAnswer, CatalogCall, SchemaProperties, Verb};
use cobble_lake::catalog::{Current, TableCatalog, TableName};
use cobble_lake::commit::{logged_next, now, pause};
use cobble_lake::table::LakeTable;
use cobble_lake::updates::{self, NewTable, Refusal};
use cobble_types::{Code, Error};
use serde_json::{Value as Json, json};

use super::Lake;

/// How often a change is tried that others come before.
pub(super) const TRIES: u32 = 20;
/// What stands between the parts of a schema's name.
const UNIT: char = '\u{1f}';
/// Names in one page of a list, at most.
const PAGE: usize = 1000;

/// Why a call is not done.
pub(super) enum Fault {
    Told(CatalogAnswer),
    Failed(Error),
}

pub(super) type Outcome<T> = std::result::Result<T, Fault>;

impl From<Error> for Fault {
    fn from(error: Error) -> Fault {
        Fault::Failed(error)
    }
}

impl From<CatalogAnswer> for Fault {
    fn from(answer: CatalogAnswer) -> Fault {
        Fault::Told(answer)
    }
}

pub(super) fn bad(what: impl std::fmt::Display) -> Fault {
    CatalogAnswer::fault(400, "BadRequestException", &what.to_string()).into()
}

pub(super) fn no_schema(schema: &str) -> Fault {
    CatalogAnswer::fault(404, "NoSuchNamespaceException", &format!("there is no schema {schema}")).into()
}

fn no_table(name: &TableName) -> Fault {
    CatalogAnswer::fault(404, "NoSuchTableException", &format!("there is no table {name}")).into()
}

fn told(error: &Error) -> CatalogAnswer {
    let (status, kind) = match error.code {
        Code::AlreadyExists => (409, "AlreadyExistsException"),
        Code::InUse => (409, "NamespaceNotEmptyException"),
        Code::Conflict => (409, "CommitFailedException"),
        Code::InDoubt => (500, "CommitStateUnknownException"),
        Code::NotFound | Code::UnknownTable => (404, "NotFoundException"),
        Code::Unsupported => (406, "UnsupportedOperationException"),
        Code::NotAllowed => (403, "ForbiddenException"),
        Code::BadSetting | Code::InvalidValue => (400, "BadRequestException"),
        Code::Busy | Code::SourceTimeout | Code::SourceUnreachable => (503, "ServiceUnavailableException"),
        _ => (500, "InternalServerError"),
    };
    let hint = error.hint.as_deref().map(|hint| format!(" ({hint})")).unwrap_or_default();
    CatalogAnswer::fault(status, kind, &format!("{}{hint}", error.message))
}

/// Does what a call asks for.
pub fn serve(lake: &Arc<Lake>, call: &CatalogCall) -> CatalogAnswer {
    let answer = match answer(lake, call) {
        Ok(answer) | Err(Fault::Told(answer)) => answer,
        Err(Fault::Failed(error)) => told(&error),
    };
    match call.verb {
        Verb::Head if answer.status < 300 => CatalogAnswer::done(),
        _ => answer,
    }
}

/// A schema's name: schemas of ours have one part.
pub(super) fn schema_of(part: &str) -> Outcome<&str> {
    match part.contains(UNIT) {
        true => Err(no_schema(&part.replace(UNIT, "."))),
        false => Ok(part),
    }
}

fn answer(lake: &Arc<Lake>, call: &CatalogCall) -> Outcome<CatalogAnswer> {
    let catalog = lake.catalog()?;
    let path: Vec<&str> = call.path.iter().map(String::as_str).collect();
    let changes = call.verb == Verb::Post && path.last() != Some(&"metrics") || call.verb == Verb::Delete;
    if changes && let Err(error) = lake.checked_to_write() {
        return Err(CatalogAnswer::fault(403, "ForbiddenException", &error.message).into());
    }
    if let Some(answer) = super::served_views::answer(lake, catalog.as_ref(), call)? {
        return Ok(answer);
    }
    match (call.verb, path.as_slice()) {
        (Verb::Get, ["namespaces"]) => schemas(catalog, call),
        (Verb::Post, ["namespaces"]) => make_schema(catalog, call),
        (Verb::Get | Verb::Head, ["namespaces", schema]) => {
            let schema = schema_of(schema)?;
            let properties = catalog.schema_properties(schema)?.ok_or_else(|| no_schema(schema))?;
            Ok(CatalogAnswer::of(json!({ "namespace": [schema], "properties": properties })))
        }
        (Verb::Delete, ["namespaces", schema]) => {
            let schema = schema_of(schema)?;
            catalog.schema_properties(schema)?.ok_or_else(|| no_schema(schema))?;
            catalog.keep_schema(schema, None)?;
            Ok(CatalogAnswer::done())
        }
        (Verb::Post, ["namespaces", schema, "properties"]) => change_schema(catalog, schema_of(schema)?, call),
        (Verb::Get, ["namespaces", schema, "tables"]) => tables(catalog, schema_of(schema)?, call),
        (Verb::Post, ["namespaces", schema, "tables"]) => make_table(lake, schema_of(schema)?, call),
        (Verb::Post, ["namespaces", schema, "register"]) => {
            let (schema, body) = (schema_of(schema)?, &call.body);
            let name = TableName::new(schema, text(body, "name")?);
            catalog.schema_properties(schema)?.ok_or_else(|| no_schema(schema))?;
            catalog.adopt(&name, text(body, "metadata-location")?)?;
            loaded(lake, &open(lake, &name)?, call)
        }
        (Verb::Post, ["namespaces", _, "tables", _, "metrics"]) => Ok(CatalogAnswer::done()),
        (verb, ["namespaces", schema, "tables", table]) => {
            let name = TableName::new(schema_of(schema)?, table);
            match verb {
                Verb::Get | Verb::Head => load(lake, &name, call),
                Verb::Post => commit(lake, &name, call),
                Verb::Delete => {
                    let open = open(lake, &name)?;
                    match call.asked("purgeRequested").is_some_and(|asked| asked.eq_ignore_ascii_case("true")) {
                        true => catalog.drop_table(&open)?,
                        false => catalog.release(&open)?,
                    }
                    Ok(CatalogAnswer::done())
                }
            }
        }
        (Verb::Post, ["tables", "rename"]) => {
            let (from, to) = (identifier(&call.body, "source")?, identifier(&call.body, "destination")?);
            catalog.schema_properties(&to.schema)?.ok_or_else(|| no_schema(&to.schema))?;
            catalog.rename(&open(lake, &from)?, &to)?;
            Ok(CatalogAnswer::done())
        }
        _ => {
            Err(CatalogAnswer::fault(404, "NotFoundException", &format!("there is no call {}", path.join("/"))).into())
        }
    }
}

pub(super) fn text<'j>(json: &'j Json, name: &str) -> Outcome<&'j str> {
    json.get(name).and_then(Json::as_str).ok_or_else(|| bad(format!("{name} is missing, or no text")))
}

fn schema_in(json: &Json) -> Outcome<String> {
    let parts = json.get("namespace").and_then(Json::as_array);
    match parts.map(Vec::as_slice) {
        Some([Json::String(schema)]) => Ok(schema.clone()),
        Some([_, ..]) => Err(bad("a namespace has one part here")),
        _ => Err(bad("namespace is missing, or has no part")),
    }
}

pub(super) fn identifier(json: &Json, member: &str) -> Outcome<TableName> {
    let own = json.get(member).ok_or_else(|| bad(format!("{member} is missing")))?;
    Ok(TableName::new(&schema_in(own)?, text(own, "name")?))
}

fn properties(json: &Json, member: &str) -> Outcome<BTreeMap<String, String>> {
    match json.get(member) {
        None | Some(Json::Null) => Ok(BTreeMap::new()),
        Some(own) => serde_json::from_value(own.clone()).map_err(|_| bad(format!("{member} are no texts by names"))),
    }
}

/// A page of names, and the token of the next one. Without a token all come at once.
pub(super) fn page(mut names: Vec<String>, call: &CatalogCall) -> Outcome<(Vec<String>, Option<String>)> {
    let Some(token) = call.asked("pageToken") else { return Ok((names, None)) };
    let size = match call.asked("pageSize").map(str::parse::<usize>) {
        None => PAGE,
        Some(Ok(size)) if size > 0 => size.min(PAGE),
        Some(_) => return Err(bad("pageSize is no number above 0")),
    };
    names.sort();
    let mut left = names.into_iter().skip_while(|name| !token.is_empty() && name.as_str() <= token);
    let own: Vec<String> = left.by_ref().take(size).collect();
    let next = left.next().and(own.last().cloned());
    Ok((own, next))
}

fn schemas(catalog: &Arc<dyn TableCatalog>, call: &CatalogCall) -> Outcome<CatalogAnswer> {
    if let Some(parent) = call.asked("parent").filter(|parent| !parent.is_empty()) {
        // Schemas have no schemas in them.
        let parent = schema_of(parent)?;
        catalog.schema_properties(parent)?.ok_or_else(|| no_schema(parent))?;
        return Ok(CatalogAnswer::of(json!({ "namespaces": [], "next-page-token": null })));
    }
    let (names, next) = page(catalog.schemas()?, call)?;
    let names: Vec<[String; 1]> = names.into_iter().map(|name| [name]).collect();
    Ok(CatalogAnswer::of(json!({ "namespaces": names, "next-page-token": next })))
}

fn make_schema(catalog: &Arc<dyn TableCatalog>, call: &CatalogCall) -> Outcome<CatalogAnswer> {
    let schema = schema_in(&call.body)?;
    let properties = properties(&call.body, "properties")?;
    if catalog.schema_properties(&schema)?.is_some() {
        let what = format!("there is a schema {schema} already");
        return Err(CatalogAnswer::fault(409, "AlreadyExistsException", &what).into());
    }
    catalog.keep_schema(&schema, Some(&properties))?;
    Ok(CatalogAnswer::of(json!({ "namespace": [schema], "properties": properties })))
}

fn change_schema(catalog: &Arc<dyn TableCatalog>, schema: &str, call: &CatalogCall) -> Outcome<CatalogAnswer> {
    let mut own: SchemaProperties = catalog.schema_properties(schema)?.ok_or_else(|| no_schema(schema))?;
    let set = properties(&call.body, "updates")?;
    let removals: Vec<String> = match call.body.get("removals") {
        None | Some(Json::Null) => vec![],
        Some(all) => serde_json::from_value(all.clone()).map_err(|_| bad("removals are no texts"))?,
    };
    if let Some(twice) = removals.iter().find(|name| set.contains_key(*name)) {
        let what = format!("{twice} is both set and removed");
        return Err(CatalogAnswer::fault(422, "UnprocessableEntityException", &what).into());
    }
    let (removed, missing): (Vec<String>, Vec<String>) =
        removals.into_iter().partition(|name| own.remove(name).is_some());
    let updated: Vec<String> = set.keys().cloned().collect();
    own.extend(set);
    catalog.keep_schema(schema, Some(&own))?;
    Ok(CatalogAnswer::of(json!({ "updated": updated, "removed": removed, "missing": missing })))
}

fn tables(catalog: &Arc<dyn TableCatalog>, schema: &str, call: &CatalogCall) -> Outcome<CatalogAnswer> {
    catalog.schema_properties(schema)?.ok_or_else(|| no_schema(schema))?;
    let (names, next) = page(catalog.tables(schema)?, call)?;
    let names: Vec<Json> = names.into_iter().map(|name| json!({ "namespace": [schema], "name": name })).collect();
    Ok(CatalogAnswer::of(json!({ "identifiers": names, "next-page-token": next })))
}

fn open(lake: &Lake, name: &TableName) -> Outcome<LakeTable> {
    lake.open_main(&name.schema, &name.table)?.ok_or_else(|| no_table(name))
}

fn load(lake: &Lake, name: &TableName, call: &CatalogCall) -> Outcome<CatalogAnswer> {
    let open = open(lake, name)?;
    let state = open.metadata_location();
    match call.known.as_deref() == Some(state.as_str()) {
        true => Ok(CatalogAnswer { status: 304, body: None, state: Some(state) }),
        false => loaded(lake, &open, call),
    }
}

/// What a caller needs to read a table: its metadata, and how its storage is reached.
fn loaded(lake: &Lake, table: &LakeTable, call: &CatalogCall) -> Outcome<CatalogAnswer> {
    let mut document = table.document()?;
    if call.asked("snapshots") == Some("refs") {
        let named: Vec<i64> = table.metadata.refs.values().map(|own| own.snapshot).collect();
        let is_named = |own: &Json| own.get("snapshot-id").and_then(Json::as_i64).is_some_and(|id| named.contains(&id));
        if let Some(all) = document.get_mut("snapshots").and_then(Json::as_array_mut) {
            all.retain(is_named);
        }
    }
    let state = (!table.is_fresh).then(|| table.metadata_location());
    let mut body =
        json!({ "metadata-location": state, "metadata": document, "config": table.storage.for_others(false) });
    if call.wants_keys && lake.gives_keys {
        let config = table.storage.for_others(true);
        body["config"] = json!(config);
        body["storage-credentials"] = json!([{ "prefix": table.metadata.location, "config": config }]);
    }
    Ok(CatalogAnswer { status: 200, body: Some(body), state })
}

fn make_table(lake: &Arc<Lake>, schema: &str, call: &CatalogCall) -> Outcome<CatalogAnswer> {
    let (catalog, body) = (lake.catalog()?, &call.body);
    let name = TableName::new(schema, text(body, "name")?);
    catalog.schema_properties(schema)?.ok_or_else(|| no_schema(schema))?;
    if lake.open_main(schema, &name.table)?.is_some() {
        let what = format!("there is a table {name} already");
        return Err(CatalogAnswer::fault(409, "AlreadyExistsException", &what).into());
    }
    let new = NewTable {
        schema: body.get("schema").cloned().ok_or_else(|| bad("schema is missing"))?,
        spec: body.get("partition-spec"),
        order: body.get("write-order"),
        properties: properties(body, "properties")?,
    };
    let make = |location: &str| {
        updates::new_metadata(&new, location, now())
            .map_err(|what| Error::new(Code::BadSetting, format!("{name}: {what}")))
    };
    let location = body.get("location").and_then(Json::as_str);
    let table = LakeTable::open(&lake.shared()?, name.clone(), catalog.begin(&name, location, &make)?, true)?;
    if body.get("stage-create").and_then(Json::as_bool) != Some(true) {
        table.make()?;
        return loaded(lake, &open(lake, &name)?, call);
    }
    loaded(lake, &table, call)
}

fn refused(refusal: Refusal) -> Fault {
    match refusal {
        Refusal::Conflict(what) => CatalogAnswer::fault(409, "CommitFailedException", &what).into(),
        Refusal::Wrong(what) => bad(what),
    }
}

/// Changes a table as the updates say, upon its last state, again where others come before.
fn commit(lake: &Arc<Lake>, name: &TableName, call: &CatalogCall) -> Outcome<CatalogAnswer> {
    let catalog = lake.catalog()?;
    let array = |member: &str| match call.body.get(member) {
        None | Some(Json::Null) => Ok(vec![]),
        Some(own) => own.as_array().cloned().ok_or_else(|| bad(format!("{member} are no array"))),
    };
    let (requirements, changes) = (array("requirements")?, array("updates")?);
    for attempt in 0..TRIES {
        let known = lake.open_main(&name.schema, &name.table)?;
        let document = known.as_ref().map(LakeTable::document).transpose()?;
        updates::check(&requirements, document.as_ref()).map_err(refused)?;
        let table = match known {
            Some(table) => table,
            None => begun(lake, catalog, name, (&requirements, &changes))?,
        };
        let before = document.unwrap_or_else(updates::nothing);
        let at = now().max(table.metadata.updated + 1);
        let next = updates::apply(&before, &changes, at).map_err(bad)?;
        if next == before {
            return loaded(lake, &table, call);
        }
        if catalog.commit(&table, &logged_next(&table, next, at)?)? {
            return loaded(lake, &open(lake, name)?, call);
        }
        pause(attempt);
    }
    Err(CatalogAnswer::fault(409, "CommitFailedException", &format!("others have always changed {name} first")).into())
}

/// A table that the commit makes.
fn begun(
    lake: &Arc<Lake>,
    catalog: &Arc<dyn TableCatalog>,
    name: &TableName,
    (requirements, changes): (&[Json], &[Json]),
) -> Outcome<LakeTable> {
    if !requirements.iter().any(|own| own.get("type").and_then(Json::as_str) == Some("assert-create")) {
        return Err(no_table(name));
    }
    catalog.schema_properties(&name.schema)?.ok_or_else(|| no_schema(&name.schema))?;
    let first = updates::apply(&updates::nothing(), changes, now()).map_err(bad)?;
    let location = text(&first, "location")?.to_owned();
    let current: Current = catalog.begin(name, Some(&location), &|_| Ok(first.clone()))?;
    Ok(LakeTable::open(&lake.shared()?, name.clone(), current, true)?)
}
