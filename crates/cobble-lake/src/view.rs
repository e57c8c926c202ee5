//! Views of the format (Iceberg view specification, version 1): a query as text, in versions, with the columns that it has and the place that its names are
//! looked up in.

use cobble_types::SqlType;
use serde_json::{Value as Json, json};

use crate::create::{Ids, new_uuid};
use crate::documents::{following, following_id, needed, number, set, text};
use crate::schema::{Schema, Told};

/// The language of queries that are written here, as other tools see it.
pub const DIALECT: &str = "cobble-lane";
/// Versions that a view keeps unless its properties say otherwise.
const KEPT: usize = 10;
const KEPT_PROPERTY: &str = "version.history.num-entries";
/// Stands for the version, or the schema, that was added last.
const LAST: i64 = -1;

/// A view in its current version.
#[derive(Debug, Clone, PartialEq)]
pub struct View {
    pub uuid: String,
    pub query: String,
    /// The language of the query: ours, where it is written in that, too.
    pub dialect: String,
    /// Names in small letters, as in SQL.
    pub columns: Vec<String>,
    /// Where names are looked up that are not written out.
    pub catalog: Option<String>,
    pub schema: Option<String>,
}

/// A query to be kept as a view.
#[derive(Debug, Clone)]
pub struct NewView<'v> {
    pub query: &'v str,
    pub columns: &'v [(String, SqlType)],
    pub catalog: Option<&'v str>,
    pub schema: &'v str,
}

fn list<'j>(json: &'j Json, name: &str) -> Told<&'j Vec<Json>> {
    json.get(name).and_then(Json::as_array).ok_or_else(|| format!("{name} is missing, or no list"))
}

fn of_number<'j>(json: &'j Json, all: &str, id: &str, wanted: i64) -> Told<&'j Json> {
    let found = list(json, all)?.iter().find(|own| own.get(id).and_then(Json::as_i64) == Some(wanted));
    found.ok_or_else(|| format!("{all} have none whose {id} is {wanted}"))
}

impl View {
    /// # Errors
    /// What is wrong with the metadata.
    pub fn read(document: &Json) -> Told<View> {
        match needed(document, "format-version")? {
            1 => {}
            other => return Err(format!("it is a view of version {other}, and this reads version 1")),
        }
        let version = of_number(document, "versions", "version-id", needed(document, "current-version-id")?)?;
        let written = list(version, "representations")?.iter().filter(|own| own["type"] == "sql");
        let written: Vec<(&str, &str)> =
            written.map(|own| Ok((text(own, "sql")?, text(own, "dialect")?))).collect::<Told<_>>()?;
        let own = written.iter().find(|(_, dialect)| dialect.eq_ignore_ascii_case(DIALECT));
        let (query, dialect) = own.or(written.first()).ok_or("it has no query as SQL")?;
        let schema = Schema::from_json(of_number(document, "schemas", "schema-id", needed(version, "schema-id")?)?)?;
        let place = version.get("default-namespace").and_then(Json::as_array).into_iter().flatten();
        let place: Vec<&str> = place.filter_map(Json::as_str).collect();
        Ok(View {
            uuid: text(document, "view-uuid")?.to_owned(),
            query: (*query).to_owned(),
            dialect: (*dialect).to_owned(),
            columns: schema.fields.iter().map(|field| field.name.to_lowercase()).collect(),
            catalog: version.get("default-catalog").and_then(Json::as_str).map(str::to_owned),
            schema: (!place.is_empty()).then(|| place.join(".")),
        })
    }
}

