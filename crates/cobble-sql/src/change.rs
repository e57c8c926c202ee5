//! UPDATE, DELETE, MERGE and INSERT … REPLACING: each is read as the query that finds the rows, and what a row's columns are set to (SQL:2016 part 2, 14.9,
//! 14.12 and 14.14; FROM, USING and DO NOTHING as in PostgreSQL).

use cobble_types::deep::Deep;
use cobble_types::{Code, Error, Position, Result, SqlType, quote_identifier};
use sqlparser::ast;
use sqlparser::parser::Parser;

use crate::bind::{folded, position_of};
use crate::objects::WrittenName;
use crate::statement::DIALECT;
use crate::syntax::check_query;

/// Stands for the table in the query's FROM; a control character, so that nobody can write it.
pub(crate) const TARGET: &str = "\u{1}target";

/// Stands for the rows that have been changed.
pub(crate) const RETURNED: &str = "\u{1}returned";

/// A column that is set, with its place in the text.
pub type SetColumn = (String, Option<Position>);

/// Rows of a table that are set to something else, or deleted.
#[derive(Debug, Clone)]
pub struct Change {
    pub table: Vec<String>,
    pub position: Option<Position>,
    pub action: Action,
    /// What the table is called in the statement.
    alias: ast::Ident,
    /// Finds what the columns are set to, one row for each that is changed.
    query: Deep<ast::Query>,
    /// What RETURNING makes of the changed rows.
    pub returning: Option<Deep<ast::Query>>,
}

/// What becomes of the rows.
#[derive(Debug, Clone)]
pub enum Action {
    Delete,
    /// The columns are set to what the query finds, in its order.
    Update(Vec<SetColumn>),
    Merge(Vec<Arm>),
    /// INSERT … REPLACING: rows of a condition go, and a query's rows come in their places.
    Replace(Box<NewRows>),
}

/// The rows that come of an INSERT … REPLACING.
#[derive(Debug, Clone)]
pub struct NewRows {
    /// The columns that they are given for; all of the table's when empty.
    pub columns: Vec<SetColumn>,
    /// What is true of the rows that go, and must be true of those that come.
    condition: ast::Expr,
    source: Deep<ast::Query>,
}

impl Action {
    pub fn word(&self) -> &'static str {
        match self {
            Action::Delete => "DELETE",
            Action::Update(_) => "UPDATE",
            Action::Merge(_) => "MERGE",
            Action::Replace(_) => "REPLACING",
        }
    }

    /// The columns that are set or filled, each list in the order of the statement.
    pub fn named(&self) -> Vec<&[SetColumn]> {
        match self {
            Action::Delete => vec![],
            Action::Update(set) => vec![set],
            Action::Merge(arms) => arms.iter().map(|arm| arm.effect.columns()).collect(),
            Action::Replace(new) => vec![&new.columns],
        }
    }
}

/// WHEN … THEN of a MERGE.
#[derive(Debug, Clone)]
pub struct Arm {
    when: When,
    predicate: Option<ast::Expr>,
    effect: Effect,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum When {
    Matched,
    /// The table has no row for one of the source.
    NotMatched,
    /// The source has none for a row of the table.
    NotMatchedBySource,
}

#[derive(Debug, Clone)]
enum Effect {
    Update(Vec<SetColumn>, Vec<ast::Expr>),
    /// Without columns, all of them from the first on.
    Insert(Vec<SetColumn>, Vec<ast::Expr>),
    Delete,
    Nothing,
}

impl Effect {
    fn columns(&self) -> &[SetColumn] {
        match self {
            Effect::Update(columns, _) | Effect::Insert(columns, _) => columns,
            Effect::Delete | Effect::Nothing => &[],
        }
    }

