//! Branches and tags: names of states, and which of them a branch has (table specification, "Snapshot References").

use std::collections::HashSet;

use serde_json::{Value as Json, json};

use crate::commit::MAIN;
use crate::documents::set;
use crate::metadata::{Metadata, RefKind};
use crate::schema::Told;

/// The states that lead to one, itself first.
pub fn ancestors(metadata: &Metadata, of: i64) -> Vec<i64> {
    let (mut all, mut known) = (Vec::new(), HashSet::new());
    let mut at = metadata.snapshot(of);
    while let Some(snapshot) = at.filter(|snapshot| known.insert(snapshot.id)) {
        all.push(snapshot.id);
        at = snapshot.parent.and_then(|parent| metadata.snapshot(parent));
    }
    all
}

fn refs(json: &mut Json) -> Told<&mut serde_json::Map<String, Json>> {
    let whole = json.as_object_mut().ok_or("it is no object")?;
    let own = whole.entry("refs").or_insert_with(|| json!({}));
    if own.is_null() {
        *own = json!({});
    }
    own.as_object_mut().ok_or_else(|| "refs is no object".to_owned())
}

/// Lets a branch have a state. The main branch's is the table's.
pub fn pointed(json: &mut Json, branch: &str, snapshot: i64, at: i64) -> Told<()> {
    let own = refs(json)?.entry(branch).or_insert_with(|| json!({ "type": "branch" }));
    set(own, "snapshot-id", snapshot)?;
    if branch == MAIN {
        set(json, "current-snapshot-id", snapshot)?;
        let whole = json.as_object_mut().ok_or("it is no object")?;
        let log = whole.entry("snapshot-log").or_insert_with(|| json!([]));
        if log.is_null() {
            *log = json!([]);
        }
        let log = log.as_array_mut().ok_or("snapshot-log is no array")?;
        log.push(json!({ "timestamp-ms": at, "snapshot-id": snapshot }));
    }
    Ok(())
}

/// Makes a branch or a tag.
///
/// # Errors
/// When there is one of the name, unless it may be replaced by another of its kind.
pub fn made(mut json: Json, metadata: &Metadata, name: &str, kind: RefKind, to: i64, replace: bool) -> Told<Json> {
    if name.is_empty() || name.chars().any(|c| c.is_control() || c == '@') {
        return Err(format!("\"{}\" is no name of a branch or tag", name.escape_debug()));
    }
    if name == MAIN {
        return Err("main is the branch that is read and written; roll it back or forward".into());
    }
    if metadata.snapshot(to).is_none() {
        return Err(format!("there is no snapshot {to}"));
    }
    match metadata.refs.get(name) {
        Some(known) if !replace || known.kind != kind => {
            let what = if known.kind == RefKind::Tag { "tag" } else { "branch" };
            return Err(format!("there is a {what} {name} already"));
        }
        _ => {}
    }
    let word = if kind == RefKind::Tag { "tag" } else { "branch" };
    let own = refs(&mut json)?.entry(name).or_insert_with(|| json!({}));
    set(own, "type", word)?;
    set(own, "snapshot-id", to)?;
    Ok(json)
}

/// Drops a branch or tag. Its states stay until they expire.
///
/// # Errors
/// When there is none of the name, or it is the main branch.
pub fn dropped(mut json: Json, metadata: &Metadata, name: &str) -> Told<Json> {
    if name == MAIN {
        return Err("the main branch stays".into());
    }
    if !metadata.refs.contains_key(name) {
        return Err(unknown(metadata, name));
    }
    refs(&mut json)?.remove(name);
    Ok(json)
}

pub fn unknown(metadata: &Metadata, name: &str) -> String {
    let known: Vec<&str> = metadata.refs.keys().map(String::as_str).collect();
    format!("there is no branch or tag {name}; there are {}", known.join(", "))
}

/// Lets a branch have the state of another branch or tag that goes on from its own.
///
/// # Errors
/// When it does not.
pub fn forwarded(mut json: Json, metadata: &Metadata, branch: &str, to: i64, at: i64) -> Told<Json> {
    let own = match metadata.refs.get(branch) {
        Some(known) if known.kind == RefKind::Tag => {
            return Err(format!("{branch} is a tag, and tags stay where they are"));
        }
        Some(known) => Some(known.snapshot),
        None if branch == MAIN => None,
        None => return Err(unknown(metadata, branch)),
    };
    if let Some(own) = own.filter(|own| !ancestors(metadata, to).contains(own)) {
        return Err(format!("snapshot {to} does not go on from snapshot {own}, which {branch} has"));
    }
    pointed(&mut json, branch, to, at)?;
    Ok(json)
}

/// Lets a branch have an earlier state of its own again.
///
/// # Errors
/// When it never had it.
pub fn rolled_back(mut json: Json, metadata: &Metadata, branch: &str, to: i64, at: i64) -> Told<Json> {
    let own = metadata.refs.get(branch).map(|own| own.snapshot);
    if !own.is_some_and(|own| ancestors(metadata, own).contains(&to)) {
        return Err(format!("snapshot {to} is none that {branch} has had"));
    }
    pointed(&mut json, branch, to, at)?;
    Ok(json)
}
