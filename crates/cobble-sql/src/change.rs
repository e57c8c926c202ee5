//! UPDATE and DELETE: each is read as the query that finds the rows, and what a row's columns are set to (SQL:2016 part 2, 14.9 and
//! 14.14; FROM and USING as in PostgreSQL).

use cobble_types::deep::Deep;
use cobble_types::{Code, Error, Position, Result};
use sqlparser::ast;
use sqlparser::parser::Parser;

use crate::bind::{folded, position_of};
use crate::statement::DIALECT;
use crate::syntax::check_query;

/// Stands for the table in the query's FROM; a control character, so that nobody can write it.
pub(crate) const TARGET: &str = "\u{1}target";

/// Stands for the rows that have been changed.
pub(crate) const RETURNED: &str = "\u{1}returned";

/// Rows of a table that are set to something else, or deleted.
#[derive(Debug, Clone)]
pub struct Change {
    pub table: Vec<String>,
    pub position: Option<Position>,
    /// The columns that are set, with their places in the text; `None` deletes the rows.
    pub set: Option<Vec<(String, Option<Position>)>>,
    /// What the table is called in the statement.
    alias: ast::Ident,
    /// Finds what the columns are set to, one row for each that is changed.
    query: Deep<ast::Query>,
    /// What RETURNING makes of the changed rows.
    pub returning: Option<Deep<ast::Query>>,
}

impl Change {
    /// The query with these further columns of the table in front.
    pub fn query_with(&self, columns: &[String]) -> Deep<ast::Query> {
        let mut query = self.query.clone();
        if let ast::SetExpr::Select(select) = query.body.as_mut() {
            let item = |column: &String| {
                let parts = vec![self.alias.clone(), ast::Ident::with_quote('"', column)];
                ast::SelectItem::UnnamedExpr(ast::Expr::CompoundIdentifier(parts))
            };
            select.projection.splice(0..0, columns.iter().map(item));
        }
        query
    }
}

/// The syntax tree as a change, if it is one that we make.
pub(crate) fn change(statement: ast::Statement) -> Result<Change> {
    match statement {
        ast::Statement::Update(update) => {
            let ast::Update {
                update_token: _,
                optimizer_hints,
                table,
                assignments,
                from,
                selection,
                returning,
                output,
                or,
                order_by,
                limit,
            } = update;
            let foreign = output.is_some() || or.is_some() || !optimizer_hints.is_empty();
            refuse(foreign || limit.is_some() || !order_by.is_empty())?;
            let from = match from {
                None => vec![],
                Some(ast::UpdateTableFromKind::BeforeSet(from) | ast::UpdateTableFromKind::AfterSet(from)) => from,
            };
            let mut set = Vec::new();
            let mut values = Vec::new();
            for ast::Assignment { target, value } in assignments {
                let ast::AssignmentTarget::ColumnName(name) = target else {
                    return Err(Error::unsupported("setting several columns at once")
                        .hint("write each one alone: SET a = …, b = …"));
                };
                let [ast::ObjectNamePart::Identifier(column)] = name.0.as_slice() else {
                    return Err(Error::new(Code::Syntax, format!("\"{name}\" is no plain name of a column"))
                        .hint("columns that are set are named without their table"));
                };
                set.push((folded(column), position_of(column.span)));
                values.push(ast::SelectItem::UnnamedExpr(value));
            }
            made(table, from, Some(set), values, selection, returning)
        }
        ast::Statement::Delete(delete) => {
            let ast::Delete {
                delete_token: _,
                optimizer_hints,
                tables,
                from,
                using,
                selection,
                returning,
                output,
                order_by,
                limit,
            } = delete;
            let foreign = output.is_some() || !tables.is_empty() || !optimizer_hints.is_empty();
            refuse(foreign || limit.is_some() || !order_by.is_empty())?;
            let (ast::FromTable::WithFromKeyword(mut from) | ast::FromTable::WithoutKeyword(mut from)) = from;
            let (Some(table), true) = (from.pop(), from.is_empty()) else {
                return Err(Error::unsupported("deleting from several tables").hint("write a statement for each"));
            };
            made(table, using.unwrap_or_default(), None, vec![], selection, returning)
        }
        other => Err(Error::new(Code::Syntax, format!("expected UPDATE or DELETE, found {other}"))),
    }
}

