//! From text to a bound logical plan. The tokens and the syntax tree come from `sqlparser`; names, types, coercions and
//! meaning are ours and follow PostgreSQL.

mod alter;
mod bind;
mod call;
mod change;
mod coerce;
mod dialect;
mod function;
mod ident;
mod objects;
mod reworded;
mod session_zone;
mod slips;
mod statement;
mod syntax;
mod tiers;

pub use alter::AlterTable;
pub use bind::{
    AsOf, BindContext, BoundQuery, CatalogReader, DEEPEST_VIEW, Facts, FactsOf, KnownFunction, KnownFunctions,
    KnownView, NativeCall, ParameterTypes, Parameters, RowsAt, SessionNames, TableReference, ViewInFrom, bind_query,
    moment, parameter_types, table_name, table_references,
};
pub use call::Call;
pub use change::{Action, Change, SetColumn};
pub use objects::{CreateTable, CreateView, Like, Transaction, Write, WrittenName};
pub use sqlparser::ast::{Expr, Query};
pub use statement::{
    Explain, ExplainShow, Explained, PlanFormat, Prepare, Show, Statement, StatementText, parse_statements,
};
pub use tiers::CreateTiers;