impl NewView<'_> {
    /// # Errors
    /// Where the format has no type for a column.
    pub fn schema_json(&self, id: i32) -> Told<Json> {
        let own: Vec<(String, &SqlType, bool)> =
            self.columns.iter().map(|(name, sql_type)| (name.clone(), sql_type, false)).collect();
        Ok(Schema { id, fields: Ids(0).fields(&own)?, identifiers: vec![] }.to_json())
    }

    /// A version of these numbers; `at` is in milliseconds since 1970-01-01 UTC.
    pub fn version_json(&self, id: i64, schema: i64, at: i64) -> Json {
        let mut version = json!({
            "version-id": id,
            "schema-id": schema,
            "timestamp-ms": at,
            "summary": { "engine-name": DIALECT, "engine-version": env!("CARGO_PKG_VERSION") },
            "representations": [{ "type": "sql", "sql": self.query, "dialect": DIALECT }],
            "default-namespace": [self.schema],
        });
        if let Some(catalog) = self.catalog {
            version["default-catalog"] = json!(catalog);
        }
        version
    }
}

/// The first metadata of a view.
pub fn first(schema: &Json, version: &Json, properties: &Json, location: &str) -> Told<Json> {
    let (mut schema, mut version) = (schema.clone(), version.clone());
    set(&mut schema, "schema-id", 0)?;
    set(&mut version, "schema-id", 0)?;
    set(&mut version, "version-id", 1)?;
    let at = needed(&version, "timestamp-ms")?;
    let document = json!({
        "view-uuid": new_uuid(),
        "format-version": 1,
        "location": location,
        "schemas": [schema],
        "current-version-id": 1,
        "versions": [version],
        "version-log": [{ "timestamp-ms": at, "version-id": 1 }],
        "properties": if properties.is_object() { properties.clone() } else { json!({}) },
    });
    View::read(&document)?;
    Ok(document)
}

/// What another query in the view's place changes.
pub fn replacing(document: &Json, new: &NewView<'_>, at: i64) -> Told<Vec<Json>> {
    let numbers = |all: &str, id: &'static str| {
        Ok::<_, String>(list(document, all)?.iter().filter_map(|own| number(own, id)).collect::<Vec<i64>>())
    };
    let schema = new.schema_json(following_id(numbers("schemas", "schema-id")?, 1)?)?;
    let version = new.version_json(following(numbers("versions", "version-id")?, 1)?, LAST, at);
    Ok(vec![
        json!({ "action": "add-schema", "schema": schema }),
        json!({ "action": "add-view-version", "view-version": version }),
        json!({ "action": "set-current-view-version", "view-version-id": LAST }),
    ])
}

/// What must be so for a change: that the view is still this one.
pub fn requirements(document: &Json) -> Vec<Json> {
    vec![json!({ "type": "assert-view-uuid", "uuid": document.get("view-uuid") })]
}

/// Whether what must be so is so.
///
/// # Errors
/// Which is not.
pub fn check(requirements: &[Json], document: &Json) -> Told<()> {
    for own in requirements {
        match text(own, "type")? {
            "assert-view-uuid" if own.get("uuid") == document.get("view-uuid") => {}
            "assert-view-uuid" => return Err("it is another view of the same name by now".to_owned()),
            other => return Err(format!("a requirement {other} is none of views")),
        }
    }
    Ok(())
}

/// The number of an equal schema, or of one that is added.
fn schema_added(schemas: &mut Vec<Json>, schema: &Json) -> Told<i64> {
    let bare = |own: &Json| {
        let mut own = own.clone();
        own.as_object_mut().map(|own| own.remove("schema-id"));
        own
    };
    let id = |own: &Json| number(own, "schema-id").unwrap_or(0);
    if let Some(known) = schemas.iter().find(|own| bare(own) == bare(schema)) {
        return Ok(id(known));
    }
    let next = following(schemas.iter().map(id), 0)?;
    let mut own = schema.clone();
    set(&mut own, "schema-id", next)?;
    schemas.push(own);
    Ok(next)
}

