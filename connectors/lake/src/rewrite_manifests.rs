//! Writing manifests anew: fewer of them, each with files of partitions that lie together, so that a question reads fewer.

use cobble_plan::facts::FactRows;
use cobble_plan::procedure::ProcedureCall;
use cobble_plan::scan::ScanTools;
use cobble_types::{Result, SqlType, Value};

use super::call::Named;

/// Bytes of a manifest, unless the call or the table's property says otherwise.
const MANIFEST_BYTES: u64 = 8 << 20;
const PROPERTY: &str = "commit.manifest.target-size-bytes";

pub fn rewrite(named: Named<'_>, call: &ProcedureCall, tools: &ScanTools) -> Result<FactRows> {
    let table = named.open()?;
    table.is_ours()?;
    let property = table.metadata.properties.get(PROPERTY).and_then(|text| text.parse().ok());
    let given = call.number("manifest_bytes").and_then(|bytes| u64::try_from(bytes).ok());
    let bytes = given.or(property).unwrap_or(MANIFEST_BYTES).clamp(1 << 10, 1 << 30);
    tools.counters.tell("reads the manifests, and writes them anew".to_owned());
    let (read, written) = table.regroup(bytes, call.flag("dry_run"), &tools.memory, &|| named.open())?;
    let mut rows = FactRows::new(&[("manifests_read", SqlType::BigInt), ("manifests_written", SqlType::BigInt)]);
    let written = written.map_or(Value::Null, |written| Value::BigInt(written as i64));
    rows.push([Value::BigInt(read as i64), written])?;
    Ok(rows)
}
