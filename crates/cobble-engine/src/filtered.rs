//! What a condition leaves to read of a table: the condition is planned as a query's is, and the plan says which parts of which files it reads.

use std::collections::HashMap;

use cobble_exec::fold_constant;
use cobble_optimize::{Goal, Settings, planner, rewrites};
use cobble_plan::LogicalPlan;
use cobble_plan::facts::Filtered;
use cobble_sql::{Facts, FactsOf, KnownView, bind_query, table_references};
use cobble_types::deep::with_room;
use cobble_types::{Error, ObjectName, Result, quote_literal};
use tokio_util::sync::CancellationToken;

use crate::catalogs::{CatalogSet, Engine};
use crate::resolve::{Place, by_itself, complete, resolve};
use crate::views::KnownViews;

/// The conditions of a plan, and the names of its tables' columns.
fn collect(plan: &LogicalPlan, found: &mut Filtered) {
    match plan {
        LogicalPlan::Filter { conjuncts, .. } => found.conditions.extend(conjuncts.iter().cloned()),
        LogicalPlan::Scan(scan) => {
            let names = scan.columns.iter().map(|(column, place)| (column.id, scan.table.columns[*place].name.clone()));
            found.names.extend(names);
        }
        _ => {}
    }
    plan.inputs().into_iter().for_each(|input| collect(input, found));
}

/// `filter` is a condition over the columns of the table, or of the files, that `wanted` names.
pub async fn filtered(
    (engine, settings): (&Engine, &Settings),
    set: &CatalogSet,
    place: &Place,
    wanted: &Facts,
    filter: &str,
) -> Result<Filtered> {
    let table = match &wanted.of {
        FactsOf::Table(parts) => {
            let (catalog, schema, table) = complete(set, place, parts)?;
            ObjectName::new(catalog, schema, table).to_string()
        }
        FactsOf::Path(path) => format!("rows_at({})", quote_literal(path)),
    };
    let query = KnownView::new(cobble_plan::UserView {
        query: format!("SELECT * FROM {table} WHERE ({filter}\n)"),
        ..cobble_plan::UserView::default()
    })
    .map_err(|e| Error { position: None, ..e })?
    .query;
    let names = with_room(|| table_references(&query));
    let catalog = resolve(engine, set, &KnownViews::new(), settings, &Place::default(), names).await;
    let cancel = CancellationToken::new();
    // Places in it are none of the statement.
    let bound = with_room(|| by_itself(engine, &catalog, settings, |context| bind_query(&query, context)));
    let bound = bound.map_err(|e| Error { position: None, ..e })?;
    let plan = bound.plan.clone();
    let mut found = with_room(|| {
        let context = rewrites::Context::new(settings, &fold_constant, &cancel);
        let mut found = Filtered { names: HashMap::new(), ..Filtered::default() };
        collect(&rewrites::apply_all(plan, &context)?.0, &mut found);
        Ok::<_, Error>(found)
    })?;
    let sources = catalog.sources();
    let planned = planner::plan(bound.plan, &sources, settings, Goal::Here, &fold_constant, &cancel).await?;
    found.scan = planned.gates.into_iter().next().map(|gate| gate.spec);
    Ok(found)
}
