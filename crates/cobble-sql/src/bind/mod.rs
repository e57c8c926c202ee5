//! The binder: names to columns, text to types, syntax to meaning.

mod expression;
mod from;
mod query;
mod scope;
mod select;
mod subquery;
mod types;

use std::collections::HashMap;
use std::sync::Arc;

use cobble_plan::LogicalPlan;
use cobble_plan::expr::Column;
use cobble_plan::logical::Table;
use cobble_types::{ColumnId, Position, Result, SqlType};
use sqlparser::ast;
use sqlparser::tokenizer::Span;

use scope::Scope;

/// Where the binder finds tables. Names come as written, one to three parts, already folded to lower case unless quoted;
/// the reader completes them from the session's place and explains what is missing.
pub trait CatalogReader {
    fn table(&self, name: &[String]) -> Result<Arc<Table>>;
}

/// What a statement is bound within.
pub struct BindContext<'a> {
    pub catalog: &'a dyn CatalogReader,
    /// The statement's start in microseconds since 1970-01-01 UTC: `now()` is the same in all its rows.
    pub now: i64,
}

/// A query that is fully typed.
#[derive(Debug, Clone)]
pub struct BoundQuery {
    pub plan: LogicalPlan,
    /// The result's columns; names may repeat.
    pub columns: Vec<Column>,
}

pub fn bind_query(query: &ast::Query, context: &BindContext) -> Result<BoundQuery> {
    let mut binder = Binder {
        context,
        next_id: 0,
        ctes: Vec::new(),
        outer: Vec::new(),
        lifted: Vec::new(),
        aggregates: None,
        scalars: Vec::new(),
        named_at: HashMap::new(),
    };
    let bound = binder.query(query)?;
    Ok(BoundQuery { columns: bound.plan.columns(), plan: bound.plan })
}

/// The table names a query mentions, as written, so that they can be described before binding. Names of CTEs are among them.
pub fn relation_names(query: &ast::Query) -> Vec<Vec<String>> {
    let mut names = Vec::new();
    let _ = ast::visit_relations(query, |name| {
        let parts: Vec<String> = name.0.iter().filter_map(|part| part.as_ident().map(folded)).collect();
        if !names.contains(&parts) {
            names.push(parts);
        }
        std::ops::ControlFlow::<()>::Continue(())
    });
    names
}

/// An identifier in the case it is looked up by.
fn folded(ident: &ast::Ident) -> String {
    if ident.quote_style.is_some() { ident.value.clone() } else { ident.value.to_lowercase() }
}

fn position_of(span: Span) -> Option<Position> {
    (span.start.line > 0).then_some(Position { line: span.start.line, column: span.start.column })
}

/// A relation under construction: its plan and the names its columns go by.
#[derive(Clone)]
struct Relation {
    plan: LogicalPlan,
    scope: Scope,
}

struct Cte<'a> {
    name: String,
    columns: Vec<String>,
    query: &'a ast::Query,
}

struct Binder<'a> {
    context: &'a BindContext<'a>,
    next_id: u32,
    /// Visible CTEs, innermost last. Each use binds the text again, with columns of its own.
    ctes: Vec<Cte<'a>>,
    /// Scopes of the queries around this one, innermost last.
    outer: Vec<Scope>,
    /// One frame per EXISTS or IN being bound: the outer columns it uses.
    lifted: Vec<Vec<ColumnId>>,
    /// Present while an expression may contain aggregates.
    aggregates: Option<select::Aggregates>,
    /// Scalar subqueries met and not yet joined to the relation that uses them.
    scalars: Vec<LogicalPlan>,
    /// Where each column was last named, for errors found after binding.
    named_at: HashMap<ColumnId, Position>,
}

impl Binder<'_> {
    fn new_column(&mut self, qualifier: Option<String>, name: impl Into<String>, sql_type: SqlType) -> Column {
        self.next_id += 1;
        Column { id: ColumnId(self.next_id), qualifier, name: name.into(), sql_type }
    }
}
