//! CALL and ALTER TABLE: what the source of a table is asked to do with it.

use std::collections::BTreeMap;

use cobble_exec::tools_for;
use cobble_plan::procedure::{Parameter, Procedure, ProcedureCall};
use cobble_sql::{AlterTable, Call, Parameters, WrittenName, table_name};
use cobble_types::{Code, Error, Result, SqlType, Value};
use tokio_util::sync::CancellationToken;

use crate::execution::Execution;
use crate::memory_table::MemoryTable;
use crate::resolve::table;
use crate::session::{RowOrder, Session, limits};

/// The parameter of each argument, in the order in which they are written.
fn matched(call: &Call, parameters: &[Parameter]) -> Result<Vec<Parameter>> {
    let mut found: Vec<Parameter> = Vec::new();
    for (place, name) in call.names.iter().enumerate() {
        let own = match name {
            None => parameters.get(place).cloned().ok_or_else(|| {
                let what = format!("{} takes at most {} arguments", call.procedure, parameters.len());
                Error::new(Code::TypeMismatch, what)
            })?,
            Some(name) => {
                let own = parameters.iter().find(|(own, ..)| own == name).cloned();
                own.ok_or_else(|| Error::unknown("parameter", name, parameters.iter().map(|(own, ..)| *own)))?
            }
        };
        if found.iter().any(|(known, ..)| *known == own.0) {
            return Err(Error::new(Code::AmbiguousName, format!("{} is given twice", own.0)));
        }
        found.push(own);
    }
    let missing = parameters.iter().find(|(name, _, optional)| !optional && !found.iter().any(|own| own.0 == *name));
    match missing {
        Some((name, ..)) => {
            let all: Vec<&str> = parameters.iter().map(|(name, ..)| *name).collect();
            Err(Error::new(Code::TypeMismatch, format!("{} needs an argument for {name}", call.procedure))
                .hint(format!("its parameters are {}", all.join(", "))))
        }
        None => Ok(found),
    }
}

impl Session {
    pub(crate) async fn call(&mut self, call: &Call, cancel: &CancellationToken) -> Result<Execution> {
        let at = |error: Error| error.at(call.position);
        let procedure = Procedure::of_name(&call.procedure).map_err(at)?;
        let mut parameters: Vec<Parameter> = vec![("table", SqlType::Text, false)];
        parameters.extend(procedure.parameters());
        let given = matched(call, &parameters).map_err(at)?;
        let mut arguments = BTreeMap::new();
        if let Some(query) = &call.values {
            let wanted: Vec<(String, SqlType)> =
                given.iter().map(|(name, sql_type, _)| ((*name).to_owned(), sql_type.clone())).collect();
            let planned =
                self.planned_into(query, Parameters::NONE, Some(&wanted), &RowOrder::default(), cancel).await?;
            let batches = self.started(planned, cancel).await?.collect().await?;
            let batch = batches.iter().find(|batch| batch.num_rows() > 0);
            let batch = batch.ok_or_else(|| Error::internal("the arguments of a call are no row"))?;
            for ((name, ..), column) in given.iter().zip(batch.columns()) {
                let value = Value::from_array(column.as_ref(), 0);
                arguments.extend(value.filter(|value| !value.is_null()).map(|value| (*name, value)));
            }
        }
        let call_of = ProcedureCall { procedure, arguments };
        let parts = table_name(call_of.needed("table").map_err(at)?).map_err(at)?;
        if procedure == Procedure::MoveTier {
            let (to, dry_run) = (call_of.needed("to").map_err(at)?, call_of.flag("dry_run"));
            return Box::pin(self.tier_move(&parts, to, dry_run, cancel)).await.map_err(at);
        }
        let set = self.catalogs()?;
        let (target, connector) =
            self.to_write(&set, &WrittenName { parts: parts.clone(), position: call.position })?;
        let is_there = connector.table(&target.catalog, &target.schema, &target.table).await.map_err(at)?.is_some();
        if !is_there && procedure != Procedure::Adopt {
            // With its own explanation of what is missing.
            table(&self.engine, &set, &self.place, &parts).await.map_err(at)?;
        }
        let limits = limits(&self.settings, self.begun.elapsed());
        let tools = tools_for(procedure.name(), &limits, &self.engine.pool, cancel.clone());
        let under_way = self.under_way.clone();
        let going = under_way.begin(tools.counters.clone());
        let only_looks = call_of.flag("dry_run");
        let rows = connector.call(&target.schema, &target.table, call_of, tools).await.map_err(at)?;
        drop(going);
        if !only_looks {
            connector.refresh();
            self.has_written();
        }
        let columns = rows.columns.iter().map(|(name, sql_type)| ((*name).to_owned(), sql_type.clone())).collect();
        Execution::ready(MemoryTable { columns, rows: rows.rows(), arrays: rows.arrays()? })
    }

    pub(crate) async fn alter_table(&mut self, wanted: &AlterTable) -> Result<Execution> {
        let at = |error: Error| error.at(wanted.table.position);
        let set = self.catalogs()?;
        let (target, connector) = self.to_change(&set, &wanted.table).await?;
        if connector.table(&target.catalog, &target.schema, &target.table).await.map_err(at)?.is_none() {
            if wanted.if_exists {
                return Ok(Execution::done("there was no such table".to_owned()));
            }
            table(&self.engine, &set, &self.place, &wanted.table.parts).await.map_err(at)?;
        }
        connector.alter_table(&target.schema, &target.table, wanted.changes.clone()).await.map_err(at)?;
        connector.refresh();
        self.has_written();
        Ok(Execution::done(format!("{target} is changed")))
    }
}
