//! Binding of one SELECT: its list, GROUP BY, HAVING, windows, QUALIFY, DISTINCT and the sort keys that may use what is not
//! selected.

use std::collections::BTreeSet;

use cobble_functions::Function;
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::{LogicalPlan, SortKey};
use cobble_plan::{Ranking, RowMaker};
use cobble_types::{Code, ColumnId, Error, Result, SqlType, Value};
use sqlparser::ast::{self, Spanned};

use super::grouping::map_keys;
use super::query::{distinct, scope_of};
use super::scope::{Reach, Scope, ScopeColumn};
use super::window::{WindowUse, ranking, windowed};
use super::{Binder, Pending, Relation, SelectCalls, folded, position_of};
use crate::coerce::{condition, settle};

/// One item of a SELECT list after `*` is spread.
pub(super) struct Item {
    pub name: String,
    pub expr: Expr,
}

/// The clauses of a SELECT, bound over its input.
struct Clauses {
    items: Vec<Item>,
    having: Option<Expr>,
    qualify: Option<Expr>,
    sort: Vec<SortKey>,
    /// DISTINCT ON.
    distinct_on: Vec<Expr>,
}

impl Clauses {
    /// The same over expressions changed by `change`, which may find one that is not allowed.
    fn map(self, change: &dyn Fn(&Expr) -> Result<Expr>) -> Result<Clauses> {
        Ok(Clauses {
            items: self
                .items
                .into_iter()
                .map(|item| Ok(Item { expr: change(&item.expr)?, ..item }))
                .collect::<Result<_>>()?,
            having: self.having.map(|e| change(&e)).transpose()?,
            qualify: self.qualify.map(|e| change(&e)).transpose()?,
            sort: map_keys(&self.sort, change)?,
            distinct_on: self.distinct_on.iter().map(change).collect::<Result<_>>()?,
        })
    }
}

impl<'a> Binder<'a> {
    pub(super) fn select(&mut self, select: &'a ast::Select, keys: &'a [ast::OrderByExpr]) -> Result<Relation> {
        let outer_pending = std::mem::take(&mut self.pending);
        let outer_select = self.select.take();
        let bound = self.from(&select.from).and_then(|relation| match &select.selection {
            Some(selection) => self.filter(relation, selection),
            None => Ok(relation),
        });
        let bound = bound.and_then(|relation| {
            self.select =
                Some(SelectCalls { aggregates_allowed: true, windows_allowed: true, ..SelectCalls::default() });
            self.projection(select, keys, relation)
        });
        self.select = outer_select;
        self.pending = outer_pending;
        bound
    }

    fn clauses(
        &mut self,
        select: &'a ast::Select,
        keys: &'a [ast::OrderByExpr],
        scope: &Scope,
    ) -> Result<(Clauses, super::grouping::Grouping)> {
        for definition in &select.named_window {
            let ast::NamedWindowDefinition(name, ast::NamedWindowExpr::WindowSpec(spec)) = definition else {
                return Err(Error::unsupported(definition));
            };
            if let Some(own) = &mut self.select {
                own.named_windows.push((folded(name), spec));
            }
        }
        let mut items = Vec::new();
        for item in &select.projection {
            self.item(item, scope, &mut items)?;
        }
        let grouping = self.grouping(select, &items, scope)?;
        let place = |e: &ast::Expr| position_of(e.span());
        let windows_allowed = |binder: &mut Self, allowed: bool| {
            if let Some(own) = &mut binder.select {
                own.windows_allowed = allowed;
            }
        };
        windows_allowed(self, false);
        let having = match &select.having {
            Some(having) => Some(condition(self.expr(having, scope)?, "HAVING").map_err(|e| e.at(place(having)))?),
            None => None,
        };
        windows_allowed(self, true);
        let qualify = match &select.qualify {
            Some(written) => Some(condition(self.expr(written, scope)?, "QUALIFY").map_err(|e| e.at(place(written)))?),
            None => None,
        };
        let mut sort = Vec::new();
        for key in keys {
            sort.push(self.sort_key(key, &items, scope)?);
        }
        let mut distinct_on = Vec::new();
        if let Some(ast::Distinct::On(keys)) = &select.distinct {
            for key in keys {
                let bound = match self.reference(key, &items, "DISTINCT ON")? {
                    Some(expr) => expr,
                    None => match named_item(key, &items)? {
                        Some(expr) => expr,
                        None => self.expr(key, scope)?,
                    },
                };
                distinct_on.push(settle(bound)?);
            }
        }
        Ok((Clauses { items, having, qualify, sort, distinct_on }, grouping))
    }

