//! Taking the rows that a state of another branch has added: its files come into this branch as they are.

use std::collections::{BTreeMap, HashSet};

use cobble_lake::commit::now;
use cobble_lake::refs::{ancestors, forwarded};
use cobble_plan::facts::FactRows;
use cobble_plan::procedure::ProcedureCall;
use cobble_plan::scan::ScanTools;
use cobble_types::{Result, SqlType, Value};

use super::call::Named;

/// What the summary of a state says of the one that it was taken from.
const SOURCE: &str = "source-snapshot-id";

pub fn cherry_pick(named: Named<'_>, call: &ProcedureCall, tools: &ScanTools) -> Result<FactRows> {
    let wanted = call.number("snapshot").ok_or_else(|| named.wrong("a snapshot is needed"))?;
    let table = named.open()?;
    table.is_ours()?;
    let picked =
        table.metadata.snapshot(wanted).ok_or_else(|| named.wrong(format!("there is no snapshot {wanted}")))?;
    let before: HashSet<i64> =
        table.head().map(|head| ancestors(&table.metadata, head.id)).unwrap_or_default().into_iter().collect();
    let is_there = |id: i64| {
        let of = table.metadata.snapshot(id);
        id == wanted || of.and_then(|own| own.summary.get(SOURCE)).is_some_and(|own| *own == wanted.to_string())
    };
    if before.iter().any(|id| is_there(*id)) {
        return Err(named.wrong(format!("{} has the rows of snapshot {wanted} already", table.branch)));
    }
    if picked.parent == table.head().map(|head| head.id) {
        let change = |open: &cobble_lake::table::LakeTable, json| {
            let at = now().max(open.metadata.updated + 1);
            forwarded(json, &open.metadata, &open.branch, wanted, at).map_err(|what| named.wrong(what))
        };
        cobble_lake::table::LakeTable::change_metadata(&change, &|| named.open())?;
    } else {
        if picked.summary.get("operation").is_none_or(|own| own != "append") {
            return Err(named.wrong(format!("snapshot {wanted} does more than add rows, and only rows are taken")));
        }
        let summary = BTreeMap::from([(SOURCE.to_owned(), wanted.to_string())]);
        table.append_picked(picked, summary, &tools.memory, &|| named.open())?;
    }
    let mut rows = FactRows::new(&[("name", SqlType::Text), ("snapshot", SqlType::BigInt)]);
    let head = named.open()?.head().map(|head| head.id);
    rows.push([Value::Text(table.branch.clone()), head.map_or(Value::Null, Value::BigInt)])?;
    Ok(rows)
}