    /// What a column of the table becomes, by its name and place.
    fn value(&self, alias: &ast::Ident, name: &str, place: usize) -> ast::Expr {
        let own = |columns: &[SetColumn], values: &[ast::Expr]| {
            let place = match columns.is_empty() {
                true => Some(place),
                false => columns.iter().position(|(own, _)| own == name),
            };
            values.get(place?).cloned()
        };
        match self {
            Effect::Update(columns, values) => own(columns, values).unwrap_or_else(|| column(alias, name)),
            Effect::Insert(columns, values) => own(columns, values).unwrap_or_else(null),
            Effect::Delete | Effect::Nothing => null(),
        }
    }
}

/// A value as it is assigned to a column: a literal in quotes has the column's type.
fn assigned_to(value: ast::Expr, sql_type: &SqlType) -> ast::Expr {
    let is_literal = matches!(&value, ast::Expr::Value(own) if matches!(own.value, ast::Value::SingleQuotedString(_)));
    let parsed = Parser::new(&DIALECT).try_with_sql(&sql_type.to_string()).and_then(|mut p| p.parse_data_type());
    match parsed {
        Ok(data_type) if is_literal => {
            ast::Expr::Cast { kind: ast::CastKind::Cast, expr: Box::new(value), data_type, format: None }
        }
        _ => value,
    }
}

fn column(alias: &ast::Ident, name: &str) -> ast::Expr {
    ast::Expr::CompoundIdentifier(vec![alias.clone(), ast::Ident::with_quote('"', name)])
}

fn value(value: ast::Value) -> ast::Expr {
    ast::Expr::Value(value.into())
}

fn null() -> ast::Expr {
    value(ast::Value::Null)
}

fn case(arms: Vec<(ast::Expr, ast::Expr)>) -> ast::Expr {
    ast::Expr::Case {
        case_token: ast::helpers::attached_token::AttachedToken::empty(),
        end_token: ast::helpers::attached_token::AttachedToken::empty(),
        operand: None,
        conditions: arms.into_iter().map(|(condition, result)| ast::CaseWhen { condition, result }).collect(),
        else_result: None,
    }
}

fn and(left: ast::Expr, right: ast::Expr) -> ast::Expr {
    let side = |own| Box::new(ast::Expr::Nested(Box::new(own)));
    ast::Expr::BinaryOp { left: side(left), op: ast::BinaryOperator::And, right: side(right) }
}

impl Arm {
    /// Whether the arm is the one of a row, if none before it is. `known` is null where the table has no row.
    fn condition(&self, known: &ast::Expr) -> ast::Expr {
        let known = Box::new(known.clone());
        let here = || Box::new(ast::Expr::Identifier(ast::Ident::with_quote('"', HERE)));
        let own = match self.when {
            When::NotMatched => ast::Expr::IsNull(known),
            When::Matched => ast::Expr::IsNotNull(known),
            When::NotMatchedBySource => ast::Expr::IsNull(here()),
        };
        match &self.predicate {
            Some(predicate) => and(own, predicate.clone()),
            None => own,
        }
    }
}

impl Change {
    /// Checks what is set against the columns of the table, by their names.
    ///
    /// # Errors
    /// When a column is named twice, or is none of the table's.
    pub fn check(&self, columns: &[&str]) -> Result<()> {
        for named in self.action.named() {
            for (place, (name, position)) in named.iter().enumerate() {
                if named[..place].iter().any(|(other, _)| other == name) {
                    return Err(Error::new(Code::AmbiguousName, format!("{name} is set twice")).at(*position));
                }
                if !columns.contains(&name.as_str()) {
                    return Err(Error::unknown("column", name, columns.iter().copied()).at(*position));
                }
            }
        }
        let Action::Merge(arms) = &self.action else { return Ok(()) };
        let most = arms.iter().map(|arm| match &arm.effect {
            Effect::Insert(_, values) => values.len(),
            _ => 0,
        });
        match most.max() {
            Some(most) if most > columns.len() => {
                let what = format!("INSERT has {most} values, and the table has {} columns", columns.len());
                Err(Error::new(Code::Syntax, what))
            }
            _ => Ok(()),
        }
    }

    /// The query with these columns of the table in front, which tell its rows apart.
    pub fn query_with(&self, identity: &[String]) -> Deep<ast::Query> {
        self.with_items(|values| identity.iter().map(|name| column(&self.alias, name)).chain(values).collect(), None)
    }

    /// The query of whole rows: the columns that tell the table's rows apart, of a MERGE and of REPLACING whether there is a new row, and then these
    /// columns as they become.
    pub fn rows_with(&self, identity: &[String], columns: &[(String, SqlType)]) -> Result<Deep<ast::Query>> {
        match &self.action {
            Action::Replace(new) => new.rows_with(&self.alias, identity, columns),
            _ => Ok(self.changed_rows_with(identity, columns)),
        }
    }

