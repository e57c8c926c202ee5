//! Changes of a table's metadata in the words of the open protocol for catalogs (Iceberg REST catalog specification, `TableUpdate` and
//! `TableRequirement`): what leads from one state to the next, what must be so for it, and how a catalog carries it out.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value as Json, json};

use crate::create::{Ids, new_uuid};
use crate::documents::{all, following, list, members, needed, number, set, text};
use crate::metadata::{FIRST_PARTITION_ID, Metadata};
use crate::refs::pointed;
use crate::schema::Told;

/// What stands for "the one that was added last".
const LAST: i64 = -1;

/// Why updates cannot be carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Refusal {
    /// Something is not as it must be for them: another writer was first.
    Conflict(String),
    Wrong(String),
}

impl From<String> for Refusal {
    fn from(what: String) -> Refusal {
        Refusal::Wrong(what)
    }
}

impl From<&str> for Refusal {
    fn from(what: &str) -> Refusal {
        Refusal::Wrong(what.to_owned())
    }
}

fn texts(json: &Json, name: &str) -> Told<Vec<String>> {
    let own = json.get(name).and_then(Json::as_array).ok_or_else(|| format!("{name} is missing, or no array"))?;
    own.iter().map(|one| one.as_str().map(str::to_owned).ok_or_else(|| format!("{name} has what is no text"))).collect()
}

fn object<'j>(json: &'j Json, name: &str) -> Told<&'j serde_json::Map<String, Json>> {
    json.get(name).and_then(Json::as_object).ok_or_else(|| format!("{name} is missing, or no object"))
}

/// The metadata of a table that has nothing yet, to be given everything by updates.
pub fn nothing() -> Json {
    json!({
        "format-version": 2, "last-sequence-number": 0, "last-updated-ms": 0, "last-column-id": 0, "schemas": [], "partition-specs": [],
        "last-partition-id": FIRST_PARTITION_ID - 1, "sort-orders": [], "properties": {}, "current-snapshot-id": -1, "refs": {}, "snapshots": [],
        "snapshot-log": [], "metadata-log": [],
    })
}

/// Names of branches and tags with what they say. A branch main that nothing speaks of is that of the current state.
fn refs(json: &Json) -> BTreeMap<String, Json> {
    let own = json.get("refs").and_then(Json::as_object).into_iter().flatten();
    let mut all: BTreeMap<String, Json> = own.map(|(name, own)| (name.clone(), own.clone())).collect();
    if let Some(id) = number(json, "current-snapshot-id").filter(|id| *id != -1) {
        all.entry("main".to_owned()).or_insert_with(|| json!({ "snapshot-id": id, "type": "branch" }));
    }
    all
}

/// What one list has more than it had, by an id.
fn added<'j>(before: &Json, after: &'j Json, name: &str, id: &str) -> Vec<&'j Json> {
    let known: BTreeSet<Option<i64>> = all(before, name).iter().map(|own| number(own, id)).collect();
    all(after, name).iter().filter(|own| !known.contains(&number(own, id))).collect()
}

