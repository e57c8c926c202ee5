//! The binder: names to columns, text to types, syntax to meaning.

mod access;
mod aggregate;
mod as_of;
mod assign;
mod call;
mod cast;
mod constant_arguments;
mod cte;
mod expression;
mod facts;
mod from;
mod grouping;
mod json_table;
mod literal;
mod native_query;
mod operator;
mod parameter_types;
mod pattern;
mod query;
mod recursion;
mod rows_at;
mod scope;
mod search_cycle;
mod select;
mod subquery;
mod table_function;
mod table_reference;
mod types;
mod user_function;
mod variadic;
mod view;
mod window;

use std::collections::{BTreeSet, HashMap};
use std::ops::ControlFlow;
use std::sync::Arc;

use cobble_plan::expr::Fold;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{CteDefinition, Join, Mark, Table};
use cobble_plan::{AggregateCall, JoinKind, LogicalPlan, RowMaker};
use cobble_types::zone::{Zone, within};
use cobble_types::{ColumnId, Position, Result, SqlType, Value};
use sqlparser::ast::{self, Visit};

pub(crate) use crate::ident::{folded, parts_of, position_of};
use crate::session_zone::in_zone;
pub use as_of::{AsOf, moment};
use cte::Cte;
pub use facts::{Facts, FactsOf, table_name};
pub use native_query::NativeCall;
use parameter_types::MOST_PARAMETERS;
pub use parameter_types::{ParameterTypes, parameter_types};
pub use rows_at::RowsAt;
use scope::Scope;
pub use table_reference::TableReference;
pub(crate) use types::sql_type;
pub use user_function::{KnownFunction, KnownFunctions};
pub use view::{DEEPEST_VIEW, KnownView, ViewInFrom};

/// Where the binder finds tables. The reader completes names from the session's place and explains what is missing.
pub trait CatalogReader {
    fn table(&self, name: &TableReference) -> Result<Arc<Table>>;
    /// The view that the name means, if it means one.
    fn view(&self, name: &TableReference) -> Option<ViewInFrom<'_>> {
        let _ = name;
        None
    }
}

/// What `$1`, `$2`, … stand for.
#[derive(Clone, Copy)]
pub enum Parameters<'a> {
    /// Values with their types.
    Known(&'a [(Value, SqlType)]),
    /// Parameter types are inferred, except for those given; the statement is not run.
    Wanted(&'a [Option<SqlType>]),
}

impl Parameters<'_> {
    pub const NONE: Parameters<'static> = Parameters::Known(&[]);
}

/// What a statement is bound within.
pub struct BindContext<'a> {
    pub catalog: &'a dyn CatalogReader,
    /// The statement's start in microseconds since 1970-01-01 UTC: `now()` is the same in all its rows.
    pub now: i64,
    pub parameters: Parameters<'a>,
    /// What CREATE FUNCTION has made.
    pub functions: &'a KnownFunctions,
    /// The session's time zone.
    pub zone: &'a str,
    /// The columns of the table that the rows go to, when they go to one.
    pub target: Option<&'a [(String, SqlType)]>,
    pub session: SessionNames<'a>,
    /// Computes constant expressions, such as a LIMIT of 2 * 5.
    pub fold: &'a Fold,
}

/// What a statement may ask of the session that it runs in.
#[derive(Clone, Copy)]
pub struct SessionNames<'a> {
    /// The default place, where there is one.
    pub catalog: Option<&'a str>,
    pub schema: Option<&'a str>,
    pub user: &'a str,
    /// The value of a setting.
    pub setting: &'a dyn Fn(&str) -> Option<String>,
}

impl SessionNames<'_> {
    /// Of statements that belong to no session.
    pub const NONE: SessionNames<'static> = SessionNames { catalog: None, schema: None, user: "", setting: &|_| None };
}

/// A query that is fully typed.
#[derive(Debug, Clone)]
pub struct BoundQuery {
    pub plan: LogicalPlan,
    /// The result's columns; names may repeat.
    pub columns: Vec<Column>,
}

pub fn bind_query(query: &ast::Query, context: &BindContext) -> Result<BoundQuery> {
    let mut binder = Binder::new(context);
    let zone = Zone::parse(context.zone)?;
    let mut plan = within(zone, || binder.query(query))?.plan;
    if let Some(target) = context.target {
        plan = binder.assigned(plan, target)?;
    }
    if zone != Zone::Offset(0) {
        plan = in_zone(&plan, context.zone);
    }
    Ok(BoundQuery { columns: plan.columns(), plan })
}

/// What a query reads, so that they can be described before binding. The names that its own WITH gives
/// are left out where they are meant; those of a WITH further in are among them.
pub fn table_references(query: &ast::Query) -> Vec<TableReference> {
    let (mut names, mut known) = (Names(Vec::new()), Vec::new());
    let mut add = |part: &dyn Fn(&mut Names) -> ControlFlow<()>, known: &[String]| {
        let mut own = Names(Vec::new());
        let _ = part(&mut own);
        own.0.retain(|found| !known.iter().any(|name| found.is(name)));
        for found in own.0 {
            names.add(found);
        }
    };
    let with = query.with.as_ref();
    for cte in with.iter().flat_map(|with| &with.cte_tables) {
        let own = folded(&cte.alias.name);
        if with.is_some_and(|with| with.recursive) {
            known.push(own.clone());
        }
        add(&|names| cte.query.visit(names), &known);
        known.push(own);
    }
    add(&|names| query.body.visit(names), &known);
    add(&|names| query.order_by.visit(names), &known);
    names.0
}

