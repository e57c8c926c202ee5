//! Which tables there are, and their columns, from a sample of the keys.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;

use cobble_plan::logical::{Table, TableColumn, TableKind};
use cobble_plan::offer::DescribedTable;
use cobble_plan::statistics::{ColumnStatistics, TableStatistics};
use cobble_types::{Code, Error, ObjectName, Result, SqlType};
use redis::aio::MultiplexedConnection;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::offer::KeyedSource;
use super::scan::Sizes;
use super::{SAMPLE, SAMPLE_OF_TABLE, Store};
use cobble_format::{Guess, json_type, merge_types, settled};

/// What stands behind the keys of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Shape {
    /// Hashes, whose fields are the columns.
    Hashes,
    /// Texts that are JSON objects, whose members are the columns.
    Objects,
    /// Other texts: one column `value`.
    Texts,
}

/// A table of keys.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Keyed {
    pub pattern: String,
    pub shape: Shape,
    /// Without the first one, which is the key.
    pub fields: Vec<(String, SqlType)>,
}

/// One step of going through the keys of a pattern: the next cursor, zero at the end, and keys, some of which may come twice.
pub async fn step(
    store: &Store,
    client: &mut MultiplexedConnection,
    cursor: u64,
    pattern: &str,
) -> Result<(u64, Vec<String>)> {
    redis::cmd("SCAN")
        .arg(cursor)
        .arg("MATCH")
        .arg(pattern)
        .arg("COUNT")
        .arg(1000)
        .query_async(client)
        .await
        .map_err(|e| store.error(&e))
}

async fn sample(store: &Store, client: &mut MultiplexedConnection, pattern: &str, most: usize) -> Result<Vec<String>> {
    let (mut cursor, mut found) = (0, HashSet::new());
    loop {
        let (next, keys) = step(store, client, cursor, pattern).await?;
        found.extend(keys);
        cursor = next;
        if cursor == 0 || found.len() >= most {
            let mut all: Vec<String> = found.into_iter().collect();
            all.sort();
            all.truncate(most);
            return Ok(all);
        }
    }
}

/// Names of tables with the patterns of their keys, in order of names.
pub async fn tables(store: &Store) -> Result<Vec<(String, String)>> {
    let mut tables = match &store.tables {
        Some(given) => given.clone(),
        None => {
            let mut client = store.client().await?;
            let keys = sample(store, &mut client, "*", SAMPLE).await?;
            let prefixes: BTreeSet<&str> = keys.iter().filter_map(|key| Some(key.split_once(':')?.0)).collect();
            let plain = |prefix: &&str| !prefix.is_empty() && !prefix.contains(['*', '?', '[', ']', '\\']);
            prefixes.into_iter().filter(plain).map(|p| (p.to_lowercase(), format!("{p}:*"))).collect()
        }
    };
    tables.sort();
    tables.dedup_by(|a, b| a.0 == b.0);
    Ok(tables)
}