/// The updates that lead from one state of the metadata to another.
pub fn between(before: &Json, after: &Json) -> Vec<Json> {
    let mut updates = Vec::new();
    if before.get("table-uuid").is_none()
        && let Some(uuid) = after.get("table-uuid")
    {
        updates.push(json!({ "action": "assign-uuid", "uuid": uuid }));
    }
    if number(before, "format-version") != number(after, "format-version") || before.get("table-uuid").is_none() {
        let version = number(after, "format-version");
        updates.push(json!({ "action": "upgrade-format-version", "format-version": version }));
    }
    let columns = number(after, "last-column-id");
    for schema in added(before, after, "schemas", "schema-id") {
        updates.push(json!({ "action": "add-schema", "schema": schema, "last-column-id": columns }));
    }
    for spec in added(before, after, "partition-specs", "spec-id") {
        updates.push(json!({ "action": "add-spec", "spec": spec }));
    }
    for order in added(before, after, "sort-orders", "order-id") {
        updates.push(json!({ "action": "add-sort-order", "sort-order": order }));
    }
    for (action, member, name, place, id) in [
        ("set-current-schema", "schema-id", "current-schema-id", "schemas", "schema-id"),
        ("set-default-spec", "spec-id", "default-spec-id", "partition-specs", "spec-id"),
        ("set-default-sort-order", "sort-order-id", "default-sort-order-id", "sort-orders", "order-id"),
    ] {
        let own = number(after, name);
        if own.is_some() && own != number(before, name) {
            // A catalog may have given what was added another number.
            let last = added(before, after, place, id).last().and_then(|own| number(own, id));
            let own = if last == own { Some(LAST) } else { own };
            updates.push(json!({ "action": action, member: own }));
        }
    }
    if before.get("location") != after.get("location") {
        updates.push(json!({ "action": "set-location", "location": after.get("location") }));
    }
    let none = serde_json::Map::new();
    let properties = |json: &'_ Json| json.get("properties").and_then(Json::as_object).unwrap_or(&none).clone();
    let (old, new) = (properties(before), properties(after));
    let set: serde_json::Map<String, Json> = new
        .iter()
        .filter(|(name, own)| old.get(*name) != Some(own))
        .map(|(name, own)| (name.clone(), own.clone()))
        .collect();
    if !set.is_empty() {
        updates.push(json!({ "action": "set-properties", "updates": set }));
    }
    let removed: Vec<&String> = old.keys().filter(|name| !new.contains_key(*name)).collect();
    if !removed.is_empty() {
        updates.push(json!({ "action": "remove-properties", "removals": removed }));
    }
    let (old, new) = (refs(before), refs(after));
    for name in old.keys().filter(|name| !new.contains_key(*name)) {
        updates.push(json!({ "action": "remove-snapshot-ref", "ref-name": name }));
    }
    for snapshot in added(before, after, "snapshots", "snapshot-id") {
        updates.push(json!({ "action": "add-snapshot", "snapshot": snapshot }));
    }
    for (name, own) in new.iter().filter(|(name, own)| old.get(*name) != Some(own)) {
        let mut update = json!({ "action": "set-snapshot-ref", "ref-name": name });
        for (member, value) in own.as_object().into_iter().flatten() {
            update[member] = value.clone();
        }
        updates.push(update);
    }
    let gone: Vec<Option<i64>> =
        added(after, before, "snapshots", "snapshot-id").iter().map(|own| number(own, "snapshot-id")).collect();
    if !gone.is_empty() {
        updates.push(json!({ "action": "remove-snapshots", "snapshot-ids": gone }));
    }
    updates
}

/// What must be so in the state that updates were made for.
pub fn requirements(before: &Json, updates: &[Json]) -> Vec<Json> {
    let mut must = Vec::new();
    if let Some(uuid) = before.get("table-uuid") {
        must.push(json!({ "type": "assert-table-uuid", "uuid": uuid }));
    }
    let has = |action: &str| updates.iter().any(|own| own.get("action").and_then(Json::as_str) == Some(action));
    for (action, kind, member) in [
        ("add-schema", "assert-last-assigned-field-id", "last-column-id"),
        ("add-schema", "assert-current-schema-id", "current-schema-id"),
        ("set-current-schema", "assert-current-schema-id", "current-schema-id"),
        ("add-spec", "assert-last-assigned-partition-id", "last-partition-id"),
        ("add-spec", "assert-default-spec-id", "default-spec-id"),
        ("set-default-spec", "assert-default-spec-id", "default-spec-id"),
        ("add-sort-order", "assert-default-sort-order-id", "default-sort-order-id"),
        ("set-default-sort-order", "assert-default-sort-order-id", "default-sort-order-id"),
    ] {
        let known = must.iter().any(|own: &Json| own["type"] == json!(kind));
        if has(action)
            && !known
            && let Some(own) = before.get(member)
        {
            let name = match kind {
                "assert-last-assigned-field-id" => "last-assigned-field-id",
                "assert-last-assigned-partition-id" => "last-assigned-partition-id",
                _ => member,
            };
            must.push(json!({ "type": kind, name: own }));
        }
    }
    let refs = refs(before);
    let named = updates.iter().filter_map(|own| own.get("ref-name").and_then(Json::as_str));
    for name in named.collect::<BTreeSet<_>>() {
        let own = refs.get(name).and_then(|own| own.get("snapshot-id"));
        must.push(json!({ "type": "assert-ref-snapshot-id", "ref": name, "snapshot-id": own }));
    }
    must
}

