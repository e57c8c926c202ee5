//! What CALL does with a table of a lake: names of its states here, its care in files of their own.

use cobble_lake::catalog::TableName;
use cobble_lake::commit::{MAIN, now};
use cobble_lake::metadata::{RefKind, Snapshot};
use cobble_lake::refs;
use cobble_lake::schema::Told;
use cobble_lake::table::LakeTable;
use cobble_plan::facts::FactRows;
use cobble_plan::procedure::{Procedure, ProcedureCall};
use cobble_plan::scan::ScanTools;
use cobble_types::{Code, Error, Result, SqlType, Value};
use serde_json::Value as Json;

use super::Lake;

/// A snapshot by its number, or by the branch or tag that has it.
pub fn version<'t>(table: &'t LakeTable, written: &str) -> Told<&'t Snapshot> {
    let metadata = &table.metadata;
    let by_number = written.parse().ok().and_then(|id| metadata.snapshot(id));
    by_number.or_else(|| metadata.named(written)).ok_or_else(|| match written.parse::<i64>() {
        Ok(id) => format!("there is no snapshot {id}"),
        Err(_) => refs::unknown(metadata, written),
    })
}

/// A table as a call names it.
#[derive(Debug, Clone, Copy)]
pub struct Named<'n> {
    pub lake: &'n std::sync::Arc<Lake>,
    pub schema: &'n str,
    pub table: &'n str,
}

impl Named<'_> {
    pub fn open(&self) -> Result<LakeTable> {
        self.lake.opened_again(self.schema, self.table)
    }

    pub fn wrong(&self, what: impl std::fmt::Display) -> Error {
        let Named { lake, schema, table } = self;
        Error::new(Code::NotFound, format!("connection {}: {schema}.{table}: {what}", lake.connection))
    }

    /// Gives a table that is somewhere in the storage this name.
    fn adopt(&self, location: &str) -> Result<FactRows> {
        let name = TableName::new(self.schema, self.table);
        self.lake.catalog()?.adopt(&name, &self.lake.whole_location(location)?)?;
        self.told(&self.open()?)
    }

    /// Where the table is.
    fn told(&self, open: &LakeTable) -> Result<FactRows> {
        let mut rows = FactRows::new(&[("metadata", SqlType::Text)]);
        rows.push([Value::Text(open.metadata_location())])?;
        Ok(rows)
    }

    /// Changes what names the table's states, and tells which state the name has then.
    fn named(&self, name: &str, make: &dyn Fn(&LakeTable, Json) -> Told<Json>) -> Result<FactRows> {
        let change = |open: &LakeTable, json: Json| {
            open.is_ours()?;
            make(open, json).map_err(|what| self.wrong(what))
        };
        LakeTable::change_metadata(&change, &|| self.open())?;
        let mut rows = FactRows::new(&[("name", SqlType::Text), ("snapshot", SqlType::BigInt)]);
        let snapshot = self.open()?.metadata.named(name).map(|snapshot| snapshot.id);
        rows.push([Value::Text(name.to_owned()), snapshot.map_or(Value::Null, Value::BigInt)])?;
        Ok(rows)
    }

    fn made(&self, call: &ProcedureCall, kind: RefKind) -> Result<FactRows> {
        let name = call.needed("name")?;
        self.named(name, &|open, json| {
            let to = match call.text("at") {
                Some(written) => version(open, written)?.id,
                None => open.head().ok_or("it has no state yet, so that nothing can be named")?.id,
            };
            refs::made(json, &open.metadata, name, kind, to, call.flag("replace"))
        })
    }
}

/// Does what is called for. What comes back tells what was done.
pub fn call(named: Named<'_>, call: &ProcedureCall, tools: &ScanTools) -> Result<FactRows> {
    named.lake.checked_to_write()?;
    if call.procedure == Procedure::Adopt {
        return named.adopt(call.needed("location")?);
    }
    let branch = named.open()?.branch;
    let later = |open: &LakeTable| now().max(open.metadata.updated + 1);
    match call.procedure {
        Procedure::Branch => named.made(call, RefKind::Branch),
        Procedure::Tag => named.made(call, RefKind::Tag),
        Procedure::DropRef => {
            let name = call.needed("name")?;
            named.named(name, &|open, json| refs::dropped(json, &open.metadata, name))
        }
        Procedure::FastForward => {
            let (own, to) = (call.needed("branch")?, call.needed("to")?);
            named.named(own, &|open, json| {
                refs::forwarded(json, &open.metadata, own, version(open, to)?.id, later(open))
            })
        }
        Procedure::RollBack => {
            let to = call.needed("to")?;
            let own = if branch.is_empty() { MAIN } else { &branch };
            named.named(own, &|open, json| {
                refs::rolled_back(json, &open.metadata, own, version(open, to)?.id, later(open))
            })
        }
        Procedure::CherryPick => super::cherry_pick::cherry_pick(named, call, tools),
        Procedure::Compact => super::compact::compact(named, call, tools),
        Procedure::RewriteManifests => super::rewrite_manifests::rewrite(named, call, tools),
        Procedure::Expire => super::expire::expire(named, call, tools),
        Procedure::RemoveOrphans => super::orphans::remove(named, call, tools),
        Procedure::AddFiles => super::add_files::add(named, call, tools),
        Procedure::Adopt => named.adopt(call.needed("location")?),
        Procedure::MoveTier => Err(Error::internal("a move between tiers, which a lake alone does not make")),
        Procedure::Release => {
            let open = named.open()?;
            open.catalog.release(&open)?;
            named.told(&open)
        }
    }
}