fn refuse(extra: bool) -> Result<()> {
    match extra {
        true => Err(Error::unsupported("ORDER BY or LIMIT in UPDATE and DELETE")),
        false => Ok(()),
    }
}

fn made(
    table: ast::TableWithJoins,
    from: Vec<ast::TableWithJoins>,
    set: Option<Vec<(String, Option<Position>)>>,
    values: Vec<ast::SelectItem>,
    selection: Option<ast::Expr>,
    returning: Option<Vec<ast::SelectItem>>,
) -> Result<Change> {
    let ast::TableWithJoins { relation, joins } = table;
    let ast::TableFactor::Table {
        name,
        alias,
        args: None,
        with_hints,
        version: None,
        with_ordinality: false,
        partitions,
        json_path: None,
        sample: None,
        index_hints,
    } = relation
    else {
        return Err(Error::new(Code::Syntax, "only the rows of a table can be changed"));
    };
    if !with_hints.is_empty() || !partitions.is_empty() || !index_hints.is_empty() {
        return Err(Error::new(Code::Syntax, "a hint for a table is not part of the language"));
    }
    if !joins.is_empty() {
        return Err(Error::unsupported("a join in the place of the table that is changed")
            .hint("name the other tables in FROM, or in USING of a DELETE"));
    }
    let parts: Option<Vec<&ast::Ident>> = name.0.iter().map(ast::ObjectNamePart::as_ident).collect();
    let (Some(parts), Some(last)) = (&parts, parts.as_ref().and_then(|parts| parts.last())) else {
        return Err(Error::new(Code::Syntax, format!("\"{name}\" is no name of a table")));
    };
    let alias = alias.map_or_else(|| (*last).clone(), |alias| alias.name);
    let query = select_of(TARGET, &alias, values, selection, from)?;
    let returning = returning.map(|items| select_of(RETURNED, &alias, items, None, vec![])).transpose()?;
    Ok(Change {
        table: parts.iter().map(|part| folded(part)).collect(),
        position: parts.first().and_then(|part| position_of(part.span)),
        set,
        alias,
        query,
        returning,
    })
}

/// What RETURNING makes of the rows of a table that is known by this name.
pub(crate) fn returning(name: &ast::Ident, items: Vec<ast::SelectItem>) -> Result<Deep<ast::Query>> {
    select_of(RETURNED, name, items, None, vec![])
}

/// The query of these items from the table of this name, known by the alias, and whatever else there is.
fn select_of(
    table: &str,
    alias: &ast::Ident,
    items: Vec<ast::SelectItem>,
    selection: Option<ast::Expr>,
    from: Vec<ast::TableWithJoins>,
) -> Result<Deep<ast::Query>> {
    let failed = |e| Error::internal(format!("a query of ours cannot be read: {e}"));
    let mut parser = Parser::new(&DIALECT).try_with_sql("SELECT 1 FROM t AS t").map_err(failed)?;
    let mut query = Deep::new(*parser.parse_query().map_err(failed)?);
    if let ast::SetExpr::Select(select) = query.body.as_mut() {
        select.projection = items;
        select.selection = selection;
        if let Some(ast::TableWithJoins { relation: ast::TableFactor::Table { name, alias: own, .. }, .. }) =
            select.from.first_mut()
        {
            *name = ast::ObjectName::from(vec![ast::Ident::with_quote('"', table)]);
            if let Some(own) = own {
                own.name = alias.clone();
            }
        }
        select.from.extend(from);
    }
    check_query(&query)?;
    Ok(query)
}