    fn changed_rows_with(&self, identity: &[String], columns: &[(String, SqlType)]) -> Deep<ast::Query> {
        let own = identity.iter().map(|name| column(&self.alias, name));
        let Action::Merge(arms) = &self.action else {
            return self.with_items(
                |values| {
                    let becomes = |name: &String| match &self.action {
                        Action::Update(set) => {
                            let place = set.iter().position(|(own, _)| own == name);
                            place.and_then(|place| values.get(place).cloned())
                        }
                        _ => None,
                    };
                    let rest =
                        columns.iter().map(|(name, _)| becomes(name).unwrap_or_else(|| column(&self.alias, name)));
                    own.chain(rest).collect()
                },
                None,
            );
        };
        let Some(known) = identity.first().map(|name| column(&self.alias, name)) else { return self.query.clone() };
        let one = |of: &dyn Fn(&Effect) -> ast::Expr| {
            // A row without its counterpart in the source comes first: it has none in the columns of the source either.
            let first = arms.iter().filter(|arm| arm.when == When::NotMatchedBySource);
            let rest = arms.iter().filter(|arm| arm.when != When::NotMatchedBySource);
            let none = Arm { when: When::NotMatchedBySource, predicate: None, effect: Effect::Nothing };
            let by_source = first.clone().next().map(|_| none);
            let all = first.chain(&by_source).chain(rest);
            let all: Vec<_> = all.map(|arm| (arm.condition(&known), of(&arm.effect))).collect();
            // Where no arm tells a type, none is guessed.
            if all.iter().all(|(_, value)| *value == null()) { null() } else { case(all) }
        };
        let keeps = one(&|effect| match effect {
            Effect::Update(..) | Effect::Insert(..) => value(ast::Value::Boolean(true)),
            Effect::Delete => value(ast::Value::Boolean(false)),
            Effect::Nothing => null(),
        });
        let becomes = columns.iter().enumerate();
        let becomes = becomes.map(|(place, (name, sql_type))| {
            one(&|effect| assigned_to(effect.value(&self.alias, name, place), sql_type))
        });
        let items = own.chain([keeps.clone()]).chain(becomes).collect();
        self.with_items(|_| items, Some(ast::Expr::IsNotNull(Box::new(keeps))))
    }