pub async fn table(store: &Arc<Store>, name: ObjectName, pattern: String) -> Result<DescribedTable> {
    let mut client = store.client().await?;
    let keys = sample(store, &mut client, &pattern, SAMPLE_OF_TABLE).await?;
    let wrong = |what: String, hint: &str| {
        Err(Error::new(Code::SourceData, format!("connection {}: {what}", store.connection)).hint(hint))
    };
    let mut types = redis::pipe();
    for key in &keys {
        types.cmd("TYPE").arg(key);
    }
    let types: Vec<String> = match keys.is_empty() {
        true => vec![],
        false => types.query_async(&mut client).await.map_err(|e| store.error(&e))?,
    };
    // A key may have gone since it was listed.
    let present: Vec<(&String, &str)> =
        keys.iter().zip(types.iter().map(String::as_str)).filter(|(_, t)| *t != "none").collect();
    let first = present.first().map_or("hash", |(_, t)| *t);
    if let Some((key, other)) = present.iter().find(|(_, t)| *t != first) {
        let what = format!("key {key} holds a {other} where others of {pattern} hold a {first}");
        return wrong(what, "give the two kinds of keys patterns of their own in tables");
    }
    let (shape, fields) = match first {
        "hash" => {
            let mut guesses: BTreeMap<String, Guess> = BTreeMap::new();
            let (mut sizes, mut left) = (Sizes::default(), present.as_slice());
            while !left.is_empty() && !sizes.suffice() {
                let now;
                (now, left) = left.split_at(left.len().min(sizes.at_once()));
                let mut all = redis::pipe();
                for (key, _) in now {
                    all.cmd("HGETALL").arg(key);
                }
                let rows: Vec<BTreeMap<String, String>> =
                    all.query_async(&mut client).await.map_err(|e| store.error(&e))?;
                sizes.add(
                    now.len(),
                    rows.iter().flatten().map(|(field, value)| (field.len() + value.len()) as u64).sum(),
                );
                for (field, value) in rows.iter().flatten() {
                    let known = guesses.remove(field).unwrap_or(Guess::Nothing);
                    let guess = if value.is_empty() { known } else { known.with(Guess::of(value)) };
                    guesses.insert(field.clone(), guess);
                }
            }
            let fields = guesses.into_iter().map(|(field, guess)| (field, guess.sql_type())).collect();
            (Shape::Hashes, fields)
        }
        "string" => {
            let mut texts: Vec<Option<String>> = Vec::new();
            let (mut sizes, mut left) = (Sizes::default(), present.as_slice());
            while !left.is_empty() && !sizes.suffice() {
                let now;
                (now, left) = left.split_at(left.len().min(sizes.at_once()));
                let names: Vec<&String> = now.iter().map(|(key, _)| *key).collect();
                let come: Vec<Option<String>> =
                    redis::cmd("MGET").arg(&names).query_async(&mut client).await.map_err(|e| store.error(&e))?;
                sizes.add(now.len(), come.iter().flatten().map(|text| text.len() as u64).sum());
                texts.extend(come);
            }
            objects(&texts).map_or_else(
                || (Shape::Texts, vec![("value".to_owned(), SqlType::Text)]),
                |fields| (Shape::Objects, fields),
            )
        }
        other => {
            let what = format!("key {} holds a {other}, which is not read", present[0].0);
            return wrong(what, "hashes and texts are; leave the pattern out of tables");
        }
    };
    if fields.iter().any(|(name, _)| name == "key") {
        return wrong(
            format!("values of {pattern} have a field named key, as the column of their keys is"),
            "rename the field",
        );
    }
    let column = |name: &str, sql_type: SqlType, nullable: bool| TableColumn {
        name: name.to_owned(),
        sql_type,
        nullable,
        partition: false,
        comment: None,
    };
    let mut columns = vec![column("key", SqlType::Text, false)];
    columns.extend(fields.iter().map(|(name, sql_type)| column(name, sql_type.clone(), true)));
    // Fewer than the sample may hold are all there are.
    let rows = (present.len() < SAMPLE_OF_TABLE).then_some(present.len() as f64);
    let statistics = TableStatistics {
        rows,
        bytes: None,
        columns: vec![ColumnStatistics::default(); columns.len()],
        origin: rows.map(|_| "the keys".to_owned()),
        sample: None,
    };
    let source = KeyedSource { store: store.clone(), keyed: Arc::new(Keyed { pattern, shape, fields }) };
    let (origin, primary_key) = (store.origin(), vec![0]);
    let table = Table { name, columns, statistics, primary_key, kind: TableKind::Table, origin };
    Ok(DescribedTable::new(table, source))
}

/// The members of texts that all are JSON objects.
fn objects(texts: &[Option<String>]) -> Option<Vec<(String, SqlType)>> {
    let mut shape = SqlType::Row(vec![]);
    for text in texts.iter().flatten() {
        let parsed: Json = serde_json::from_str(text).ok().filter(Json::is_object)?;
        shape = merge_types(shape, json_type(&parsed)).ok()?;
    }
    let SqlType::Row(fields) = shape else { return None };
    (!fields.is_empty()).then(|| fields.into_iter().map(|f| (f.name, settled(&f.sql_type))).collect())
}