/// Whether a table is as these requirements say; none where there is no table.
pub fn check(requirements: &[Json], table: Option<&Json>) -> Result<(), Refusal> {
    for own in requirements {
        let kind = text(own, "type")?;
        let Some(table) = table.filter(|_| kind != "assert-create") else {
            match (kind, table) {
                ("assert-create", None) => continue,
                ("assert-create", Some(_)) => return Err(Refusal::Conflict("the table is there already".into())),
                _ => return Err(Refusal::Conflict("there is no such table".into())),
            }
        };
        let same = |name: &str, member: &str, what: &str| -> Result<(), Refusal> {
            let (wanted, is) = (needed(own, name)?, number(table, member));
            match is == Some(wanted) {
                true => Ok(()),
                false => Err(Refusal::Conflict(format!(
                    "{what} is {}, where {wanted} is required",
                    is.map_or("none".to_owned(), |is| is.to_string())
                ))),
            }
        };
        match kind {
            "assert-table-uuid" => {
                let (wanted, is) = (text(own, "uuid")?, table.get("table-uuid").and_then(Json::as_str));
                if !is.is_some_and(|is| is.eq_ignore_ascii_case(wanted)) {
                    return Err(Refusal::Conflict("the table was made anew: its uuid is another one".into()));
                }
            }
            "assert-ref-snapshot-id" => {
                let name = text(own, "ref")?;
                let wanted = match own.get("snapshot-id") {
                    None | Some(Json::Null) => None,
                    Some(_) => Some(needed(own, "snapshot-id")?),
                };
                let is = refs(table).get(name).and_then(|own| number(own, "snapshot-id"));
                if is != wanted {
                    let written = |id: Option<i64>| id.map_or("none".to_owned(), |id| id.to_string());
                    let what = format!("{name} has snapshot {}, where {} is required", written(is), written(wanted));
                    return Err(Refusal::Conflict(what));
                }
            }
            "assert-last-assigned-field-id" => {
                same("last-assigned-field-id", "last-column-id", "the last column's id")?
            }
            "assert-current-schema-id" => same("current-schema-id", "current-schema-id", "the current schema")?,
            "assert-last-assigned-partition-id" => {
                same("last-assigned-partition-id", "last-partition-id", "the last partition field's id")?;
            }
            "assert-default-spec-id" => same("default-spec-id", "default-spec-id", "the default partitioning")?,
            "assert-default-sort-order-id" => {
                same("default-sort-order-id", "default-sort-order-id", "the default sort order")?;
            }
            other => return Err(Refusal::Wrong(format!("there is no requirement {other}"))),
        }
    }
    Ok(())
}

/// The ids that were given last while updates are carried out.
#[derive(Default)]
struct Given {
    schema: Option<i64>,
    spec: Option<i64>,
    order: Option<i64>,
    /// Snapshots that were added, with their moments.
    snapshots: BTreeMap<i64, i64>,
}

/// The state that updates lead to. `now` is in milliseconds since 1970-01-01 UTC.
///
/// # Errors
/// When they contradict the state or each other; then nothing is changed.
pub fn apply(before: &Json, updates: &[Json], now: i64) -> Told<Json> {
    let mut json = before.clone();
    let mut given = Given::default();
    for update in updates {
        let action = text(update, "action")?;
        json = one(json, action, update, &mut given, now).map_err(|what| format!("{action}: {what}"))?;
    }
    let after = Metadata::of_document(json.clone())?;
    for (name, own) in &after.refs {
        if after.snapshot(own.snapshot).is_none() {
            return Err(format!("{name} is the name of snapshot {}, which is not there", own.snapshot));
        }
    }
    Ok(json)
}

/// Puts something with an id into a list: under its own number where that is free or it is the same, and else under the next one.
fn put(json: &mut Json, (name, id): (&str, &str), mut own: Json, least: i64) -> Told<i64> {
    let alike = |a: &Json, b: &Json| {
        let plain = |json: &Json| {
            let mut json = json.clone();
            if let Some(own) = json.as_object_mut() {
                own.remove(id);
                own.retain(|name, value| {
                    !(name == "identifier-field-ids" && value.as_array().is_some_and(Vec::is_empty))
                });
            }
            json
        };
        plain(a) == plain(b)
    };
    let known = list(json, name)?;
    if let Some(same) = known.iter().find(|known| alike(known, &own)) {
        return number(same, id).ok_or_else(|| format!("{name} has one without {id}"));
    }
    let numbers: Vec<i64> = known.iter().filter_map(|known| number(known, id)).collect();
    let next = following(numbers.iter().copied(), least)?;
    let free = number(&own, id).filter(|wanted| *wanted >= least && !numbers.contains(wanted)).unwrap_or(next);
    set(&mut own, id, free)?;
    known.push(own);
    Ok(free)
}

