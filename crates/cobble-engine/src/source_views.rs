//! Views that sources keep as texts, such as those of a lake's catalog: found by their names, made, dropped and renamed.

use std::sync::Arc;

use cobble_connect::{NewSourceView, SourceView, ViewChange};
use cobble_plan::UserView;
use cobble_plan::result::ResultColumn;
use cobble_sql::{CreateView, KnownView, WrittenName};
use cobble_types::{Code, Error, ObjectName, Result};

use crate::catalogs::{CatalogSet, SYSTEM_CATALOG};
use crate::execution::Execution;
use crate::resolve::{Place, Relation};
use crate::session::Session;
use crate::views::{VIEWS_SCHEMA, list};

/// The view that a full name means in its source.
pub async fn found(set: &CatalogSet, name: &ObjectName) -> Result<Option<Relation>> {
    let connector = set.connector(&name.catalog)?;
    let Some(view) = connector.view(&name.schema, &name.table).await? else { return Ok(None) };
    let SourceView { query, dialect, columns, catalog, schema } = view;
    // What other tools call the catalog may be no name here.
    let catalog = catalog.filter(|own| set.catalogs.contains_key(own)).unwrap_or_else(|| name.catalog.clone());
    let view = UserView { query, columns, catalog: Some(catalog), schema, tiers: None };
    let known = KnownView::new(view).map_err(|e| {
        let written = dialect.map(|dialect| format!(", written in {dialect}")).unwrap_or_default();
        Error { message: format!("in view {name}{written}: {}", e.message), position: None, ..e }
    })?;
    Ok(Some(Relation::View(name.clone(), Arc::new(known))))
}

/// The full name, where a name means a view in a source and none of the service's own.
fn in_source(place: &Place, parts: &[String]) -> Option<ObjectName> {
    match (parts, &place.catalog) {
        ([catalog, schema, name], _) if catalog != SYSTEM_CATALOG => Some(ObjectName::new(catalog, schema, name)),
        ([schema, name], Some(catalog)) if catalog != SYSTEM_CATALOG && schema != VIEWS_SCHEMA => {
            Some(ObjectName::new(catalog, schema, name))
        }
        _ => None,
    }
}

impl Session {
    /// The view of a source that the statement names, if it names one.
    pub(crate) fn source_view(&self, written: &WrittenName) -> Option<ObjectName> {
        in_source(&self.place, &written.parts)
    }

    async fn change_source_view(&mut self, name: &ObjectName, change: ViewChange) -> Result<()> {
        let set = self.catalogs()?;
        let connector = set.connector(&name.catalog)?;
        connector.change_view(&name.schema, &name.table, change).await?;
        connector.refresh();
        self.has_written();
        Ok(())
    }

    async fn has_source_view(&self, name: &ObjectName) -> Result<bool> {
        Ok(self.catalogs()?.connector(&name.catalog)?.view(&name.schema, &name.table).await?.is_some())
    }

    /// `checked` are the columns of its query.
    pub(crate) async fn create_source_view(
        &mut self,
        name: &ObjectName,
        wanted: &CreateView,
        checked: Vec<ResultColumn>,
    ) -> Result<Execution> {
        let at = |error: Error| error.at(wanted.name.position);
        let was_there = self.has_source_view(name).await.map_err(at)?;
        if was_there && wanted.if_not_exists {
            return Ok(Execution::done("there is such a view already; nothing was done".to_owned()));
        }
        let set = self.catalogs()?;
        if set.connector(&name.catalog)?.table(&name.catalog, &name.schema, &name.table).await.map_err(at)?.is_some() {
            return Err(at(
                Error::new(Code::AlreadyExists, format!("there is a table {name} already")).hint("choose another name")
            ));
        }
        let given = wanted.view.columns.iter().map(Some).chain(std::iter::repeat(None));
        let columns = checked
            .into_iter()
            .zip(given)
            .map(|(column, given)| (given.cloned().unwrap_or(column.name), column.sql_type));
        let view = NewSourceView {
            query: wanted.view.query.clone(),
            columns: columns.collect(),
            catalog: self.place.catalog.clone(),
            schema: self.place.schema.clone(),
        };
        self.change_source_view(name, ViewChange::Put { view, replace: wanted.replace }).await.map_err(at)?;
        let how = if was_there { "is another one now" } else { "is there" };
        Ok(Execution::done(format!("{name} {how}")))
    }

    pub(crate) async fn drop_source_view(&mut self, name: &ObjectName, if_exists: bool) -> Result<bool> {
        if if_exists && !self.has_source_view(name).await? {
            return Ok(false);
        }
        match self.engine.readers_of(name).as_slice() {
            [] => self.change_source_view(name, ViewChange::Drop).await.map(|()| true),
            readers => Err(Error::new(Code::InUse, format!("the view {name} is read by {}", list(readers)))
                .hint("drop what reads it first")),
        }
    }

    pub(crate) async fn rename_source_view(
        &mut self,
        name: &ObjectName,
        to: &WrittenName,
        if_exists: bool,
    ) -> Result<Execution> {
        if if_exists && !self.has_source_view(name).await? {
            return Ok(Execution::done("there was no such view".to_owned()));
        }
        let new = match to.parts.as_slice() {
            [own] => ObjectName::new(&name.catalog, &name.schema, own),
            parts => in_source(&self.place, parts).unwrap_or_else(|| ObjectName::new(SYSTEM_CATALOG, VIEWS_SCHEMA, "")),
        };
        if new.catalog != name.catalog {
            return Err(Error::new(Code::NotAllowed, format!("{name} stays in its catalog"))
                .hint("make it anew in the other one")
                .at(to.position));
        }
        self.engine.unread(&format!("the view {name}"), name)?;
        let change = ViewChange::Rename { schema: new.schema.clone(), name: new.table.clone() };
        self.change_source_view(name, change).await?;
        Ok(Execution::done(format!("{name} is now {new}")))
    }
}
