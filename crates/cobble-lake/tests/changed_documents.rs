//! Metadata of tables and views with something wrong in them: a word, a number, a list that is none. Whatever reads or changes them refuses with words,
//! and never stops in the middle. `COBBLE_HOSTILE` says how many documents there are.

use std::collections::BTreeMap;

use cobble_lake::alter::altered;
use cobble_lake::metadata::{Metadata, RefKind};
use cobble_lake::updates::{self, NewTable, new_metadata};
use cobble_lake::{refs, view};
use cobble_plan::alter::Alteration;
use cobble_types::SqlType;
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Value as Json, json};

/// Calls `read` with so many documents, each changed in a few places. Says how many it has taken.
fn each_changed(document: &Json, count: u64, seed: u64, mut read: impl FnMut(&Json) -> bool) -> u64 {
    (0..count)
        .map(|round| {
            let mut random = StdRng::seed_from_u64(seed << 32 | round);
            let mut own = document.clone();
            for _ in 0..random.random_range(1..4) {
                change(&mut own, &mut random);
            }
            u64::from(read(&own))
        })
        .sum()
}

/// How many documents a test changes.
fn rounds() -> u64 {
    std::env::var("COBBLE_HOSTILE").ok().and_then(|text| text.parse().ok()).unwrap_or(2_000)
}

fn change(document: &mut Json, random: &mut StdRng) {
    let mut places = Vec::new();
    pointers(document, String::new(), &mut places);
    let (at, from) = (random.random_range(0..places.len()), random.random_range(0..places.len()));
    let other = document.pointer(&places[from]).cloned().unwrap_or_default();
    let hostile = [
        json!(null),
        json!(i64::MAX),
        json!(i64::MIN),
        json!(i32::MAX),
        json!(i32::MIN),
        json!(u64::MAX),
        json!(-1),
        json!(0),
        json!(1.5),
        json!(true),
        json!(""),
        json!("\u{0}ø/../"),
        json!("x".repeat(3000)),
        json!([]),
        json!({}),
        json!([null]),
        json!([[], {}]),
    ];
    let is_other = random.random_range(0..3) == 0;
    let value = if is_other { other } else { hostile[random.random_range(0..hostile.len())].clone() };
    let (above, name) = places[at].rsplit_once('/').unwrap_or_default();
    match (random.random_range(0..6), document.pointer_mut(above)) {
        (0, Some(Json::Object(own))) => drop(own.remove(name)),
        (0, Some(Json::Array(own))) if !own.is_empty() => drop(own.remove(random.random_range(0..own.len()))),
        (1, Some(Json::Array(own))) => own.push(value),
        _ => *document.pointer_mut(&places[at]).expect("it is there") = value,
    }
}

fn pointers(json: &Json, at: String, found: &mut Vec<String>) {
    match json {
        Json::Object(own) => own.iter().for_each(|(name, inner)| {
            pointers(inner, format!("{at}/{}", name.replace('~', "~0").replace('/', "~1")), found);
        }),
        Json::Array(own) => {
            own.iter().enumerate().for_each(|(place, inner)| pointers(inner, format!("{at}/{place}"), found))
        }
        _ => {}
    }
    found.push(at);
}

#[test]
fn views_with_something_wrong_in_them_are_refused() {
    let columns = [("id".to_owned(), SqlType::Integer), ("at".to_owned(), SqlType::TimestampTz)];
    let new = |query| view::NewView { query, columns: &columns, catalog: Some("deep"), schema: "ops" };
    let first = new("SELECT 1 AS id");
    let document = view::first(
        &first.schema_json(0).unwrap(),
        &first.version_json(1, 0, 5),
        &json!({ "version.history.num-entries": "3" }),
        "s3://deep/ops/v",
    )
    .unwrap();
    let document = view::changed(&document, &view::replacing(&document, &new("SELECT 2"), 7).unwrap(), 7).unwrap();
    let more = [
        json!({ "action": "set-location", "location": "s3://deep/ops/w" }),
        json!({ "action": "set-properties", "updates": { "owner": "quay" } }),
        json!({ "action": "remove-properties", "removals": ["owner"] }),
    ];
    let changes: Vec<Json> = view::replacing(&document, &new("SELECT 3"), 9).unwrap().into_iter().chain(more).collect();
    // In the metadata, in the changes that somebody sends, and in what must be so for them.
    let whole = json!({ "document": document, "changes": changes, "must": view::requirements(&document) });
    let taken = each_changed(&whole, rounds(), 3, |own| {
        let (document, none) = (&own["document"], vec![]);
        let _ = view::View::read(document);
        let _ = view::replacing(document, &new("SELECT 4"), 11);
        let met = view::check(own["must"].as_array().unwrap_or(&none), document).is_ok();
        match view::changed(document, own["changes"].as_array().unwrap_or(&none), 12) {
            // What was made of it can be read.
            Ok(next) => view::View::read(&next).is_ok() && met,
            Err(what) => what.is_empty(),
        }
    });
    assert!(taken > rounds() / 50 && taken < rounds(), "{taken}");
}

fn schema() -> Json {
    json!({ "type": "struct", "schema-id": 0, "identifier-field-ids": [1], "fields": [
        { "id": 1, "name": "id", "required": true, "type": "long" },
        { "id": 2, "name": "stops", "required": false, "type": { "type": "list", "element-id": 5, "element-required": false, "element": {
            "type": "struct", "fields": [{ "id": 6, "name": "port", "required": false, "type": "string" }] } } },
        { "id": 3, "name": "departed_at", "required": false, "type": "timestamp" },
        { "id": 4, "name": "fare", "required": false, "type": "decimal(8, 2)" },
    ] })
}