fn one(mut json: Json, action: &str, update: &Json, given: &mut Given, now: i64) -> Told<Json> {
    match action {
        "assign-uuid" => {
            let uuid = text(update, "uuid")?;
            match json.get("table-uuid").and_then(Json::as_str) {
                Some(own) if !own.eq_ignore_ascii_case(uuid) => return Err("the table has another one".into()),
                _ => set(&mut json, "table-uuid", uuid)?,
            }
        }
        "upgrade-format-version" => {
            let (to, from) = (needed(update, "format-version")?, needed(&json, "format-version")?);
            match to {
                1 | 2 if to >= from || json.get("table-uuid").is_none() || all(&json, "snapshots").is_empty() => {
                    set(&mut json, "format-version", to)?;
                }
                1 | 2 => return Err(format!("the table is of version {from}")),
                other => return Err(format!("version {other} of the table specification is not written here")),
            }
        }
        "add-schema" => {
            let schema = update.get("schema").ok_or("schema is missing")?.clone();
            let highest = highest_id(&schema);
            let columns = number(update, "last-column-id").unwrap_or(0).max(highest);
            let columns = columns.max(number(&json, "last-column-id").unwrap_or(0));
            set(&mut json, "last-column-id", columns)?;
            given.schema = Some(put(&mut json, ("schemas", "schema-id"), schema, 0)?);
        }
        "set-current-schema" => {
            let own = asked(update, "schema-id", given.schema)?;
            set(&mut json, "current-schema-id", own)?;
            if number(&json, "format-version") == Some(1) {
                json["schema"] = all(&json, "schemas")
                    .iter()
                    .find(|s| number(s, "schema-id") == Some(own))
                    .cloned()
                    .unwrap_or_default();
            }
        }
        "add-spec" => {
            let mut spec = update.get("spec").ok_or("spec is missing")?.clone();
            let mut last = number(&json, "last-partition-id").unwrap_or(i64::from(FIRST_PARTITION_ID) - 1);
            for field in spec.get_mut("fields").and_then(Json::as_array_mut).ok_or("fields are missing")? {
                match number(field, "field-id") {
                    Some(id) => last = last.max(id),
                    None => {
                        last = following([last], 0)?;
                        set(field, "field-id", last)?;
                    }
                }
            }
            set(&mut json, "last-partition-id", last)?;
            given.spec = Some(put(&mut json, ("partition-specs", "spec-id"), spec, 0)?);
        }
        "set-default-spec" => {
            let own = asked(update, "spec-id", given.spec)?;
            set(&mut json, "default-spec-id", own)?;
            if number(&json, "format-version") == Some(1) {
                let spec = all(&json, "partition-specs").iter().find(|s| number(s, "spec-id") == Some(own));
                json["partition-spec"] = spec.and_then(|spec| spec.get("fields")).cloned().unwrap_or_else(|| json!([]));
            }
        }
        "add-sort-order" => {
            let order = update.get("sort-order").ok_or("sort-order is missing")?.clone();
            // The order that is none has a number of its own.
            let least = i64::from(!all(&order, "fields").is_empty());
            given.order = Some(put(&mut json, ("sort-orders", "order-id"), order, least)?);
        }
        "set-default-sort-order" => {
            set(&mut json, "default-sort-order-id", asked(update, "sort-order-id", given.order)?)?
        }
        "set-location" => set(&mut json, "location", text(update, "location")?)?,
        "set-properties" => {
            // Some writers say "updated".
            let set = object(update, "updates").or_else(|what| object(update, "updated").map_err(|_| what))?.clone();
            members(&mut json, "properties")?.extend(set);
        }
        "remove-properties" => {
            let gone = texts(update, "removals").or_else(|what| texts(update, "removed").map_err(|_| what))?;
            members(&mut json, "properties")?.retain(|name, _| !gone.contains(name));
        }
        "add-snapshot" => {
            let snapshot = update.get("snapshot").ok_or("snapshot is missing")?.clone();
            let (id, at) = (needed(&snapshot, "snapshot-id")?, needed(&snapshot, "timestamp-ms")?);
            if all(&json, "snapshots").iter().any(|own| number(own, "snapshot-id") == Some(id)) {
                return Err(format!("there is a snapshot {id} already"));
            }
            if number(&json, "format-version") != Some(1) {
                let sequence = needed(&snapshot, "sequence-number")?;
                let last = number(&json, "last-sequence-number").unwrap_or(0);
                if sequence <= last && number(&snapshot, "parent-snapshot-id").is_some() {
                    return Err(format!("its sequence number {sequence} does not follow {last}, the table's last one"));
                }
                set(&mut json, "last-sequence-number", sequence.max(last))?;
            }
            given.snapshots.insert(id, at);
            list(&mut json, "snapshots")?.push(snapshot);
        }
        "set-snapshot-ref" => {
            let (name, id) = (text(update, "ref-name")?, needed(update, "snapshot-id")?);
            if !all(&json, "snapshots").iter().any(|own| number(own, "snapshot-id") == Some(id)) {
                return Err(format!("there is no snapshot {id}"));
            }
            let mut own = json!({ "snapshot-id": id, "type": text(update, "type")? });
            for member in ["max-ref-age-ms", "max-snapshot-age-ms", "min-snapshots-to-keep"] {
                if let Some(value) = update.get(member).filter(|value| !value.is_null()) {
                    own[member] = value.clone();
                }
            }
            let is_new = refs(&json).get(name).and_then(|own| number(own, "snapshot-id")) != Some(id);
            if is_new {
                let at = given.snapshots.get(&id).copied().unwrap_or(now);
                pointed(&mut json, name, id, at)?;
            }
            members(&mut json, "refs")?.insert(name.to_owned(), own);
        }
        "remove-snapshot-ref" => {
            let name = text(update, "ref-name")?;
            members(&mut json, "refs")?.remove(name);
            if name == "main" {
                set(&mut json, "current-snapshot-id", -1)?;
            }
        }
        "remove-snapshots" => {
            let gone =
                all(update, "snapshot-ids").iter().map(|id| id.as_i64().ok_or("snapshot-ids has what is no number"));
            let gone: BTreeSet<i64> = gone.collect::<Result<_, _>>()?;
            list(&mut json, "snapshots")?
                .retain(|own| !number(own, "snapshot-id").is_some_and(|id| gone.contains(&id)));
            members(&mut json, "refs")?
                .retain(|_, own| !number(own, "snapshot-id").is_some_and(|id| gone.contains(&id)));
            if number(&json, "current-snapshot-id").is_some_and(|id| gone.contains(&id)) {
                set(&mut json, "current-snapshot-id", -1)?;
            }
            // What came before a state that is not known any more is not known either.
            let log = list(&mut json, "snapshot-log")?;
            let last = log.iter().rposition(|own| number(own, "snapshot-id").is_some_and(|id| gone.contains(&id)));
            log.drain(..last.map_or(0, |last| last + 1));
            for (name, id) in [("statistics", "snapshot-id"), ("partition-statistics", "snapshot-id")] {
                if json.get(name).is_some() {
                    list(&mut json, name)?.retain(|own| !number(own, id).is_some_and(|id| gone.contains(&id)));
                }
            }
        }
        "set-statistics" | "set-partition-statistics" => {
            let (name, member) = match action {
                "set-statistics" => ("statistics", "statistics"),
                _ => ("partition-statistics", "partition-statistics"),
            };
            let own = update.get(member).ok_or_else(|| format!("{member} is missing"))?.clone();
            let id = needed(&own, "snapshot-id")?;
            let known = list(&mut json, name)?;
            known.retain(|known| number(known, "snapshot-id") != Some(id));
            known.push(own);
        }
        "remove-statistics" | "remove-partition-statistics" => {
            let name = if action == "remove-statistics" { "statistics" } else { "partition-statistics" };
            let id = needed(update, "snapshot-id")?;
            list(&mut json, name)?.retain(|known| number(known, "snapshot-id") != Some(id));
        }
        "remove-partition-specs" => {
            drop_from(&mut json, update, ("partition-specs", "spec-id", "spec-ids"), "default-spec-id")?
        }
        "remove-schemas" => drop_from(&mut json, update, ("schemas", "schema-id", "schema-ids"), "current-schema-id")?,
        other => return Err(format!("there is no such update here: {other}")),
    }
    Ok(json)
}

