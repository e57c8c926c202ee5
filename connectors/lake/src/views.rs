//! Views that a lake's catalog keeps: read as texts, made, replaced, renamed and dropped.

use cobble_connect::{NewSourceView, SourceView, ViewChange};
use cobble_lake::catalog::{FirstView, TableName, ViewCatalog, ViewState};
use cobble_lake::commit::{now, pause};
use cobble_lake::view::{self, NewView, View};
use cobble_types::{Code, Error, Result};
use serde_json::Value as Json;

use super::Lake;

/// How often a change is tried that others come before.
const TRIES: u32 = 5;

impl Lake {
    /// The names of a schema's views; none where the catalog keeps no views.
    pub(super) fn view_names(&self, schema: &str) -> Result<Vec<String>> {
        match self.catalog()?.as_views()? {
            Some(views) => views.views(schema),
            None => Ok(vec![]),
        }
    }

    pub(super) fn view_state(&self, schema: &str, name: &str) -> Result<Option<ViewState>> {
        match self.catalog()?.as_views()? {
            Some(views) => views.view(&TableName::new(schema, name)),
            None => Ok(None),
        }
    }

    pub(super) fn view(&self, schema: &str, name: &str) -> Result<Option<SourceView>> {
        let Some(state) = self.view_state(schema, name)? else { return Ok(None) };
        let wrong = |what: String| {
            let place = state.metadata.as_deref().unwrap_or("its metadata");
            Error::new(
                Code::SourceData,
                format!("connection {}: view {}: {place}: {what}", self.connection, state.name),
            )
        };
        let View { query, dialect, columns, catalog, schema: place, .. } =
            View::read(&state.document).map_err(wrong)?;
        let dialect = (!dialect.eq_ignore_ascii_case(view::DIALECT)).then_some(dialect);
        Ok(Some(SourceView { query, dialect, columns, catalog, schema: place.or_else(|| Some(schema.to_owned())) }))
    }

    fn kept_views(&self) -> Result<&dyn ViewCatalog> {
        self.checked_to_write()?;
        self.catalog()?.as_views()?.ok_or_else(|| {
            let what = format!("connection {}: its catalog keeps no views", self.connection);
            Error::new(Code::Unsupported, what)
                .hint("connections of kind lake_service do, and lake_rest where the other service does; CREATE VIEW name makes one of this service's own")
        })
    }

    pub(super) fn change_view(&self, schema: &str, name: &str, change: &ViewChange) -> Result<()> {
        let views = self.kept_views()?;
        let own = TableName::new(schema, name);
        let missing =
            || Error::new(Code::UnknownTable, format!("connection {}: there is no view {own}", self.connection));
        match change {
            ViewChange::Put { view, replace } => self.put_view(views, &own, view, *replace),
            ViewChange::Drop => views.drop_view(&views.view(&own)?.ok_or_else(missing)?),
            ViewChange::Rename { schema, name } => {
                views.rename_view(&views.view(&own)?.ok_or_else(missing)?, &TableName::new(schema, name))
            }
        }
    }

    fn put_view(&self, views: &dyn ViewCatalog, name: &TableName, new: &NewSourceView, replace: bool) -> Result<()> {
        let wrong = |what: String| {
            Error::new(Code::Unsupported, format!("connection {}: view {name}: {what}", self.connection))
        };
        let new = NewView {
            query: &new.query,
            columns: &new.columns,
            catalog: new.catalog.as_deref(),
            schema: new.schema.as_deref().unwrap_or(&name.schema),
        };
        for attempt in 0..TRIES {
            let Some(state) = views.view(name)? else {
                let first = FirstView {
                    schema: new.schema_json(0).map_err(wrong)?,
                    version: new.version_json(1, 0, now()),
                    properties: Json::Null,
                    location: None,
                };
                return views.make_view(name, &first);
            };
            if !replace {
                let what = format!("connection {}: there is a view {name} already", self.connection);
                return Err(Error::new(Code::AlreadyExists, what).hint("use CREATE OR REPLACE VIEW to replace it"));
            }
            let at = now();
            let updates = view::replacing(&state.document, &new, at).map_err(wrong)?;
            if views.change_view(&state, &updates, at)? {
                return Ok(());
            }
            pause(attempt);
        }
        let what = format!("connection {}: others have always changed view {name} first", self.connection);
        Err(Error::new(Code::Conflict, what).hint("try it again"))
    }
}
