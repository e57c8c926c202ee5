//! A lake's views through the open protocol for catalogs.

use cobble_connect::{CatalogAnswer, CatalogCall, Verb};
use cobble_lake::catalog::{FirstView, TableCatalog, TableName, ViewCatalog, ViewState};
use cobble_lake::commit::{now, pause};
use cobble_lake::view;
use serde_json::{Value as Json, json};

use super::Lake;
use super::served::{Outcome, TRIES, bad, identifier, no_schema, page, schema_of, text};

fn no_view(name: &TableName) -> CatalogAnswer {
    CatalogAnswer::fault(404, "NoSuchViewException", &format!("there is no view {name}"))
}

fn conflict(what: &str) -> CatalogAnswer {
    CatalogAnswer::fault(409, "CommitFailedException", what)
}

/// Does what a call asks for; none where the call is none of views.
pub fn answer(lake: &Lake, catalog: &dyn TableCatalog, call: &CatalogCall) -> Outcome<Option<CatalogAnswer>> {
    let path: Vec<&str> = call.path.iter().map(String::as_str).collect();
    if !matches!(
        path.as_slice(),
        ["namespaces", _, "views", ..] | ["namespaces", _, "register-view"] | ["views", "rename"]
    ) {
        return Ok(None);
    }
    let Some(views) = catalog.as_views()? else { return none_kept(catalog, call, &path).map(Some) };
    let found = |name: &TableName| -> Outcome<ViewState> { Ok(views.view(name)?.ok_or_else(|| no_view(name))?) };
    let in_schema =
        |schema: &str| -> Outcome<()> { catalog.schema_properties(schema)?.map(drop).ok_or_else(|| no_schema(schema)) };
    Ok(Some(match (call.verb, path.as_slice()) {
        (Verb::Get, ["namespaces", schema, "views"]) => {
            let schema = schema_of(schema)?;
            in_schema(schema)?;
            let (names, next) = page(views.views(schema)?, call)?;
            let names: Vec<Json> =
                names.into_iter().map(|name| json!({ "namespace": [schema], "name": name })).collect();
            CatalogAnswer::of(json!({ "identifiers": names, "next-page-token": next }))
        }
        (Verb::Post, ["namespaces", schema, "views"]) => {
            let (schema, body) = (schema_of(schema)?, &call.body);
            in_schema(schema)?;
            let name = TableName::new(schema, text(body, "name")?);
            let part = |member: &str| body.get(member).cloned().ok_or_else(|| bad(format!("{member} is missing")));
            let first = FirstView {
                schema: part("schema")?,
                version: part("view-version")?,
                properties: body.get("properties").cloned().unwrap_or_default(),
                location: body.get("location").and_then(Json::as_str).map(str::to_owned),
            };
            views.make_view(&name, &first)?;
            loaded(lake, found(&name)?)
        }
        (Verb::Post, ["namespaces", schema, "register-view"]) => {
            let (schema, body) = (schema_of(schema)?, &call.body);
            in_schema(schema)?;
            let name = TableName::new(schema, text(body, "name")?);
            views.adopt_view(&name, text(body, "metadata-location")?)?;
            loaded(lake, found(&name)?)
        }
        (Verb::Get | Verb::Head, ["namespaces", schema, "views", name]) => {
            loaded(lake, found(&TableName::new(schema_of(schema)?, name))?)
        }
        (Verb::Delete, ["namespaces", schema, "views", name]) => {
            views.drop_view(&found(&TableName::new(schema_of(schema)?, name))?)?;
            CatalogAnswer::done()
        }
        (Verb::Post, ["namespaces", schema, "views", name]) => {
            changed(lake, views, &TableName::new(schema_of(schema)?, name), &call.body)?
        }
        (Verb::Post, ["views", "rename"]) => {
            let (from, to) = (identifier(&call.body, "source")?, identifier(&call.body, "destination")?);
            in_schema(&to.schema)?;
            views.rename_view(&found(&from)?, &to)?;
            CatalogAnswer::done()
        }
        _ => return Ok(None),
    }))
}

/// What a catalog answers that keeps no views: that there are none.
fn none_kept(catalog: &dyn TableCatalog, call: &CatalogCall, path: &[&str]) -> Outcome<CatalogAnswer> {
    match (call.verb, path) {
        (Verb::Get, ["namespaces", schema, "views"]) => {
            let schema = schema_of(schema)?;
            catalog.schema_properties(schema)?.ok_or_else(|| no_schema(schema))?;
            Ok(CatalogAnswer::of(json!({ "identifiers": [], "next-page-token": null })))
        }
        (_, ["namespaces", schema, "views", name]) => Err(no_view(&TableName::new(schema, name)).into()),
        _ => {
            let what = "this catalog keeps no views";
            Err(CatalogAnswer::fault(406, "UnsupportedOperationException", what).into())
        }
    }
}

fn loaded(lake: &Lake, view: ViewState) -> CatalogAnswer {
    let config = lake.base.storage.as_ref().map(|storage| storage.for_others(false)).unwrap_or_default();
    CatalogAnswer::of(json!({ "metadata-location": view.metadata, "metadata": view.document, "config": config }))
}

fn changed(lake: &Lake, views: &dyn ViewCatalog, name: &TableName, body: &Json) -> Outcome<CatalogAnswer> {
    let all = |member: &str| match body.get(member) {
        None | Some(Json::Null) => Ok(vec![]),
        Some(own) => own.as_array().cloned().ok_or_else(|| bad(format!("{member} are no array"))),
    };
    let (requirements, updates) = (all("requirements")?, all("updates")?);
    for attempt in 0..TRIES {
        let state = views.view(name)?.ok_or_else(|| no_view(name))?;
        view::check(&requirements, &state.document).map_err(|what| conflict(&what))?;
        view::changed(&state.document, &updates, now()).map_err(bad)?;
        if views.change_view(&state, &updates, now())? {
            return Ok(loaded(lake, views.view(name)?.ok_or_else(|| no_view(name))?));
        }
        pause(attempt);
    }
    Err(conflict(&format!("others have always changed {name} first")).into())
}
