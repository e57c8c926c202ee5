//! The structure of the workspace: every crate uses what docs/ARCHITECTURE.md says, and no two folders of a crate import each other.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// The manifests of all crates, by the crate's name.
fn manifests() -> BTreeMap<String, (PathBuf, toml::Table)> {
    let mut folders = vec![root().join("demo"), root().join("demo/load"), root().join("tests")];
    for parent in ["crates", "connectors"] {
        folders.extend(fs::read_dir(root().join(parent)).unwrap().map(|entry| entry.unwrap().path()));
    }
    let manifest = |folder: PathBuf| {
        let text = fs::read_to_string(folder.join("Cargo.toml")).unwrap();
        let table: toml::Table = text.parse().unwrap();
        (table["package"]["name"].as_str().unwrap().to_owned(), (folder, table))
    };
    folders.into_iter().map(manifest).collect()
}

/// The rows of the table of crates: each crate with those that it uses.
fn documented() -> BTreeMap<String, BTreeSet<String>> {
    let text = fs::read_to_string(root().join("docs/ARCHITECTURE.md")).unwrap();
    let rows = text.lines().filter_map(|line| {
        let mut cells = line.strip_prefix("| `cobble-")?.split('|');
        let name = cells.next()?.split('`').next()?;
        let uses = cells.next_back().filter(|last| last.trim().is_empty()).and(cells.next_back())?;
        let uses = uses.split(',').map(str::trim).filter(|name| !name.is_empty());
        Some((format!("cobble-{name}"), uses.map(|name| format!("cobble-{name}")).collect()))
    });
    rows.collect()
}

#[test]
fn every_crate_uses_what_is_documented() {
    let own = |table: &toml::Table| -> BTreeSet<String> {
        let used = table.get("dependencies").and_then(toml::Value::as_table);
        let names = used.into_iter().flat_map(toml::Table::keys);
        names.filter(|name| name.starts_with("cobble-")).cloned().collect()
    };
    let found: BTreeMap<String, BTreeSet<String>> =
        manifests().iter().map(|(name, (_, table))| (name.clone(), own(table))).collect();
    assert_eq!(found, documented());
}

/// What a shipped crate may not use: servers that only stand in for others.
#[test]
fn what_is_shipped_holds_no_stand_in() {
    let all = manifests();
    let mut reached = BTreeSet::from(["cobble-cli".to_owned()]);
    let mut next: Vec<String> = reached.iter().cloned().collect();
    while let Some(name) = next.pop() {
        let Some((_, table)) = all.get(&name) else { continue };
        for used in table["dependencies"].as_table().unwrap().keys() {
            assert!(!used.starts_with("s3s"), "{name} uses {used}");
            if reached.insert(used.clone()) {
                next.push(used.clone());
            }
        }
    }
    assert!(reached.contains("cobble-engine") && !reached.contains("cobble-ferry-load"));
}

fn sources(folder: &Path, into: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, into);
        } else if path.extension().is_some_and(|e| e == "rs") {
            into.push(path);
        }
    }
}

/// The folder of a crate that a module path leads into: `crate::bind::call` is in `bind` when that is a folder.
fn folder_of(src: &Path, path: &str) -> Option<String> {
    let first = path.split("::").next()?;
    src.join(first).is_dir().then(|| first.to_owned())
}

#[test]
fn no_two_folders_of_a_crate_import_each_other() {
    for (name, (folder, _)) in manifests() {
        let src = folder.join("src");
        if !src.is_dir() {
            continue;
        }
        let mut files = Vec::new();
        sources(&src, &mut files);
        // Which folders each folder imports from; what stands at the top of the crate is no folder.
        let mut imports: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for file in files {
            let within = file.strip_prefix(&src).unwrap();
            let Some(own) = within.components().next().filter(|_| within.components().count() > 1) else { continue };
            let own = own.as_os_str().to_string_lossy().into_owned();
            let text = fs::read_to_string(&file).unwrap();
            for line in text.lines().filter(|line| line.trim_start().starts_with("use crate::")) {
                let used = line.trim_start().trim_start_matches("use crate::");
                if let Some(other) = folder_of(&src, used).filter(|other| *other != own) {
                    imports.entry(own.clone()).or_default().insert(other);
                }
            }
        }
        for (from, others) in &imports {
            for to in others {
                let back = imports.get(to).is_some_and(|back| back.contains(from));
                assert!(!back, "{name}: {from} and {to} import each other");
            }
        }
    }
}
