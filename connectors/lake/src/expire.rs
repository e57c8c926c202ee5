//! Ending states that nobody needs: they go from the metadata first, and then the files that only they had.

use cobble_lake::commit::now;
use cobble_lake::metadata::Snapshot;
use cobble_lake::reach::{Keeping, kept, without};
use cobble_lake::table::LakeTable;
use cobble_plan::facts::FactRows;
use cobble_plan::procedure::ProcedureCall;
use cobble_plan::scan::ScanTools;
use cobble_types::{Error, Result, SqlType, Value};

use super::call::Named;

/// How long states stay, unless the call or the table's properties say otherwise.
const AGE: i64 = 5 * 24 * 3600 * 1000;
const AGE_PROPERTY: &str = "history.expire.max-snapshot-age-ms";
const LEAST_PROPERTY: &str = "history.expire.min-snapshots-to-keep";

fn keeping(table: &LakeTable, call: &ProcedureCall) -> Keeping {
    let property = |name: &str| table.metadata.properties.get(name).and_then(|text| text.parse::<i64>().ok());
    let (now, given) = (now(), call.moment("older_than").map(|at| at.div_euclid(1000)));
    let older_than = given.unwrap_or_else(|| now.saturating_sub(property(AGE_PROPERTY).unwrap_or(AGE)));
    let least = call.number("keep").or_else(|| property(LEAST_PROPERTY)).unwrap_or(1);
    Keeping { older_than, least: usize::try_from(least).unwrap_or(1).max(1), now }
}

pub fn expire(named: Named<'_>, call: &ProcedureCall, tools: &ScanTools) -> Result<FactRows> {
    let table = named.open()?;
    table.is_ours()?;
    let keeping = keeping(&table, call);
    let (stay, names) = kept(&table.document()?, &table.metadata, keeping);
    let gone = table.metadata.snapshots.iter().filter(|own| !stay.contains(&own.id)).count();
    let all = || table.metadata.snapshots.iter();
    let (staying, ended): (Vec<&Snapshot>, Vec<&Snapshot>) = all().partition(|own| stay.contains(&own.id));
    tools.counters.tell(format!("finds the files that only {} ended states need", ended.len()));
    let files = table.needed_by_none((&staying, &ended), &tools.memory, &tools.cancel)?;
    if !call.flag("dry_run") && (gone > 0 || !names.is_empty()) {
        let make = |open: &LakeTable, json: serde_json::Value| {
            // What came since stays, and so does what has got a name since.
            let (now_stay, _) = kept(&json, &open.metadata, keeping);
            let is_new = |id: &i64| table.metadata.snapshot(*id).is_none() || now_stay.contains(id);
            let all = open.metadata.snapshots.iter().map(|own| own.id);
            let stay = all.filter(|id| stay.contains(id) || is_new(id)).collect();
            without(json, &stay, &names).map_err(|what| named.wrong(what))
        };
        LakeTable::change_metadata(&make, &|| named.open())?;
        // Of the files again: states that came in between may have some of them.
        let after = named.open()?;
        let still: Vec<&Snapshot> = after.metadata.snapshots.iter().collect();
        let ended: Vec<&Snapshot> = all().filter(|own| after.metadata.snapshot(own.id).is_none()).collect();
        let unneeded = after.needed_by_none((&still, &ended), &tools.memory, &tools.cancel)?;
        let storage = &table.storage;
        let all = unneeded.files.iter().chain(&unneeded.manifests).chain(&unneeded.lists);
        let count = all.clone().count();
        for (place, path) in all.enumerate() {
            tools.counters.tell(format!("{place} of {count} files removed"));
            if tools.cancel.is_cancelled() {
                return Err(Error::cancelled());
            }
            storage.delete(&table.stored(path, 0)?)?;
        }
    }
    let mut rows = FactRows::new(&[
        ("snapshots", SqlType::BigInt),
        ("names", SqlType::BigInt),
        ("manifest_lists", SqlType::BigInt),
        ("manifests", SqlType::BigInt),
        ("files", SqlType::BigInt),
    ]);
    let counts = [gone, names.len(), files.lists.len(), files.manifests.len(), files.files.len()];
    rows.push(counts.map(|count| Value::BigInt(count as i64)))?;
    Ok(rows)
}