    fn projection(
        &mut self,
        select: &'a ast::Select,
        keys: &'a [ast::OrderByExpr],
        relation: Relation,
    ) -> Result<Relation> {
        let scope = relation.scope.clone();
        let (mut clauses, grouping) = self.clauses(select, keys, &scope)?;
        let calls = self.select.take().unwrap_or_default();
        let mut pending = std::mem::take(&mut self.pending);
        let mut windows = calls.windows;
        let mut expansions = calls.expansions;
        let mut plan = relation.plan;
        if !calls.aggregates.is_empty() {
            self.refuse_aggregate_of_recursion(&select.from)?;
        }
        let grouped = !grouping.keys.is_empty()
            || grouping.sets.len() > 1
            || !calls.aggregates.is_empty()
            || !calls.groupings.is_empty()
            || clauses.having.is_some();
        if grouped {
            let input_ids = plan.column_ids();
            plan = calls.below.into_iter().fold(plan, |plan, below| below.attached(plan));
            // A subquery that rows are grouped by is computed of the rows.
            let of_keys: BTreeSet<ColumnId> = grouping.keys.iter().flat_map(Expr::columns).collect();
            let makes_key = |subquery: &Pending| match &subquery.mark {
                Some(mark) => of_keys.contains(&mark.column.id),
                None => subquery.plan.columns().iter().any(|column| of_keys.contains(&column.id)),
            };
            let (below, above): (Vec<_>, Vec<_>) = pending.into_iter().partition(makes_key);
            plan = below.into_iter().fold(plan, |plan, below| below.attached(plan));
            pending = above;
            let keys: Vec<(Column, Expr)> = grouping
                .keys
                .into_iter()
                .map(|expr| {
                    let (qualifier, name) = match &expr {
                        Expr::Column(column) => (column.qualifier.clone(), column.name.clone()),
                        other => (None, other.to_string()),
                    };
                    (self.new_column(qualifier, name, expr.sql_type()), expr)
                })
                .collect();
            let to_key = |expr: &Expr| {
                expr.replace(&|e| keys.iter().find(|(_, key)| key == e).map(|(column, _)| Expr::Column(column.clone())))
            };
            let (named_at, place_of) = (self.named_at.clone(), |expr: &Expr| self.place_of(expr));
            let ungrouped = |id: ColumnId, expr: &Expr, written: &Expr| {
                Error::new(
                    Code::Grouping,
                    format!("\"{}\" must stand in GROUP BY or inside an aggregate", name_of(expr, id)),
                )
                .at(named_at.get(&id).copied().or(place_of(written)))
            };
            let over_groups = |expr: &Expr| -> Result<Expr> {
                let replaced = to_key(expr);
                match replaced.columns().into_iter().find(|id| input_ids.contains(id)) {
                    None => Ok(replaced),
                    Some(id) => Err(ungrouped(id, &replaced, expr)),
                }
            };
            clauses = clauses.map(&over_groups)?;
            windows = windows
                .into_iter()
                .map(|u| {
                    let mut failed = None;
                    let mut change = |e: &Expr| {
                        over_groups(e).unwrap_or_else(|error| {
                            failed.get_or_insert(error);
                            e.clone()
                        })
                    };
                    let call = u.call.map(&mut change);
                    let partition = u.partition.iter().map(&mut change).collect();
                    let order = u.order.iter().map(|k| SortKey { expr: change(&k.expr), ..k.clone() }).collect();
                    match failed {
                        Some(error) => Err(error),
                        None => Ok(WindowUse { partition, order, column: u.column, call }),
                    }
                })
                .collect::<Result<_>>()?;
            for maker in &mut expansions {
                maker.arguments = maker.arguments.iter().map(&over_groups).collect::<Result<_>>()?;
            }
            let mut over = Vec::new();
            for subquery in pending {
                let subquery = subquery.map(&mut |e| to_key(e));
                if let Some(id) = subquery.outer_columns().into_iter().find(|id| input_ids.contains(id)) {
                    let name = scope.columns.iter().find(|c| c.column.id == id).map(|c| c.column.to_string());
                    return Err(Error::new(
                        Code::Grouping,
                        format!(
                            "a subquery uses \"{}\", which must stand in GROUP BY",
                            name.unwrap_or_else(|| "a column".into())
                        ),
                    )
                    .at(named_at.get(&id).copied()));
                }
                over.push(subquery);
            }
            pending = over;
            plan = self.grouped(plan, &grouping.sets, &keys, &calls.aggregates, &calls.groupings)?;
        }
        plan = pending.into_iter().fold(plan, |plan, subquery| subquery.attached(plan));
        let mut conditions = Vec::new();
        if let Some(having) = clauses.having.take() {
            having.into_conjuncts(&mut conditions);
        }
        plan = windowed(plan.filtered(conditions), windows);
        if let Some(qualify) = clauses.qualify.take() {
            plan = plan.filtered(vec![qualify]);
        }
        plan = expanded(plan, expansions);
        self.output(select, clauses, plan)
    }