/// The metadata with changes of the open protocol made to it.
///
/// # Errors
/// Which of them cannot be made.
pub fn changed(document: &Json, updates: &[Json], at: i64) -> Told<Json> {
    let mut next = document.clone();
    let (mut last_schema, mut last_version) = (None, None);
    for update in updates {
        match text(update, "action")? {
            "assign-uuid" if update.get("uuid") == document.get("view-uuid") => {}
            "upgrade-format-version" if needed(update, "format-version")? == 1 => {}
            "add-schema" => {
                let schema = update.get("schema").ok_or("schema is missing")?;
                Schema::from_json(schema)?;
                let all = next.get_mut("schemas").and_then(Json::as_array_mut).ok_or("schemas are no list")?;
                last_schema = Some(schema_added(all, schema)?);
            }
            "add-view-version" => {
                let mut version = update.get("view-version").cloned().ok_or("view-version is missing")?;
                if needed(&version, "schema-id")? == LAST {
                    set(&mut version, "schema-id", last_schema.ok_or("no schema was added")?)?;
                }
                let known = list(&next, "versions")?.iter().filter_map(|own| number(own, "version-id"));
                let id = needed(&version, "version-id")?.max(following(known, 1)?);
                set(&mut version, "version-id", id)?;
                last_version = Some(id);
                let all = next.get_mut("versions").and_then(Json::as_array_mut).ok_or("versions are no list")?;
                all.push(version);
            }
            "set-current-view-version" => {
                let id = match needed(update, "view-version-id")? {
                    LAST => last_version.ok_or("no version was added")?,
                    id => id,
                };
                of_number(&next, "versions", "version-id", id)?;
                set(&mut next, "current-version-id", id)?;
                let log = next.get_mut("version-log").and_then(Json::as_array_mut).ok_or("version-log is no list")?;
                log.push(json!({ "timestamp-ms": at, "version-id": id }));
            }
            "set-location" => set(&mut next, "location", text(update, "location")?)?,
            "set-properties" => {
                let own = update.get("updates").and_then(Json::as_object).ok_or("updates are missing")?.clone();
                let properties = next.get_mut("properties").and_then(Json::as_object_mut);
                properties.ok_or("properties are none")?.extend(own);
            }
            "remove-properties" => {
                let own = list(update, "removals")?.iter().filter_map(Json::as_str).map(str::to_owned);
                let own: Vec<String> = own.collect();
                let properties = next.get_mut("properties").and_then(Json::as_object_mut);
                properties.ok_or("properties are none")?.retain(|name, _| !own.contains(name));
            }
            other => return Err(format!("a change {other} is none of views")),
        }
    }
    forget_old_versions(&mut next)?;
    View::read(&next)?;
    Ok(next)
}