/// A table with two states, a branch, a tag and all that a table may have.
fn table() -> (Json, Vec<Json>) {
    let spec = json!({ "fields": [{ "source-id": 3, "name": "month", "transform": "month" }] });
    let order = json!({ "order-id": 1, "fields": [
        { "source-id": 1, "transform": "identity", "direction": "asc", "null-order": "nulls-first" }] });
    let properties = BTreeMap::from([("owner".to_owned(), "quay".to_owned())]);
    let new = NewTable { schema: schema(), spec: Some(&spec), order: Some(&order), properties };
    let first = new_metadata(&new, "s3://deep/ops/sailings", 1000).unwrap();
    let snapshot = |id: i64, parent: Option<i64>| {
        json!({ "action": "add-snapshot", "snapshot": {
            "snapshot-id": id, "sequence-number": id, "parent-snapshot-id": parent, "timestamp-ms": 1000 + id, "schema-id": 0,
            "manifest-list": format!("s3://deep/ops/sailings/metadata/{id}.avro"), "summary": { "operation": "append" } } })
    };
    let named = |name: &str, kind: &str, id: i64| json!({ "action": "set-snapshot-ref", "ref-name": name, "type": kind, "snapshot-id": id });
    let states = [snapshot(1, None), snapshot(2, Some(1)), named("main", "branch", 2), named("spring", "tag", 1)];
    let document = updates::apply(&first, &states, 5000).unwrap();
    let mut wider = schema();
    wider["fields"]
        .as_array_mut()
        .unwrap()
        .push(json!({ "id": 9, "name": "note", "required": false, "type": "string" }));
    let further = vec![
        snapshot(3, Some(2)),
        named("main", "branch", 3),
        json!({ "action": "add-schema", "schema": wider, "last-column-id": 9 }),
        json!({ "action": "set-current-schema", "schema-id": -1 }),
        json!({ "action": "add-spec", "spec": { "fields": [{ "source-id": 4, "name": "fare_tens", "transform": "truncate[10]" }] } }),
        json!({ "action": "set-default-spec", "spec-id": -1 }),
        json!({ "action": "add-sort-order", "sort-order": { "order-id": 1, "fields": [] } }),
        json!({ "action": "set-default-sort-order", "sort-order-id": -1 }),
        json!({ "action": "set-properties", "updates": { "note": "x" } }),
        json!({ "action": "remove-properties", "removals": ["owner"] }),
        json!({ "action": "set-statistics", "snapshot-id": 2, "statistics": { "snapshot-id": 2, "statistics-path": "s3://deep/x" } }),
        json!({ "action": "remove-statistics", "snapshot-id": 2 }),
        json!({ "action": "remove-snapshot-ref", "ref-name": "spring" }),
        json!({ "action": "remove-snapshots", "snapshot-ids": [1] }),
    ];
    (document, further)
}

#[test]
fn tables_with_something_wrong_in_them_are_refused() {
    let (document, further) = table();
    let after = updates::apply(&document, &further, 6000).unwrap();
    let must = updates::requirements(&document, &updates::between(&document, &after));
    let whole = json!({ "document": document, "changes": further, "must": must, "schema": schema() });
    let alterations = [
        vec![Alteration::RenameColumn { name: vec!["fare".to_owned()], to: "price".to_owned() }],
        vec![Alteration::PartitionBy("day(departed_at), bucket(3, id)".to_owned())],
        vec![Alteration::OrderBy("id DESC".to_owned())],
        vec![Alteration::Set(BTreeMap::from([("owner".to_owned(), "pier".to_owned())]))],
        vec![Alteration::Reset(vec!["owner".to_owned()])],
    ];
    let taken = each_changed(&whole, rounds(), 5, |own| {
        let (document, none) = (&own["document"], vec![]);
        let changes = own["changes"].as_array().unwrap_or(&none);
        let _ = updates::check(own["must"].as_array().unwrap_or(&none), Some(document));
        let _ = updates::between(document, &after);
        let new = NewTable { schema: own["schema"].clone(), spec: None, order: None, properties: BTreeMap::new() };
        if let Ok(made) = new_metadata(&new, "s3://deep/ops/t", 1) {
            assert!(Metadata::of_document(made).is_ok(), "a new table cannot be read");
        }
        if let Ok(metadata) = Metadata::of_document(document.clone()) {
            for alteration in &alterations {
                let _ = altered(document.clone(), &metadata, alteration).map(Metadata::of_document);
            }
            let _ = metadata.current().map(|own| refs::ancestors(&metadata, own.id));
            let _ = metadata.as_of(1001);
            let _ = refs::made(document.clone(), &metadata, "trial", RefKind::Branch, 2, false);
            let _ = refs::dropped(document.clone(), &metadata, "spring");
            let _ = refs::forwarded(document.clone(), &metadata, "main", 2, 7);
            let _ = refs::rolled_back(document.clone(), &metadata, "main", 1, 7);
            let _ = refs::unknown(&metadata, "nothing");
        }
        match updates::apply(document, changes, 7000) {
            Ok(next) => Metadata::of_document(next).is_ok(),
            Err(what) => what.is_empty(),
        }
    });
    assert!(taken > rounds() / 50 && taken < rounds(), "{taken}");
}