    /// The list of the result over a plan that has everything it needs, then DISTINCT and ORDER BY.
    fn output(&mut self, select: &'a ast::Select, clauses: Clauses, plan: LogicalPlan) -> Result<Relation> {
        let Clauses { items, mut sort, distinct_on, .. } = clauses;
        let distinct_rows = matches!(select.distinct, Some(ast::Distinct::Distinct));
        let mut columns: Vec<(Column, Expr)> = Vec::new();
        for item in items {
            let expr = if self.keeps_open { item.expr } else { settle(item.expr)? };
            let qualifier = match &expr {
                Expr::Column(column) if column.name == item.name => column.qualifier.clone(),
                _ => None,
            };
            columns.push((self.new_column(qualifier, item.name, expr.sql_type()), expr));
        }
        // A sort key that is a result column refers to it; others are computed beside the result and dropped after sorting.
        let visible: Vec<Column> = columns.iter().map(|(column, _)| column.clone()).collect();
        let mut partition = Vec::new();
        for key in &distinct_on {
            partition.push(Expr::Column(self.computed(key, &mut columns)));
        }
        for key in &mut sort {
            let known = columns.iter().any(|(_, expr)| *expr == key.expr);
            if distinct_rows && !known {
                return Err(Error::new(Code::InvalidKey, "with DISTINCT, ORDER BY takes only what is selected")
                    .at(self.place_of(&key.expr)));
            }
            key.expr = Expr::Column(self.computed(&key.expr, &mut columns));
        }
        let hidden = columns.len() > visible.len();
        let mut out =
            Relation { plan: LogicalPlan::Project { input: plan.into(), columns }, scope: scope_of(&visible) };
        if !partition.is_empty() {
            // DISTINCT ON: the first row of each group in the order that is asked for.
            let differs =
                sort.iter().zip(&partition).take(partition.len()).any(|(key, _)| !partition.contains(&key.expr));
            if differs {
                return Err(Error::new(Code::InvalidKey, "the keys of DISTINCT ON must come first in ORDER BY"));
            }
            let number = self.new_column(None, "row_number", SqlType::BigInt);
            let first =
                WindowUse { partition, order: sort.clone(), column: number.clone(), call: ranking(Ranking::RowNumber) };
            let one = Expr::literal(Value::BigInt(1));
            out.plan =
                windowed(out.plan, vec![first]).filtered(vec![Expr::compare(BinaryOp::Eq, Expr::Column(number), one)]);
        }
        if distinct_rows {
            out = distinct(out);
            let renamed = out.plan.columns();
            for key in &mut sort {
                if let Expr::Column(column) = &key.expr
                    && let Some(place) = visible.iter().position(|c| c.id == column.id)
                {
                    key.expr = Expr::Column(renamed[place].clone());
                }
            }
        }
        if !sort.is_empty() {
            out.plan = LogicalPlan::Sort { input: out.plan.into(), keys: sort, fetch: None };
        }
        if hidden || !distinct_on.is_empty() {
            let columns = visible
                .iter()
                .map(|c| {
                    (self.new_column(c.qualifier.clone(), c.name.clone(), c.sql_type.clone()), Expr::Column(c.clone()))
                })
                .collect::<Vec<_>>();
            let kept: Vec<Column> = columns.iter().map(|(c, _)| c.clone()).collect();
            out = Relation { plan: LogicalPlan::Project { input: out.plan.into(), columns }, scope: scope_of(&kept) };
        }
        Ok(out)
    }

