//! Binding of one SELECT: its list, GROUP BY, HAVING, DISTINCT and the sort keys that may use what is not selected.

use cobble_plan::aggregate::AggregateCall;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{LogicalPlan, SortKey};
use cobble_types::{Code, ColumnId, Error, Result, SqlType};
use sqlparser::ast::{self, Spanned};

use super::from::cross;
use super::query::{distinct, scope_of};
use super::scope::{Scope, ScopeColumn};
use super::{Binder, Relation, folded, position_of};
use crate::coerce::{condition, settle};

/// Aggregates met while binding the clauses that may hold them.
#[derive(Default)]
pub(super) struct Aggregates {
    pub calls: Vec<(Column, AggregateCall)>,
    /// Scalar subqueries inside arguments: they are joined below the aggregation.
    pub below: Vec<LogicalPlan>,
    /// Columns of scalar subqueries outside arguments, which need no grouping.
    pub scalar_columns: Vec<ColumnId>,
}

/// One item of a SELECT list after `*` is spread.
pub(super) struct Item {
    pub name: String,
    pub expr: Expr,
}

impl<'a> Binder<'a> {
    pub(super) fn select(&mut self, select: &'a ast::Select, keys: &'a [ast::OrderByExpr]) -> Result<Relation> {
        let mut relation = self.from(&select.from)?;
        if let Some(selection) = &select.selection {
            relation = self.filter(relation, selection)?;
        }
        // Everything from here on may hold aggregates.
        let outer_aggregates = self.aggregates.replace(Aggregates::default());
        let bound = self.projection(select, keys, relation);
        self.aggregates = outer_aggregates;
        bound
    }

