//! Removing files in a table's folder that none of its states has: what writers have left that were stopped. Young files may be those of a writer
//! that has not shown them yet, and stay.

use std::collections::HashSet;
use std::path::PathBuf;

use cobble_lake::commit::now;
use cobble_plan::facts::FactRows;
use cobble_plan::procedure::ProcedureCall;
use cobble_plan::scan::ScanTools;
use cobble_storage::StoredFile;
use cobble_types::{Error, Result, SqlType, Value};

use super::call::Named;

/// Files that are younger stay, unless the call says otherwise: in milliseconds.
const AGE: i64 = 3 * 24 * 3600 * 1000;

pub fn remove(named: Named<'_>, call: &ProcedureCall, tools: &ScanTools) -> Result<FactRows> {
    let older_than = call.moment("older_than").map_or_else(|| now() - AGE, |at| at.div_euclid(1000));
    // First what is there, and then what is needed: what comes in between is not looked at.
    let open = named.open()?;
    let storage = &open.storage;
    let (mut found, mut folders): (Vec<StoredFile>, _) = (Vec::new(), vec![open.home.clone()]);
    while let Some(folder) = folders.pop() {
        if tools.cancel.is_cancelled() {
            return Err(Error::cancelled());
        }
        tools.counters.tell(format!("looks for files, {} found so far", found.len()));
        let own = storage.look(&folder)?;
        folders.extend(own.folders.into_iter().map(|name| [folder.clone(), vec![name]].concat()));
        let old = own.files.into_iter().zip(own.changed).filter(|(_, changed)| *changed < older_than);
        found.extend(old.map(|(file, _)| file));
    }
    let table = named.open()?;
    table.is_ours()?;
    tools.counters.tell(format!("compares {} files with those that the table's states need", found.len()));
    let files = table.reached(&tools.memory, &tools.cancel)?;
    let all = files.lists.into_iter().chain(files.manifests).chain(files.files).chain(table.metadata_files()?);
    let needed: HashSet<PathBuf> = all.map(|path| Ok(table.stored(&path, 0)?.path)).collect::<Result<_>>()?;
    let mut rows = FactRows::new(&[("file", SqlType::Text), ("bytes", SqlType::BigInt)]);
    for file in found {
        let name = file.name();
        // The newest metadata file says what the table is, and the hint leads to it.
        let stays = needed.contains(&file.path) || file.path == table.file.path || name == "version-hint.text";
        if stays {
            continue;
        }
        if tools.cancel.is_cancelled() {
            return Err(Error::cancelled());
        }
        if !call.flag("dry_run") {
            tools.counters.tell(format!("{} files removed", rows.rows()));
            storage.delete(&file)?;
        }
        let shown = file.path.to_string_lossy().into_owned();
        rows.push([Value::Text(shown), Value::BigInt(file.bytes as i64)])?;
    }
    Ok(rows)
}