    /// The column that computes this expression, added if there is none yet.
    fn computed(&mut self, expr: &Expr, columns: &mut Vec<(Column, Expr)>) -> Column {
        if let Some((column, _)) = columns.iter().find(|(_, known)| known == expr) {
            return column.clone();
        }
        let (qualifier, name) = match expr {
            Expr::Column(column) => (column.qualifier.clone(), column.name.clone()),
            other => (None, other.to_string()),
        };
        let hidden = self.new_column(qualifier, name, expr.sql_type());
        columns.push((hidden.clone(), expr.clone()));
        hidden
    }

    fn item(&mut self, item: &'a ast::SelectItem, scope: &Scope, into: &mut Vec<Item>) -> Result<()> {
        match item {
            ast::SelectItem::UnnamedExpr(written) => {
                into.push(Item { name: output_name(written), expr: self.expr(written, scope)? });
            }
            ast::SelectItem::ExprWithAlias { expr, alias } => {
                into.push(Item { name: folded(alias), expr: self.expr(expr, scope)? });
            }
            ast::SelectItem::Wildcard(_) => {
                if scope.columns.is_empty() {
                    return Err(Error::new(Code::Syntax, "SELECT * needs a table in FROM").at(position_of(item.span())));
                }
                into.extend(scope.columns.iter().filter(|c| c.reach == Reach::Open).map(spread));
            }
            ast::SelectItem::QualifiedWildcard(ast::SelectItemQualifiedWildcardKind::ObjectName(name), _) => {
                let parts: Vec<String> = name.0.iter().filter_map(|p| p.as_ident().map(folded)).collect();
                let qualifier = parts.last().cloned().unwrap_or_default();
                let before = into.len();
                let own = |c: &&ScopeColumn| c.qualifier.as_ref() == Some(&qualifier) && c.reach != Reach::Carried;
                into.extend(scope.columns.iter().filter(own).map(spread));
                if into.len() == before {
                    let known: Vec<&str> = scope.columns.iter().filter_map(|c| c.qualifier.as_deref()).collect();
                    return Err(Error::unknown("table or alias", &qualifier, known).at(position_of(item.span())));
                }
            }
            other => return Err(Error::unsupported(format_args!("{other} in SELECT"))),
        }
        Ok(())
    }

    /// A plain number in GROUP BY or ORDER BY is the place of a result column.
    pub(super) fn reference(&self, written: &ast::Expr, items: &[Item], clause: &str) -> Result<Option<Expr>> {
        let ast::Expr::Value(value) = written else { return Ok(None) };
        let ast::Value::Number(digits, _) = &value.value else { return Ok(None) };
        match digits.parse::<usize>() {
            Ok(place) if (1..=items.len()).contains(&place) => Ok(Some(items[place - 1].expr.clone())),
            _ => Err(Error::new(Code::InvalidKey, format!("{clause} {digits} is not a place in the SELECT list"))
                .hint(format!("places go from 1 to {}", items.len()))
                .at(position_of(value.span))),
        }
    }

    pub(super) fn sort_key(&mut self, key: &'a ast::OrderByExpr, items: &[Item], scope: &Scope) -> Result<SortKey> {
        let expr = match self.reference(&key.expr, items, "ORDER BY")? {
            Some(expr) => expr,
            None => match named_item(&key.expr, items)? {
                Some(expr) => expr,
                None => self.expr(&key.expr, scope)?,
            },
        };
        self.key(key, expr)
    }

    /// A key of a window or an aggregate: a number is a constant there, and names are those of the input.
    pub(super) fn inner_sort_key(&mut self, key: &'a ast::OrderByExpr, scope: &Scope) -> Result<SortKey> {
        let expr = self.expr(&key.expr, scope)?;
        self.key(key, expr)
    }