    fn projection(
        &mut self,
        select: &'a ast::Select,
        keys: &'a [ast::OrderByExpr],
        mut relation: Relation,
    ) -> Result<Relation> {
        let scope = relation.scope.clone();
        let mut items = Vec::new();
        for item in &select.projection {
            self.item(item, &scope, &mut items)?;
        }
        let groups = self.group_expressions(select, &items, &scope)?;
        let having = match &select.having {
            Some(having) => {
                Some(condition(self.expr(having, &scope)?, "HAVING").map_err(|e| e.at(position_of(having.span())))?)
            }
            None => None,
        };
        let mut sort = Vec::new();
        for key in keys {
            sort.push(self.sort_key(key, &items, &scope)?);
        }
        if select.qualify.is_some() || !select.named_window.is_empty() {
            return Err(Error::unsupported("a window clause"));
        }
        let collected = self.aggregates.take().unwrap_or_default();
        let grouped = !groups.is_empty() || !collected.calls.is_empty() || having.is_some();
        let scalar_columns = collected.scalar_columns.clone();
        let scalars = std::mem::take(&mut self.scalars);
        let mut conditions = Vec::new();
        if grouped {
            for below in collected.below {
                relation.plan = cross(relation.plan, below);
            }
            let groups: Vec<(Column, Expr)> = groups
                .into_iter()
                .map(|expr| {
                    let (qualifier, name) = match &expr {
                        Expr::Column(column) => (column.qualifier.clone(), column.name.clone()),
                        other => (None, other.to_string()),
                    };
                    (self.new_column(qualifier, name, expr.sql_type()), expr)
                })
                .collect();
            let allowed: Vec<ColumnId> = groups
                .iter()
                .map(|(c, _)| c.id)
                .chain(collected.calls.iter().map(|(c, _)| c.id))
                .chain(scalar_columns)
                .collect();
            let over_groups = |binder: &Self, expr: &Expr| -> Result<Expr> {
                let replaced = expr.replace(&|e| {
                    groups.iter().find(|(_, group)| group == e).map(|(column, _)| Expr::Column(column.clone()))
                });
                match replaced.columns().into_iter().find(|id| !allowed.contains(id)) {
                    None => Ok(replaced),
                    Some(id) => {
                        let name = name_of(&replaced, id);
                        Err(Error::new(
                            Code::Grouping,
                            format!("\"{name}\" must stand in GROUP BY or inside an aggregate"),
                        )
                        .at(binder.named_at.get(&id).copied().or(binder.place_of(expr))))
                    }
                }
            };
            for item in &mut items {
                item.expr = over_groups(self, &item.expr)?;
            }
            for key in &mut sort {
                key.expr = over_groups(self, &key.expr)?;
            }
            if let Some(having) = having {
                over_groups(self, &having)?.into_conjuncts(&mut conditions);
            }
            relation.plan = LogicalPlan::Aggregate {
                input: relation.plan.into(),
                groups: groups.clone(),
                aggregates: collected.calls,
            };
        }
        for scalar in scalars {
            relation.plan = cross(relation.plan, scalar);
        }
        relation.plan = relation.plan.filtered(conditions);

        let distinct_rows = match &select.distinct {
            None => false,
            Some(ast::Distinct::Distinct) => true,
            Some(other) => return Err(Error::unsupported(other)),
        };
        let mut columns: Vec<(Column, Expr)> = Vec::new();
        for item in items {
            let expr = settle(item.expr)?;
            let qualifier = match &expr {
                Expr::Column(column) if column.name == item.name => column.qualifier.clone(),
                _ => None,
            };
            columns.push((self.new_column(qualifier, item.name, expr.sql_type()), expr));
        }
        // A sort key that is a result column refers to it; others are computed beside the result and dropped after sorting.
        let visible: Vec<Column> = columns.iter().map(|(column, _)| column.clone()).collect();
        for key in &mut sort {
            let place = columns.iter().position(|(_, expr)| *expr == key.expr);
            let column = match place {
                Some(place) => columns[place].0.clone(),
                None if distinct_rows => {
                    return Err(Error::new(Code::Syntax, "with DISTINCT, ORDER BY takes only what is selected")
                        .at(self.place_of(&key.expr)));
                }
                None => {
                    let (qualifier, name) = match &key.expr {
                        Expr::Column(column) => (column.qualifier.clone(), column.name.clone()),
                        other => (None, other.to_string()),
                    };
                    let hidden = self.new_column(qualifier, name, key.expr.sql_type());
                    columns.push((hidden.clone(), key.expr.clone()));
                    hidden
                }
            };
            key.expr = Expr::Column(column);
        }
        let hidden = columns.len() > visible.len();
        let mut out =
            Relation { plan: LogicalPlan::Project { input: relation.plan.into(), columns }, scope: scope_of(&visible) };
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
        if hidden {
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
                into.extend(scope.columns.iter().filter(|c| !c.hidden).map(spread));
            }
            ast::SelectItem::QualifiedWildcard(ast::SelectItemQualifiedWildcardKind::ObjectName(name), _) => {
                let parts: Vec<String> = name.0.iter().filter_map(|p| p.as_ident().map(folded)).collect();
                let qualifier = parts.last().cloned().unwrap_or_default();
                let before = into.len();
                into.extend(scope.columns.iter().filter(|c| c.qualifier.as_ref() == Some(&qualifier)).map(spread));
                if into.len() == before {
                    let known: Vec<&str> = scope.columns.iter().filter_map(|c| c.qualifier.as_deref()).collect();
                    return Err(Error::unknown("table or alias", &qualifier, known).at(position_of(item.span())));
                }
            }
            other => return Err(Error::unsupported(format_args!("{other} in SELECT"))),
        }
        Ok(())
    }

    fn group_expressions(&mut self, select: &'a ast::Select, items: &[Item], scope: &Scope) -> Result<Vec<Expr>> {
        let written = match &select.group_by {
            ast::GroupByExpr::Expressions(written, modifiers) if modifiers.is_empty() => written,
            other => return Err(Error::unsupported(other)),
        };
        // No aggregate may stand in GROUP BY.
        let collector = self.aggregates.take();
        let mut groups: Vec<Expr> = Vec::new();
        for expr in written {
            let bound = match self.reference(expr, items, "GROUP BY")? {
                Some(expr) => expr,
                None => match self.expr(expr, scope) {
                    Ok(bound) => bound,
                    // Input columns come first, then the names of the result, as in PostgreSQL.
                    Err(error) => match named_item(expr, items) {
                        Some(item) => item,
                        None => return Err(error),
                    },
                },
            };
            let bound = settle(bound)?;
            if !bound.sql_type().is_ordered() {
                return Err(Error::new(
                    Code::TypeMismatch,
                    format!("values of type {} cannot be grouped", bound.sql_type()),
                )
                .at(position_of(expr.span())));
            }
            if let Some(column) =
                collector.as_ref().and_then(|c| c.calls.iter().find(|(column, _)| bound.columns().contains(&column.id)))
            {
                return Err(Error::new(Code::Grouping, format!("{} cannot stand in GROUP BY", column.1))
                    .at(position_of(expr.span())));
            }
            if !groups.contains(&bound) {
                groups.push(bound);
            }
        }
        self.aggregates = collector;
        Ok(groups)
    }

    /// A plain number in GROUP BY or ORDER BY is the place of a result column.
    pub(super) fn reference(&self, written: &ast::Expr, items: &[Item], clause: &str) -> Result<Option<Expr>> {
        let ast::Expr::Value(value) = written else { return Ok(None) };
        let ast::Value::Number(digits, _) = &value.value else { return Ok(None) };
        match digits.parse::<usize>() {
            Ok(place) if (1..=items.len()).contains(&place) => Ok(Some(items[place - 1].expr.clone())),
            _ => Err(Error::new(Code::Syntax, format!("{clause} {digits} is not a place in the SELECT list"))
                .hint(format!("places go from 1 to {}", items.len()))
                .at(position_of(value.span))),
        }
    }

    pub(super) fn sort_key(&mut self, key: &'a ast::OrderByExpr, items: &[Item], scope: &Scope) -> Result<SortKey> {
        let expr = match self.reference(&key.expr, items, "ORDER BY")? {
            Some(expr) => expr,
            None => match named_item(&key.expr, items) {
                Some(expr) => expr,
                None => self.expr(&key.expr, scope)?,
            },
        };
        let expr = settle(expr)?;
        if !expr.sql_type().is_ordered() {
            return Err(Error::new(Code::TypeMismatch, format!("values of type {} cannot be sorted", expr.sql_type()))
                .at(position_of(key.expr.span())));
        }
        let descending = match &key.options.sort {
            None | Some(ast::OrderBySort::Asc) => false,
            Some(ast::OrderBySort::Desc) => true,
            Some(ast::OrderBySort::Using(_)) => return Err(Error::unsupported("ORDER BY USING")),
        };
        // Nulls count as larger than every value, unless said otherwise.
        Ok(SortKey { expr, descending, nulls_first: key.options.nulls_first.unwrap_or(descending) })
    }
}

fn spread(column: &ScopeColumn) -> Item {
    Item { name: column.name.clone(), expr: Expr::Column(column.column.clone()) }
}

fn named_item(written: &ast::Expr, items: &[Item]) -> Option<Expr> {
    let ast::Expr::Identifier(ident) = written else { return None };
    let name = folded(ident);
    items.iter().find(|item| item.name == name).map(|item| item.expr.clone())
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