struct Names(Vec<TableReference>);

impl Names {
    fn add(&mut self, found: TableReference) {
        if !self.0.contains(&found) {
            self.0.push(found);
        }
    }
}

impl ast::Visitor for Names {
    type Break = ();

    fn pre_visit_table_factor(&mut self, factor: &ast::TableFactor) -> ControlFlow<()> {
        match factor {
            ast::TableFactor::Table { name, args: None, version, .. } => {
                if let Ok(found) = TableReference::of_name(name, version.as_ref()) {
                    self.add(found);
                }
            }
            // With arguments it is a function; only this one is described by a source. The binder reports its errors.
            ast::TableFactor::Table { name, args: Some(ast::TableFunctionArgs { args, .. }), .. }
            | ast::TableFactor::Function { name, args, .. }
                if let Some(Ok(found)) = TableReference::of_call(name, args) =>
            {
                self.add(found);
            }
            _ => {}
        }
        ControlFlow::Continue(())
    }
}

/// A relation under construction: its plan and the names its columns go by.
#[derive(Clone)]
struct Relation {
    plan: LogicalPlan,
    scope: Scope,
}

/// A subquery inside an expression that waits to be joined to the relation that the expression is about.
struct Pending {
    plan: LogicalPlan,
    /// A truth value for each row, or nothing for a subquery used as a value.
    mark: Option<Mark>,
}

impl Pending {
    fn attached(self, left: LogicalPlan) -> LogicalPlan {
        let kind = if self.mark.is_some() { JoinKind::Mark } else { JoinKind::Single };
        LogicalPlan::Join(Join { mark: self.mark, ..Join::new(left, self.plan, kind) })
    }

    /// The same over expressions changed by `change`, to be used where the relation around it has been grouped.
    fn map(self, change: &mut dyn FnMut(&Expr) -> Expr) -> Pending {
        Pending {
            plan: self.plan.map_all_expressions(change),
            mark: self.mark.map(|mark| Mark { compare: mark.compare.iter().map(&mut *change).collect(), ..mark }),
        }
    }

    /// Columns of the relation around it that it uses.
    fn outer_columns(&self) -> BTreeSet<ColumnId> {
        let own = self.plan.column_ids();
        let mut used = self.plan.free_columns();
        let compared = self.mark.iter().flat_map(|mark| &mark.compare);
        compared.for_each(|e| used.extend(e.columns().difference(&own)));
        used
    }
}

/// Collected while a SELECT list is bound: calls that separate steps compute.
#[derive(Default)]
struct SelectCalls<'a> {
    aggregates: Vec<(Column, AggregateCall)>,
    /// Subqueries inside arguments of aggregates: they are joined below the aggregation.
    below: Vec<Pending>,
    /// Places of `grouping(…)`, with its arguments.
    groupings: Vec<(Column, Vec<Expr>)>,
    windows: Vec<window::WindowUse>,
    /// Table functions of the SELECT list, in order of appearance.
    expansions: Vec<RowMaker>,
    named_windows: Vec<(String, &'a ast::WindowSpec)>,
    /// What may stand here now.
    aggregates_allowed: bool,
    windows_allowed: bool,
    in_aggregate: bool,
}

/// A query around the one that is bound: what its expressions see, and the calls that are collected for it.
struct OuterQuery<'a> {
    scope: Scope,
    select: Option<SelectCalls<'a>>,
}

struct Binder<'a> {
    context: &'a BindContext<'a>,
    /// What names mean here: within a view other things than around it.
    catalog: &'a dyn CatalogReader,
    next_id: u32,
    /// Visible CTEs, innermost last.
    ctes: Vec<Cte<'a>>,
    /// For each query around this place, its own last, the results that are computed once.
    definitions: Vec<Vec<CteDefinition>>,
    /// The queries around this one, innermost last.
    outer: Vec<OuterQuery<'a>>,
    /// Present while the list of a SELECT is bound.
    select: Option<SelectCalls<'a>>,
    /// True while the sides of a set operation are bound: their open literals take the type of what they meet there.
    keeps_open: bool,
    /// Subqueries met and not yet joined to the relation that uses them.
    pending: Vec<Pending>,
    /// Where each column was last named, for errors found after binding.
    named_at: HashMap<ColumnId, Position>,
    /// SQL functions whose bodies are being bound.
    call_depth: usize,
    /// Views whose queries are being bound.
    view_depth: usize,
    /// Expressions and queries around this place.
    depth: usize,
}

impl<'a> Binder<'a> {
    fn new(context: &'a BindContext<'a>) -> Self {
        Binder {
            context,
            catalog: context.catalog,
            next_id: 0,
            ctes: Vec::new(),
            definitions: Vec::new(),
            outer: Vec::new(),
            select: None,
            keeps_open: false,
            pending: Vec::new(),
            named_at: HashMap::new(),
            call_depth: 0,
            view_depth: 0,
            depth: 0,
        }
    }

    fn new_column(&mut self, qualifier: Option<String>, name: impl Into<String>, sql_type: SqlType) -> Column {
        self.next_id += 1;
        Column { id: ColumnId(self.next_id), qualifier, name: name.into(), sql_type }
    }

    /// The plan joined with the subqueries that have been met since there were `before` of them.
    fn attach_pending(&mut self, plan: LogicalPlan, before: usize) -> LogicalPlan {
        self.pending.drain(before..).fold(plan, |plan, pending| pending.attached(plan))
    }
}