    fn key(&mut self, key: &'a ast::OrderByExpr, expr: Expr) -> Result<SortKey> {
        let expr = settle(expr)?;
        let expr = match expr.sql_type() {
            // Documents are sorted by a key that orders them.
            SqlType::Json => crate::function::call(Function::JsonOrder, vec![expr])?,
            _ => expr,
        };
        if !expr.sql_type().is_ordered() {
            return Err(Error::new(Code::TypeMismatch, format!("values of type {} cannot be sorted", expr.sql_type()))
                .at(position_of(key.expr.span())));
        }
        let descending = match &key.options.sort {
            None | Some(ast::OrderBySort::Asc) => false,
            Some(ast::OrderBySort::Desc) => true,
            Some(ast::OrderBySort::Using(operator)) => match operator.to_string().trim_start_matches("pg_catalog.") {
                "<" => false,
                ">" => true,
                _ => {
                    return Err(Error::new(Code::WrongKind, format!("{operator} does not sort"))
                        .hint("USING takes < or >")
                        .at(position_of(key.expr.span())));
                }
            },
        };
        // Nulls count as larger than every value, unless said otherwise.
        Ok(SortKey { expr, descending, nulls_first: key.options.nulls_first.unwrap_or(descending) })
    }
}

fn spread(column: &ScopeColumn) -> Item {
    Item { name: column.name.clone(), expr: Expr::Column(column.column.clone()) }
}

/// The value with this name in the SELECT list.
pub(super) fn named_item(written: &ast::Expr, items: &[Item]) -> Result<Option<Expr>> {
    let ast::Expr::Identifier(ident) = written else { return Ok(None) };
    let name = folded(ident);
    let mut found = items.iter().filter(|item| item.name == name);
    let Some(first) = found.next() else { return Ok(None) };
    if found.any(|other| other.expr != first.expr) {
        return Err(Error::new(Code::AmbiguousName, format!("several values of SELECT are named \"{name}\""))
            .hint("rename one of them, or give its position")
            .at(position_of(ident.span)));
    }
    Ok(Some(first.expr.clone()))
}

fn name_of(expr: &Expr, id: ColumnId) -> String {
    match expr {
        Expr::Column(column) if column.id == id => column.to_string(),
        other => other
            .children()
            .into_iter()
            .map(|child| name_of(child, id))
            .find(|name| !name.is_empty())
            .unwrap_or_default(),
    }
}

/// The name PostgreSQL gives to a result column without an alias.
fn output_name(written: &ast::Expr) -> String {
    match written {
        ast::Expr::Identifier(ident) => folded(ident),
        ast::Expr::CompoundIdentifier(idents) => idents.last().map(folded).unwrap_or_default(),
        ast::Expr::CompoundFieldAccess { root, access_chain } => match access_chain.last() {
            Some(ast::AccessExpr::Dot(ast::Expr::Identifier(field))) => folded(field),
            _ => output_name(root),
        },
        ast::Expr::Nested(inner) => output_name(inner),
        ast::Expr::Cast { expr, data_type, .. } => match output_name(expr).as_str() {
            "?column?" => super::types::sql_type(data_type).map_or("?column?".into(), |t| match t {
                SqlType::Numeric { .. } => "numeric".into(),
                other => other.to_string(),
            }),
            name => name.to_owned(),
        },
        ast::Expr::Function(call) => call.name.0.last().and_then(|p| p.as_ident().map(folded)).unwrap_or_default(),
        ast::Expr::Case { .. } => "case".to_owned(),
        ast::Expr::Extract { .. } => "extract".to_owned(),
        ast::Expr::Substring { .. } => "substring".to_owned(),
        ast::Expr::Position { .. } => "position".to_owned(),
        ast::Expr::Trim { .. } => "btrim".to_owned(),
        ast::Expr::Ceil { .. } => "ceil".to_owned(),
        ast::Expr::Floor { .. } => "floor".to_owned(),
        ast::Expr::Interval(_) => "interval".to_owned(),
        ast::Expr::Exists { .. } => "exists".to_owned(),
        ast::Expr::TypedString(typed) => typed.data_type.to_string().to_lowercase(),
        _ => "?column?".to_owned(),
    }
}

/// Functions that make rows over the plan: those whose arguments need no other's rows side by side, then those that need theirs.
fn expanded(mut plan: LogicalPlan, mut makers: Vec<RowMaker>) -> LogicalPlan {
    while !makers.is_empty() {
        let made: BTreeSet<ColumnId> = makers.iter().flat_map(|m| &m.columns).map(|c| c.id).collect();
        let waits = |maker: &RowMaker| maker.arguments.iter().any(|a| !a.columns().is_disjoint(&made));
        let (later, now) = makers.into_iter().partition(waits);
        plan = LogicalPlan::Expand { input: plan.into(), makers: now, outer: false };
        makers = later;
    }
    plan
}