fn drop_from(json: &mut Json, update: &Json, (name, id, ids): (&str, &str, &str), used: &str) -> Told<()> {
    let gone: Vec<i64> = all(update, ids).iter().filter_map(Json::as_i64).collect();
    match number(json, used).filter(|used| gone.contains(used)) {
        Some(used) => Err(format!("{id} {used} is in use")),
        None => {
            list(json, name)?.retain(|own| !number(own, id).is_some_and(|own| gone.contains(&own)));
            Ok(())
        }
    }
}

fn asked(update: &Json, name: &str, last: Option<i64>) -> Told<i64> {
    match needed(update, name)? {
        LAST => last.ok_or_else(|| "nothing was added that could be meant".into()),
        own => Ok(own),
    }
}

/// The highest id of a field in a schema, at whatever level.
fn highest_id(json: &Json) -> i64 {
    let own =
        ["id", "element-id", "key-id", "value-id"].iter().filter_map(|name| number(json, name)).max().unwrap_or(0);
    let inner = ["fields", "type", "element", "key", "value"].iter().filter_map(|name| json.get(name));
    let inner = inner.flat_map(|own| own.as_array().map_or(std::slice::from_ref(own), Vec::as_slice));
    inner.filter(|own| own.is_object()).map(highest_id).chain([own]).max().unwrap_or(own)
}