/// Keeps the current version and the last ones, with the schemas that they need.
fn forget_old_versions(document: &mut Json) -> Told<()> {
    let kept = document["properties"].get(KEPT_PROPERTY).and_then(Json::as_str).and_then(|own| own.parse().ok());
    let kept: usize = kept.filter(|kept| *kept > 0).unwrap_or(KEPT);
    let current = needed(document, "current-version-id")?;
    let mut numbers: Vec<i64> =
        list(document, "versions")?.iter().map(|own| needed(own, "version-id")).collect::<Told<_>>()?;
    numbers.sort_unstable();
    let mut gone: Vec<i64> = numbers[..numbers.len().saturating_sub(kept)].to_vec();
    gone.retain(|id| *id != current);
    let is_gone = |own: &Json| own.get("version-id").and_then(Json::as_i64).is_some_and(|id| gone.contains(&id));
    for all in ["versions", "version-log"] {
        if let Some(own) = document.get_mut(all).and_then(Json::as_array_mut) {
            own.retain(|own| !is_gone(own));
        }
    }
    let used: Vec<i64> = list(document, "versions")?.iter().filter_map(|own| own.get("schema-id")?.as_i64()).collect();
    if let Some(all) = document.get_mut("schemas").and_then(Json::as_array_mut) {
        all.retain(|own| own.get("schema-id").and_then(Json::as_i64).is_some_and(|id| used.contains(&id)));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn new<'v>(query: &'v str, columns: &'v [(String, SqlType)]) -> NewView<'v> {
        NewView { query, columns, catalog: Some("deep"), schema: "ops" }
    }

    fn document(columns: &[(String, SqlType)]) -> Json {
        let own = new("SELECT 1 AS id", columns);
        first(&own.schema_json(0).unwrap(), &own.version_json(1, 0, 5), &json!(null), "s3://deep/ops/v").unwrap()
    }

    #[test]
    fn what_is_written_is_read() {
        let columns = [("Id".to_owned(), SqlType::Integer), ("at".to_owned(), SqlType::TimestampTz)];
        let view = View::read(&document(&columns)).unwrap();
        assert_eq!((view.query.as_str(), view.dialect.as_str()), ("SELECT 1 AS id", DIALECT));
        assert_eq!(
            (view.columns, view.catalog, view.schema),
            (vec!["id".into(), "at".into()], Some("deep".into()), Some("ops".into()))
        );
    }

    #[test]
    fn our_own_language_comes_first_and_others_are_read() {
        let columns = [("id".to_owned(), SqlType::Integer)];
        let mut own = document(&columns);
        own["versions"][0]["representations"] = json!([
            { "type": "sql", "sql": "select 1 id", "dialect": "other" },
            { "type": "sql", "sql": "SELECT 2 AS id", "dialect": "Cobble-Lane" },
        ]);
        assert_eq!(View::read(&own).unwrap().query, "SELECT 2 AS id");
        own["versions"][0]["representations"].as_array_mut().unwrap().pop();
        let view = View::read(&own).unwrap();
        assert_eq!((view.query.as_str(), view.dialect.as_str()), ("select 1 id", "other"));
        own["versions"][0]["representations"] = json!([{ "type": "code" }]);
        assert_eq!(View::read(&own).unwrap_err(), "it has no query as SQL");
        own["format-version"] = json!(2);
        assert_eq!(View::read(&own).unwrap_err(), "it is a view of version 2, and this reads version 1");
    }

    #[test]
    fn versions_follow_each_other_and_old_ones_go() {
        let columns = [("id".to_owned(), SqlType::Integer)];
        let mut own = document(&columns);
        for n in 2..30 {
            let columns = [("id".to_owned(), if n < 25 { SqlType::Integer } else { SqlType::BigInt })];
            let query = format!("SELECT {n} AS id");
            let changes = replacing(&own, &new(&query, &columns), n).unwrap();
            check(&requirements(&own), &own).unwrap();
            own = changed(&own, &changes, n).unwrap();
            assert_eq!(View::read(&own).unwrap().query, query);
        }
        assert_eq!(own["versions"].as_array().unwrap().len(), 10);
        assert_eq!(own["schemas"].as_array().unwrap().len(), 2, "the same schema is kept once");
        // Back to an earlier one, which is kept from then on.
        let back = [json!({ "action": "set-current-view-version", "view-version-id": 20 })];
        own = changed(&own, &back, 40).unwrap();
        assert_eq!(View::read(&own).unwrap().query, "SELECT 20 AS id");
        own = changed(&own, &replacing(&own, &new("SELECT 0 AS id", &columns), 41).unwrap()[..2], 41).unwrap();
        assert_eq!(View::read(&own).unwrap().query, "SELECT 20 AS id");
        for (wrong, what) in [
            (
                json!({ "action": "set-current-view-version", "view-version-id": 3 }),
                "versions have none whose version-id is 3",
            ),
            (json!({ "action": "set-current-view-version", "view-version-id": -1 }), "no version was added"),
            (json!({ "action": "add-sort-order" }), "a change add-sort-order is none of views"),
            (json!({ "action": "assign-uuid", "uuid": "x" }), "a change assign-uuid is none of views"),
        ] {
            assert_eq!(changed(&own, &[wrong], 50).unwrap_err(), what);
        }
        let other = [json!({ "type": "assert-view-uuid", "uuid": "x" })];
        assert_eq!(check(&other, &own).unwrap_err(), "it is another view of the same name by now");
    }
}