    fn with_items(
        &self,
        items: impl FnOnce(Vec<ast::Expr>) -> Vec<ast::Expr>,
        selection: Option<ast::Expr>,
    ) -> Deep<ast::Query> {
        let mut query = self.query.clone();
        if let ast::SetExpr::Select(select) = query.body.as_mut() {
            let values = std::mem::take(&mut select.projection).into_iter().filter_map(|item| match item {
                ast::SelectItem::UnnamedExpr(value) => Some(value),
                _ => None,
            });
            let items = items(values.collect());
            select.projection = items.into_iter().map(ast::SelectItem::UnnamedExpr).collect();
            if selection.is_some() {
                select.selection = selection;
            }
        }
        query
    }
}

fn failed(error: sqlparser::parser::ParserError) -> Error {
    Error::internal(format!("a query of ours cannot be read: {error}"))
}

/// The only table of a FROM.
fn relation(from: &mut [ast::TableWithJoins]) -> Option<&mut ast::TableFactor> {
    from.first_mut().map(|from| &mut from.relation)
}

impl NewRows {
    /// The rows that go, by what tells them apart, and those that come. Whether a row comes is null where the condition is not true of it.
    fn rows_with(
        &self,
        alias: &ast::Ident,
        identity: &[String],
        columns: &[(String, SqlType)],
    ) -> Result<Deep<ast::Query>> {
        let named: Vec<&str> = match self.columns.is_empty() {
            true => columns.iter().map(|(name, _)| name.as_str()).collect(),
            false => self.columns.iter().map(|(name, _)| name.as_str()).collect(),
        };
        let quoted = |names: &[&str]| names.iter().map(|name| quote_identifier(name)).collect::<Vec<_>>().join(", ");
        let all: Vec<&str> = columns.iter().map(|(name, _)| name.as_str()).collect();
        let nulls = |count: usize| vec!["NULL"; count].join(", ");
        let one = |(name, sql_type): &(String, SqlType)| match named.contains(&name.as_str()) {
            true => format!("CAST({0} AS {sql_type}) AS {0}", quote_identifier(name)),
            false => format!("CAST(NULL AS {sql_type}) AS {}", quote_identifier(name)),
        };
        let made: Vec<String> = columns.iter().map(one).collect();
        let known: Vec<&str> = identity.iter().map(String::as_str).collect();
        let text = format!(
            "SELECT {}, false, {} FROM t AS t WHERE true UNION ALL \
             SELECT {}, CASE WHEN true THEN true END, {} FROM (SELECT {} FROM (SELECT 1) AS t ({})) AS t",
            quoted(&known),
            nulls(columns.len()),
            nulls(identity.len()),
            quoted(&all),
            made.join(", "),
            quoted(&named)
        );
        let mut query =
            Deep::new(*Parser::new(&DIALECT).try_with_sql(&text).and_then(|mut p| p.parse_query()).map_err(failed)?);
        let ast::SetExpr::SetOperation { left, right, .. } = query.body.as_mut() else {
            return Err(Error::internal("a query of ours is no union"));
        };
        if let ast::SetExpr::Select(go) = left.as_mut() {
            go.selection = Some(self.condition.clone());
            if let Some(ast::TableFactor::Table { name, alias: Some(own), .. }) = relation(&mut go.from) {
                *name = ast::ObjectName::from(vec![ast::Ident::with_quote('"', TARGET)]);
                own.name = alias.clone();
            }
        }
        if let ast::SetExpr::Select(come) = right.as_mut() {
            if let Some(ast::SelectItem::UnnamedExpr(ast::Expr::Case { conditions, .. })) =
                come.projection.get_mut(identity.len())
                && let Some(first) = conditions.first_mut()
            {
                first.condition = self.condition.clone();
            }
            let Some(ast::TableFactor::Derived { subquery: typed, alias: Some(own), .. }) = relation(&mut come.from)
            else {
                return Err(Error::internal("a query of ours reads no rows"));
            };
            own.name = alias.clone();
            if let ast::SetExpr::Select(typed) = typed.body.as_mut()
                && let Some(ast::TableFactor::Derived { subquery, .. }) = relation(&mut typed.from)
            {
                **subquery = (*self.source).clone();
            }
        }
        Ok(query)
    }
}

/// `INSERT INTO table [(column, …)] REPLACING (condition) query`
pub(crate) fn replacing(
    table: &WrittenName,
    columns: Vec<SetColumn>,
    condition: ast::Expr,
    source: Deep<ast::Query>,
) -> Result<Change> {
    let alias = ast::Ident::with_quote('"', table.parts.last().cloned().unwrap_or_default());
    // Checked like any other.
    let query = select_of((TARGET, vec![]), &alias, vec![], Some(condition.clone()), vec![])?;
    let action = Action::Replace(Box::new(NewRows { columns, condition, source }));
    Ok(Change { table: table.parts.clone(), position: table.position, action, alias, query, returning: None })
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
            let (set, values) = assigned(assignments)?;
            made(table, from, Action::Update(set), values, selection, returning)
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
            made(table, using.unwrap_or_default(), Action::Delete, vec![], selection, returning)
        }
        ast::Statement::Merge(merge) => merged(merge),
        other => Err(Error::new(Code::Syntax, format!("expected UPDATE, DELETE or MERGE, found {other}"))),
    }
}

/// The columns of SET, and what they are set to.
fn assigned(assignments: Vec<ast::Assignment>) -> Result<(Vec<SetColumn>, Vec<ast::Expr>)> {
    let (mut set, mut values) = (Vec::new(), Vec::new());
    for ast::Assignment { target, value } in assignments {
        let ast::AssignmentTarget::ColumnName(name) = target else {
            return Err(
                Error::unsupported("setting several columns at once").hint("write each one alone: SET a = …, b = …")
            );
        };
        set.push(plain(&name)?);
        values.push(value);
    }
    Ok((set, values))
}

fn plain(name: &ast::ObjectName) -> Result<SetColumn> {
    let [ast::ObjectNamePart::Identifier(column)] = name.0.as_slice() else {
        return Err(Error::new(Code::Syntax, format!("\"{name}\" is no plain name of a column"))
            .hint("columns that are set are named without their table"));
    };
    Ok((folded(column), position_of(column.span)))
}