/// What a new table is to be, as who makes it through a catalog says (`CreateTableRequest`).
#[derive(Debug, Clone, Default)]
pub struct NewTable<'n> {
    pub schema: Json,
    pub spec: Option<&'n Json>,
    pub order: Option<&'n Json>,
    pub properties: BTreeMap<String, String>,
}

/// The first metadata of a new table. Its fields are given ids anew, and what speaks of them follows.
///
/// # Errors
/// When the parts contradict each other.
pub fn new_metadata(new: &NewTable<'_>, location: &str, now: i64) -> Told<Json> {
    let mut properties = new.properties.clone();
    let version: i64 = match properties.remove("format-version") {
        Some(own) => own.parse().map_err(|_| format!("format-version cannot be \"{own}\""))?,
        None => 2,
    };
    let mut schema = new.schema.clone();
    let mut ids = BTreeMap::new();
    let mut next = Ids(0);
    renumbered(&mut schema, &mut next, &mut ids)?;
    if let Some(own) = schema.get_mut("identifier-field-ids").and_then(Json::as_array_mut) {
        own.iter_mut().try_for_each(|id| follow(id, &ids))?;
    }
    set(&mut schema, "schema-id", 0)?;
    set(&mut schema, "type", "struct")?;
    let mut spec = new.spec.filter(|own| !own.is_null()).cloned().unwrap_or_else(|| json!({ "fields": [] }));
    set(&mut spec, "spec-id", 0)?;
    let mut order =
        new.order.filter(|own| !own.is_null()).cloned().unwrap_or_else(|| json!({ "order-id": 0, "fields": [] }));
    for own in [&mut spec, &mut order] {
        for field in own.get_mut("fields").and_then(Json::as_array_mut).ok_or("fields are missing")? {
            follow(field.get_mut("source-id").ok_or("a source-id is missing")?, &ids)?;
        }
    }
    for (place, field) in spec["fields"].as_array_mut().into_iter().flatten().enumerate() {
        set(field, "field-id", FIRST_PARTITION_ID + place as i32)?;
    }
    let updates = [
        json!({ "action": "assign-uuid", "uuid": new_uuid() }),
        json!({ "action": "upgrade-format-version", "format-version": version }),
        json!({ "action": "add-schema", "schema": schema, "last-column-id": next.0 }),
        json!({ "action": "set-current-schema", "schema-id": LAST }),
        json!({ "action": "add-spec", "spec": spec }),
        json!({ "action": "set-default-spec", "spec-id": LAST }),
        json!({ "action": "add-sort-order", "sort-order": { "order-id": 0, "fields": [] } }),
        json!({ "action": "add-sort-order", "sort-order": order }),
        json!({ "action": "set-default-sort-order", "sort-order-id": LAST }),
        json!({ "action": "set-location", "location": location }),
        json!({ "action": "set-properties", "updates": properties }),
    ];
    let mut first = nothing();
    first["last-updated-ms"] = json!(now);
    apply(&first, &updates, now)
}

fn follow(id: &mut Json, ids: &BTreeMap<i64, i64>) -> Told<()> {
    let own = id.as_i64().ok_or("the id of a field is no whole number")?;
    *id = json!(ids.get(&own).ok_or_else(|| format!("the schema has no field {own}"))?);
    Ok(())
}

