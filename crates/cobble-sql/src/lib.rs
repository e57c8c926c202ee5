//! From text to a bound logical plan. The tokens and the syntax tree come from `sqlparser`; names, types, coercions and
//! meaning are ours and follow PostgreSQL.

mod bind;
mod change;
mod coerce;
mod dialect;
mod function;
mod objects;
mod reworded;
mod session_zone;
mod slips;
mod statement;
mod syntax;

pub use bind::{
    BindContext, BoundQuery, CatalogReader, DEEPEST_VIEW, KnownFunction, KnownFunctions, KnownView, RowsAt,
    SessionNames, ViewInFrom, bind_query, native_query, relation_names, rows_at,
};
pub use change::{Change, RETURNED, TARGET};
pub use objects::{CreateTable, CreateView, Transaction, Write, WrittenName};
pub use sqlparser::ast::Query;
pub use statement::{Explain, ExplainShow, Explained, PlanFormat, Show, Statement, StatementText, parse_statements};