/// Stands for what every row of a MERGE's source has.
const HERE: &str = "\u{1}here";

fn merged(merge: ast::Merge) -> Result<Change> {
    let ast::Merge { merge_token: _, optimizer_hints, into: _, table, source, on, clauses, output } = merge;
    if !optimizer_hints.is_empty() {
        return Err(Error::new(Code::Syntax, "a hint is not part of the language"));
    }
    if output.is_some() {
        return Err(Error::unsupported("RETURNING of a MERGE").hint("SELECT the rows afterwards"));
    }
    let mut arms = Vec::new();
    for ast::MergeClause { when_token: _, clause_kind, predicate, action } in clauses {
        let when = match clause_kind {
            ast::MergeClauseKind::Matched => When::Matched,
            ast::MergeClauseKind::NotMatched | ast::MergeClauseKind::NotMatchedByTarget => When::NotMatched,
            ast::MergeClauseKind::NotMatchedBySource => When::NotMatchedBySource,
        };
        let effect = effect(action)?;
        let fits = match effect {
            Effect::Insert(..) => when == When::NotMatched,
            Effect::Update(..) | Effect::Delete => when != When::NotMatched,
            Effect::Nothing => true,
        };
        if !fits {
            return Err(Error::new(
                Code::Syntax,
                format!("WHEN {clause_kind} cannot be followed by what it is followed by"),
            )
            .hint("rows of the table are updated or deleted, rows that only the source has are inserted"));
        }
        arms.push(Arm { when, predicate, effect });
    }
    let (name, alias) = target_of(ast::TableWithJoins { relation: table, joins: vec![] })?;
    let has = |when: When| arms.iter().any(|arm| arm.when == when);
    let kind = match (has(When::NotMatched), has(When::NotMatchedBySource)) {
        (false, false) => ast::JoinOperator::Inner,
        (true, false) => ast::JoinOperator::RightOuter,
        (false, true) => ast::JoinOperator::LeftOuter,
        (true, true) => ast::JoinOperator::FullOuter,
    };
    let predicates = arms.iter().filter_map(|arm| arm.predicate.clone());
    let values = arms.iter().flat_map(|arm| match &arm.effect {
        Effect::Update(_, values) | Effect::Insert(_, values) => values.clone(),
        Effect::Delete | Effect::Nothing => vec![],
    });
    let all = predicates.chain(values).map(ast::SelectItem::UnnamedExpr).collect();
    let source = match has(When::NotMatchedBySource) {
        true => with_mark(source)?,
        false => source,
    };
    let join = ast::Join { relation: source, global: false, join_operator: kind(ast::JoinConstraint::On(*on)) };
    // Checked with all that the arms say.
    let query = select_of((TARGET, vec![join]), &alias, all, None, vec![])?;
    Ok(change_of(name, alias, Action::Merge(arms), query, None))
}

/// The source with a column that all its rows have.
fn with_mark(source: ast::TableFactor) -> Result<ast::TableFactor> {
    let own = match &source {
        ast::TableFactor::Table { alias: Some(alias), .. }
        | ast::TableFactor::Derived { alias: Some(alias), .. }
        | ast::TableFactor::Function { alias: Some(alias), .. } => alias.name.clone(),
        ast::TableFactor::Table { name, alias: None, .. } => match name.0.last().and_then(|part| part.as_ident()) {
            Some(name) => name.clone(),
            None => return Err(Error::new(Code::Syntax, format!("\"{name}\" is no name of a table"))),
        },
        _ => return Err(Error::new(Code::Syntax, "the source of a MERGE needs a name").hint("write AS and a name")),
    };
    let text = format!("(SELECT true AS \"{HERE}\", * FROM t) AS t");
    let mut parser = Parser::new(&DIALECT).try_with_sql(&text).map_err(failed)?;
    let mut marked = parser.parse_table_factor().map_err(failed)?;
    if let ast::TableFactor::Derived { subquery, alias: Some(alias), .. } = &mut marked {
        alias.name = own;
        if let ast::SetExpr::Select(select) = subquery.body.as_mut() {
            select.from = vec![ast::TableWithJoins { relation: source, joins: vec![] }];
        }
    }
    Ok(marked)
}