/// Gives the fields of a schema, or of a type, ids anew: those of one level before those within them.
fn renumbered(json: &mut Json, next: &mut Ids, ids: &mut BTreeMap<i64, i64>) -> Told<()> {
    let mut give = |json: &mut Json, name: &str| -> Told<()> {
        let old = needed(json, name)?;
        let new = i64::from(next.next()?);
        if ids.insert(old, new).is_some() {
            return Err(format!("two fields have the id {old}"));
        }
        set(json, name, new)?;
        Ok(())
    };
    match json.get("type").and_then(Json::as_str) {
        Some("list") => {
            give(json, "element-id")?;
            renumbered_in(json, "element", next, ids)
        }
        Some("map") => {
            give(json, "key-id")?;
            give(json, "value-id")?;
            renumbered_in(json, "key", next, ids)?;
            renumbered_in(json, "value", next, ids)
        }
        _ => {
            let fields = json.get_mut("fields").and_then(Json::as_array_mut).ok_or("a schema lacks its fields")?;
            fields.iter_mut().try_for_each(|field| give(field, "id"))?;
            fields.iter_mut().try_for_each(|field| renumbered_in(field, "type", next, ids))
        }
    }
}

fn renumbered_in(json: &mut Json, name: &str, next: &mut Ids, ids: &mut BTreeMap<i64, i64>) -> Told<()> {
    match json.get_mut(name) {
        Some(inner) if inner.is_object() => renumbered(inner, next, ids),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn schema() -> Json {
        json!({ "type": "struct", "schema-id": 7, "identifier-field-ids": [10], "fields": [
            { "id": 10, "name": "id", "required": true, "type": "long" },
            { "id": 4, "name": "stops", "required": false, "type": { "type": "list", "element-id": 5, "element-required": false, "element": {
                "type": "struct", "fields": [{ "id": 6, "name": "port", "required": false, "type": "string" }] } } },
            { "id": 0, "name": "departed_at", "required": false, "type": "timestamp" },
        ] })
    }

    fn table() -> Json {
        let spec = json!({ "fields": [{ "source-id": 0, "name": "month", "transform": "month" }] });
        let order = json!({ "order-id": 3, "fields": [{ "source-id": 10, "transform": "identity", "direction": "asc", "null-order": "nulls-first" }] });
        let properties =
            BTreeMap::from([("owner".to_owned(), "quay".to_owned()), ("format-version".to_owned(), "2".to_owned())]);
        let new = NewTable { schema: schema(), spec: Some(&spec), order: Some(&order), properties };
        new_metadata(&new, "s3://deep/ops/sailings", 1000).unwrap()
    }

    fn snapshot(id: i64, sequence: i64, parent: Option<i64>) -> Json {
        json!({ "snapshot-id": id, "sequence-number": sequence, "parent-snapshot-id": parent, "timestamp-ms": 1000 + sequence,
            "manifest-list": format!("s3://deep/ops/sailings/metadata/{id}.avro"), "summary": { "operation": "append" }, "schema-id": 0 })
    }

    fn with(snapshots: &[(i64, i64, Option<i64>)]) -> Json {
        let updates: Vec<Json> = snapshots
            .iter()
            .flat_map(|(id, sequence, parent)| {
                [
                    json!({ "action": "add-snapshot", "snapshot": snapshot(*id, *sequence, *parent) }),
                    json!({ "action": "set-snapshot-ref", "ref-name": "main", "type": "branch", "snapshot-id": id }),
                ]
            })
            .collect();
        apply(&table(), &updates, 5000).unwrap()
    }

    #[test]
    fn a_new_table_has_ids_of_its_own() {
        let table = table();
        let metadata = Metadata::of_document(table.clone()).unwrap();
        let fields = &metadata.schemas[0].fields;
        assert_eq!(fields.iter().map(|field| field.id).collect::<Vec<_>>(), [1, 2, 3]);
        assert_eq!(table["schemas"][0]["fields"][1]["type"]["element"]["fields"][0]["id"], json!(5));
        assert_eq!((&table["schemas"][0]["identifier-field-ids"], &table["last-column-id"]), (&json!([1]), &json!(5)));
        assert_eq!(
            table["partition-specs"][0]["fields"][0],
            json!({ "source-id": 3, "field-id": 1000, "name": "month", "transform": "month" })
        );
        assert_eq!((&table["default-sort-order-id"], &table["properties"]), (&json!(3), &json!({ "owner": "quay" })));
    }

    #[test]
    fn updates_lead_from_one_state_to_the_other() {
        let before = with(&[(11, 1, None), (12, 2, Some(11))]);
        let mut after = with(&[(11, 1, None), (12, 2, Some(11)), (13, 3, Some(12))]);
        after["table-uuid"] = before["table-uuid"].clone();
        let mut schema = after["schemas"][0].clone();
        schema["schema-id"] = json!(1);
        schema["fields"][0]["name"] = json!("number");
        after["schemas"].as_array_mut().unwrap().push(schema);
        after["current-schema-id"] = json!(1);
        after["partition-specs"].as_array_mut().unwrap().push(json!({ "spec-id": 1, "fields": [] }));
        after["default-spec-id"] = json!(1);
        after["default-sort-order-id"] = json!(0);
        after["properties"] = json!({ "note": "x" });
        after["refs"]["spring"] = json!({ "snapshot-id": 12, "type": "tag", "max-ref-age-ms": 5 });
        let updates = between(&before, &after);
        let mut made = apply(&before, &updates, 5000).unwrap();
        assert_eq!(made["current-schema-id"], json!(1));
        made["schemas"] = after["schemas"].clone();
        assert_eq!(made, after);
        assert_eq!(check(&requirements(&before, &updates), Some(&before)), Ok(()));
        let refusal = check(&requirements(&before, &updates), Some(&after));
        assert!(matches!(&refusal, Err(Refusal::Conflict(what)) if what.contains("current schema")), "{refusal:?}");
        // And back again: what was added goes, but for schemas, partitionings and orders, which stay known.
        let back = apply(&after, &between(&after, &before), 6000).unwrap();
        assert_eq!(
            (&back["refs"], &back["properties"], &back["snapshots"]),
            (&before["refs"], &before["properties"], &before["snapshots"])
        );
        assert_eq!(between(&before, &before), Vec::<Json>::new());
    }

    #[test]
    fn a_table_is_made_by_updates_alone() {
        let first = with(&[(11, 1, None)]);
        let updates = between(&nothing(), &first);
        let must = [json!({ "type": "assert-create" })];
        assert_eq!(check(&must, None), Ok(()));
        assert!(matches!(check(&must, Some(&first)), Err(Refusal::Conflict(_))));
        let made = apply(&nothing(), &updates, 1001).unwrap();
        for member in [
            "schemas",
            "current-schema-id",
            "default-spec-id",
            "default-sort-order-id",
            "refs",
            "location",
            "properties",
            "snapshots",
            "table-uuid",
        ] {
            assert_eq!(made[member], first[member], "{member}");
        }
    }

    #[test]
    fn what_contradicts_the_table_is_refused() {
        let table = with(&[(11, 1, None), (12, 2, Some(11))]);
        for (update, told) in [
            (json!({ "action": "add-snapshot", "snapshot": snapshot(12, 3, Some(11)) }), "already"),
            (json!({ "action": "add-snapshot", "snapshot": snapshot(13, 2, Some(12)) }), "does not follow"),
            (
                json!({ "action": "set-snapshot-ref", "ref-name": "x", "type": "tag", "snapshot-id": 99 }),
                "no snapshot 99",
            ),
            (json!({ "action": "set-current-schema", "schema-id": -1 }), "nothing was added"),
            (json!({ "action": "set-current-schema", "schema-id": 4 }), "no schema 4"),
            (json!({ "action": "set-default-spec", "spec-id": 4 }), "no partition-spec 4"),
            (json!({ "action": "assign-uuid", "uuid": "9c12d441-03fe-4693-9a96-a0705ddf69c1" }), "another one"),
            (json!({ "action": "upgrade-format-version", "format-version": 3 }), "not written here"),
            (json!({ "action": "upgrade-format-version", "format-version": 1 }), "of version 2"),
            (json!({ "action": "remove-schemas", "schema-ids": [0] }), "in use"),
            (json!({ "action": "paint" }), "no such update"),
            (json!({ "action": "set-properties" }), "updates"),
        ] {
            let error = apply(&table, std::slice::from_ref(&update), 1).expect_err(&update.to_string());
            assert!(error.contains(told), "{update}: {error}");
        }
        let after = apply(&table, &[json!({ "action": "remove-snapshots", "snapshot-ids": [11] })], 1).unwrap();
        assert_eq!(after["snapshot-log"].as_array().unwrap().len(), 1);
        let ended = apply(&table, &[json!({ "action": "remove-snapshot-ref", "ref-name": "main" })], 1).unwrap();
        assert_eq!(Metadata::of_document(ended).unwrap().current(), None);
    }
}
