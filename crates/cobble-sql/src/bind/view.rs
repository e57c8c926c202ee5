//! Views of the service's own catalog: the view's query is bound in the place of its name, so that conditions and columns reach its
//! sources as if it had been written there.

use cobble_plan::UserView;
use cobble_types::deep::Deep;
use cobble_types::{Code, Error, ObjectName, Result};
use sqlparser::ast;

use super::facts::table_name;
use super::{Binder, CatalogReader, Relation};
use crate::statement::parse_query;

/// Views may read each other so deep.
pub const DEEPEST_VIEW: usize = 32;

/// A view whose query has been parsed.
#[derive(Debug, Clone)]
pub struct KnownView {
    pub view: UserView,
    pub query: Deep<ast::Query>,
}

impl KnownView {
    pub fn new(view: UserView) -> Result<KnownView> {
        for side in view.tiers.iter().flat_map(|tiers| [&tiers.recent, &tiers.older]) {
            if table_name(side)?.len() != 3 {
                let what = format!("\"{side}\" is no whole name of a table");
                return Err(Error::new(Code::BadSetting, what).hint("write it as catalog.schema.table"));
            }
        }
        Ok(KnownView { query: parse_query(&view.text())?, view })
    }
}

/// A view as a statement meets it.
pub struct ViewInFrom<'a> {
    pub name: &'a ObjectName,
    pub known: &'a KnownView,
    /// What its own query's names mean.
    pub tables: &'a dyn CatalogReader,
}

impl<'a> Binder<'a> {
    pub(super) fn view(&mut self, view: &ViewInFrom<'a>) -> Result<Relation> {
        let name = view.name;
        if self.view_depth >= DEEPEST_VIEW {
            return Err(Error::new(
                Code::TooComplex,
                format!("views are read through more than {DEEPEST_VIEW} others"),
            ));
        }
        // The view sees its own names and nothing of the query that reads it.
        let catalog = std::mem::replace(&mut self.catalog, view.tables);
        let (ctes, outer) = (std::mem::take(&mut self.ctes), std::mem::take(&mut self.outer));
        let (select, pending) = (self.select.take(), std::mem::take(&mut self.pending));
        let (keeps_open, named_at) = (std::mem::take(&mut self.keeps_open), std::mem::take(&mut self.named_at));
        self.view_depth += 1;
        let bound = self.query(&view.known.query);
        self.view_depth -= 1;
        (self.catalog, self.ctes, self.outer) = (catalog, ctes, outer);
        (self.select, self.pending, self.keeps_open, self.named_at) = (select, pending, keeps_open, named_at);
        // Places in its text are none of the statement.
        let within =
            |error: Error| Error { message: format!("in view {name}: {}", error.message), position: None, ..error };
        let relation = bound.map_err(within)?;
        let mut scope = relation.scope.with_qualifier(&name.table, &view.known.view.columns).map_err(within)?;
        scope.columns.iter_mut().for_each(|column| column.table = Some(name.clone()));
        Ok(Relation { plan: relation.plan, scope })
    }
}