fn effect(action: ast::MergeAction) -> Result<Effect> {
    let foreign = |found: bool, what: &str| match found {
        true => Err(Error::new(Code::Syntax, format!("{what} is not part of the language"))),
        false => Ok(()),
    };
    Ok(match action {
        ast::MergeAction::Insert(insert) => {
            let ast::MergeInsertExpr { insert_token: _, columns, kind_token: _, kind, insert_predicate } = insert;
            foreign(insert_predicate.is_some(), "WHERE after INSERT")?;
            let columns: Vec<SetColumn> = columns.iter().map(plain).collect::<Result<_>>()?;
            let ast::MergeInsertKind::Values(values) = kind else {
                return Err(Error::new(Code::Syntax, "INSERT of a MERGE takes VALUES with one row"));
            };
            let mut rows = values.rows;
            let (Some(row), true) = (rows.pop(), rows.is_empty()) else {
                return Err(Error::new(Code::Syntax, "INSERT of a MERGE takes VALUES with one row"));
            };
            let row = row.content;
            if !columns.is_empty() && columns.len() != row.len() {
                let what = format!("{} columns are named for {} values", columns.len(), row.len());
                return Err(Error::new(Code::Syntax, what).at(columns[0].1));
            }
            Effect::Insert(columns, row)
        }
        ast::MergeAction::Update(update) => {
            let ast::MergeUpdateExpr { update_token: _, kind, update_predicate, delete_predicate } = update;
            foreign(update_predicate.is_some() || delete_predicate.is_some(), "WHERE after SET")?;
            let ast::MergeUpdateKind::Set(assignments) = kind else {
                return Err(Error::new(Code::Syntax, "UPDATE of a MERGE takes SET with columns"));
            };
            let (set, values) = assigned(assignments)?;
            Effect::Update(set, values)
        }
        ast::MergeAction::Delete { delete_token: _ } => Effect::Delete,
        ast::MergeAction::DoNothing { .. } => Effect::Nothing,
    })
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
    action: Action,
    values: Vec<ast::Expr>,
    selection: Option<ast::Expr>,
    returning: Option<Vec<ast::SelectItem>>,
) -> Result<Change> {
    let (name, alias) = target_of(table)?;
    let values = values.into_iter().map(ast::SelectItem::UnnamedExpr).collect();
    let query = select_of((TARGET, vec![]), &alias, values, selection, from)?;
    let returning = returning.map(|items| self::returning(&alias, items)).transpose()?;
    Ok(change_of(name, alias, action, query, returning))
}

fn change_of(
    name: Vec<ast::Ident>,
    alias: ast::Ident,
    action: Action,
    query: Deep<ast::Query>,
    returning: Option<Deep<ast::Query>>,
) -> Change {
    Change {
        table: name.iter().map(folded).collect(),
        position: name.first().and_then(|part| position_of(part.span)),
        action,
        alias,
        query,
        returning,
    }
}

/// The name of the table that is changed, and what it is called in the statement.
fn target_of(table: ast::TableWithJoins) -> Result<(Vec<ast::Ident>, ast::Ident)> {
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
    Ok((parts.iter().map(|part| (*part).clone()).collect(), alias))
}

/// What RETURNING makes of the rows of a table that is known by this name.
pub(crate) fn returning(name: &ast::Ident, items: Vec<ast::SelectItem>) -> Result<Deep<ast::Query>> {
    select_of((RETURNED, vec![]), name, items, None, vec![])
}

/// The query of these items from the table of this name, known by the alias, with its joins, and whatever else there is.
fn select_of(
    (table, joins): (&str, Vec<ast::Join>),
    alias: &ast::Ident,
    items: Vec<ast::SelectItem>,
    selection: Option<ast::Expr>,
    from: Vec<ast::TableWithJoins>,
) -> Result<Deep<ast::Query>> {
    let mut parser = Parser::new(&DIALECT).try_with_sql("SELECT 1 FROM t AS t").map_err(failed)?;
    let mut query = Deep::new(*parser.parse_query().map_err(failed)?);
    if let ast::SetExpr::Select(select) = query.body.as_mut() {
        select.projection = items;
        select.selection = selection;
        if let Some(ast::TableWithJoins {
            relation: ast::TableFactor::Table { name, alias: own, .. },
            joins: own_joins,
        }) = select.from.first_mut()
        {
            *own_joins = joins;
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
