//! Takes a query's syntax tree apart before it is bound: every node, every field. A field is either read by the binder, and then
//! looked into here, or refused at its place. No pattern leaves a field out, so a parser that learns new clauses does not compile
//! until each of them is honoured or refused.

use cobble_types::deep::level;
use cobble_types::{Code, Error, Position, Result};
use sqlparser::ast::{self, Spanned};
use sqlparser::tokenizer::Span;

/// Checks that the query says nothing that the binder would leave out.
///
/// # Errors
/// At the place of the clause: a syntax error where PostgreSQL has no such clause, or that it is not supported.
pub(crate) fn check_query(query: &ast::Query) -> Result<()> {
    level(|| one_query(query))
}

/// Where something stands. The span of a node takes a walk through it: it is asked for only where an error needs it.
trait Standing: Copy {
    fn span_of(self) -> Span;
}

impl Standing for Span {
    fn span_of(self) -> Span {
        self
    }
}

impl<T: Spanned> Standing for &T {
    fn span_of(self) -> Span {
        self.span()
    }
}

fn place(standing: impl Standing) -> Option<Position> {
    let span = standing.span_of();
    (span.start.line > 0).then_some(Position { line: span.start.line, column: span.start.column })
}

/// A clause that PostgreSQL has and the engine has not.
fn unsupported(present: bool, what: &str, span: impl Standing) -> Result<()> {
    if present { Err(Error::unsupported(what).at(place(span))) } else { Ok(()) }
}

/// A clause that PostgreSQL has not, and what to write instead.
fn foreign(present: bool, what: &str, instead: &str, span: impl Standing) -> Result<()> {
    if !present {
        return Ok(());
    }
    let error = Error::new(Code::Syntax, format!("{what} is not part of the language")).at(place(span));
    Err(if instead.is_empty() { error } else { error.hint(instead) })
}

fn one_query(query: &ast::Query) -> Result<()> {
    let ast::Query {
        with,
        body,
        order_by,
        limit_clause,
        fetch,
        locks,
        for_clause,
        settings,
        format_clause,
        pipe_operators,
    } = query;
    let span = query;
    unsupported(!locks.is_empty(), "FOR UPDATE and FOR SHARE", span)?;
    foreign(for_clause.is_some(), "FOR XML and FOR JSON", "json_agg() makes JSON of rows", span)?;
    foreign(settings.is_some(), "SETTINGS", "write SET name = value before the query", span)?;
    foreign(format_clause.is_some(), "FORMAT", "", span)?;
    foreign(!pipe_operators.is_empty(), "the operator |>", "write the clauses in their usual order", span)?;
    if let Some(ast::With { with_token: _, recursive: _, cte_tables }) = with {
        cte_tables.iter().try_for_each(cte)?;
    }
    set_expr(body)?;
    if let Some(ast::OrderBy { kind, interpolate }) = order_by {
        foreign(interpolate.is_some(), "INTERPOLATE", "", span)?;
        match kind {
            ast::OrderByKind::All(_) => foreign(true, "ORDER BY ALL", "name the columns, or their places", span)?,
            ast::OrderByKind::Expressions(keys) => keys.iter().try_for_each(sort_key)?,
        }
    }
    let mut limited = false;
    match limit_clause {
        None => {}
        Some(ast::LimitClause::LimitOffset { limit, offset, limit_by }) => {
            foreign(!limit_by.is_empty(), "LIMIT … BY", "number the rows with row_number() and filter them", span)?;
            limited = limit.is_some();
            limit.iter().try_for_each(expr)?;
            if let Some(ast::Offset { value, rows }) = offset {
                match rows {
                    ast::OffsetRows::None | ast::OffsetRows::Row | ast::OffsetRows::Rows => expr(value)?,
                }
            }
        }
        Some(ast::LimitClause::OffsetCommaLimit { offset, limit }) => {
            let instead = format!("write LIMIT {limit} OFFSET {offset}");
            foreign(true, "LIMIT offset, count", &instead, offset)?;
        }
    }
    if let Some(ast::Fetch { with_ties: _, percent, quantity }) = fetch {
        foreign(*percent, "FETCH … PERCENT", "", span)?;
        quantity.iter().try_for_each(expr)?;
        if limited {
            return Err(Error::new(Code::Syntax, "the query has both LIMIT and FETCH").at(place(span)));
        }
    }
    Ok(())
}

fn cte(cte: &ast::Cte) -> Result<()> {
    let ast::Cte { alias, query, from, materialized, closing_paren_token: _ } = cte;
    foreign(from.is_some(), "FROM after a common table", "", alias.name.span)?;
    match materialized {
        None | Some(ast::CteAsMaterialized::Materialized | ast::CteAsMaterialized::NotMaterialized) => {}
    }
    plain_alias(alias)?;
    check_query(query)
}

fn set_expr(body: &ast::SetExpr) -> Result<()> {
    level(|| match body {
        ast::SetExpr::Select(select) => one_select(select),
        ast::SetExpr::Query(query) => check_query(query),
        ast::SetExpr::SetOperation { left, op, set_quantifier, right } => {
            match op {
                ast::SetOperator::Union | ast::SetOperator::Except | ast::SetOperator::Intersect => {}
                ast::SetOperator::Minus => foreign(true, "MINUS", "the standard's word is EXCEPT", right.as_ref())?,
            }
            match set_quantifier {
                ast::SetQuantifier::All | ast::SetQuantifier::Distinct | ast::SetQuantifier::None => {}
                ast::SetQuantifier::ByName | ast::SetQuantifier::AllByName | ast::SetQuantifier::DistinctByName => {
                    foreign(true, &format!("{op} … BY NAME"), "name the columns in one order", right.as_ref())?;
                }
            }
            set_expr(left)?;
            set_expr(right)
        }
        ast::SetExpr::Values(ast::Values { explicit_row, value_keyword, rows }) => {
            foreign(*explicit_row, "VALUES ROW (…)", "write VALUES (…)", body)?;
            foreign(*value_keyword, "VALUE", "the word is VALUES", body)?;
            rows.iter().flat_map(|row| &row.content).try_for_each(expr)
        }
        ast::SetExpr::Insert(_) | ast::SetExpr::Update(_) | ast::SetExpr::Delete(_) | ast::SetExpr::Merge(_) => {
            Err(Error::unsupported("a statement that changes rows inside a query").at(place(body)))
        }
        ast::SetExpr::Table(table) => {
            let ast::Table { table_name, schema_name } = table.as_ref();
            let name = schema_name.iter().chain(table_name).cloned().collect::<Vec<_>>().join(".");
            Err(Error::internal(format!("TABLE {name} was not spelled out")))
        }
    })
}

fn one_select(select: &ast::Select) -> Result<()> {
    let ast::Select {
        select_token,
        optimizer_hints,
        distinct,
        select_modifiers,
        top,
        top_before_distinct: _,
        projection,
        exclude,
        into,
        from,
        lateral_views,
        prewhere,
        selection,
        connect_by,
        group_by,
        cluster_by,
        distribute_by,
        sort_by,
        having,
        named_window,
        qualify,
        window_before_qualify: _,
        value_table_mode,
        flavor,
    } = select;
    let span = select_token.0.span;
    foreign(!optimizer_hints.is_empty(), "a hint in a comment", "SET planner.off switches rewrites off", span)?;
    foreign(top.is_some(), "SELECT TOP", "write LIMIT n after ORDER BY", span)?;
    foreign(exclude.is_some(), "SELECT … EXCLUDE", "name the columns that are wanted", span)?;
    foreign(!lateral_views.is_empty(), "LATERAL VIEW", "write unnest(…) in FROM", span)?;
    foreign(prewhere.is_some(), "PREWHERE", "the word is WHERE", span)?;
    foreign(!connect_by.is_empty(), "CONNECT BY", "write WITH RECURSIVE", span)?;
    foreign(!cluster_by.is_empty(), "CLUSTER BY", "", span)?;
    foreign(!distribute_by.is_empty(), "DISTRIBUTE BY", "", span)?;
    foreign(!sort_by.is_empty(), "SORT BY", "the words are ORDER BY", span)?;
    foreign(value_table_mode.is_some(), "SELECT AS STRUCT and SELECT AS VALUE", "write ROW(…)", span)?;
    if let Some(modifiers) = select_modifiers {
        let ast::SelectModifiers {
            high_priority,
            straight_join,
            sql_small_result,
            sql_big_result,
            sql_buffer_result,
            sql_no_cache,
            sql_calc_found_rows,
        } = modifiers;
        let any = [high_priority, straight_join, sql_small_result, sql_big_result, sql_buffer_result, sql_no_cache];
        let any = any.into_iter().chain([sql_calc_found_rows]).any(|set| *set);
        foreign(any, "a word between SELECT and its list", "", span)?;
    }
    if let Some(ast::SelectInto { temporary: _, unlogged: _, table: _, targets }) = into {
        let name = targets.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let span = targets.first().map_or(span, Spanned::span);
        let error = Error::unsupported("SELECT … INTO").hint(format!("write CREATE TABLE {name} AS SELECT …"));
        return Err(error.at(place(span)));
    }
    match flavor {
        ast::SelectFlavor::Standard => {}
        ast::SelectFlavor::FromFirst | ast::SelectFlavor::FromFirstNoSelect => {
            foreign(true, "FROM before SELECT", "SELECT stands first", span)?;
        }
    }
    match distinct {
        None | Some(ast::Distinct::All | ast::Distinct::Distinct) => {}
        Some(ast::Distinct::On(keys)) => keys.iter().try_for_each(expr)?,
    }
    projection.iter().try_for_each(item)?;
    from.iter().try_for_each(table_with_joins)?;
    selection.iter().chain(having).chain(qualify).try_for_each(expr)?;
    match group_by {
        ast::GroupByExpr::All(_) => foreign(true, "GROUP BY ALL", "name the keys, or their places", span)?,
        ast::GroupByExpr::Expressions(keys, modifiers) => {
            foreign(!modifiers.is_empty(), "GROUP BY … WITH", "write GROUP BY ROLLUP (…) or CUBE (…)", span)?;
            keys.iter().try_for_each(group_key)?;
        }
    }
    named_window.iter().try_for_each(|ast::NamedWindowDefinition(_, definition)| match definition {
        ast::NamedWindowExpr::NamedWindow(name) => {
            let instead = format!("write ({})", name.value);
            foreign(true, "a name alone as a window's definition", &instead, name.span)
        }
        ast::NamedWindowExpr::WindowSpec(spec) => window(spec),
    })
}

fn item(item: &ast::SelectItem) -> Result<()> {
    match item {
        ast::SelectItem::UnnamedExpr(e) | ast::SelectItem::ExprWithAlias { expr: e, alias: _ } => expr(e),
        ast::SelectItem::ExprWithAliases { expr, aliases: _ } => {
            foreign(true, "several names for one value", "name each value with AS", expr)
        }
        ast::SelectItem::QualifiedWildcard(kind, options) => {
            match kind {
                ast::SelectItemQualifiedWildcardKind::ObjectName(_) => {}
                ast::SelectItemQualifiedWildcardKind::Expr(e) => expr(e)?,
            }
            wildcard(options)
        }
        ast::SelectItem::Wildcard(options) => wildcard(options),
    }
}

fn wildcard(options: &ast::WildcardAdditionalOptions) -> Result<()> {
    let ast::WildcardAdditionalOptions {
        wildcard_token,
        opt_ilike,
        opt_exclude,
        opt_except,
        opt_replace,
        opt_rename,
        opt_alias,
    } = options;
    let more = [opt_exclude.is_some(), opt_except.is_some(), opt_replace.is_some(), opt_rename.is_some()];
    let any = opt_ilike.is_some() || opt_alias.is_some() || more.contains(&true);
    foreign(any, "a word after *", "name the columns that are wanted", wildcard_token.0.span)
}

fn table_with_joins(written: &ast::TableWithJoins) -> Result<()> {
    let ast::TableWithJoins { relation, joins } = written;
    table_factor(relation)?;
    for join in joins {
        let ast::Join { relation, global, join_operator } = join;
        foreign(*global, "GLOBAL", "", relation)?;
        table_factor(relation)?;
        use ast::JoinOperator as J;
        let (constraint, words) = match join_operator {
            J::Join(c) | J::Inner(c) => (c, "JOIN"),
            J::Left(c) | J::LeftOuter(c) => (c, "LEFT JOIN"),
            J::Right(c) | J::RightOuter(c) => (c, "RIGHT JOIN"),
            J::FullOuter(c) => (c, "FULL JOIN"),
            J::CrossJoin(c) => {
                foreign(*c != ast::JoinConstraint::None, "a condition of CROSS JOIN", "write JOIN … ON", relation)?;
                continue;
            }
            J::Semi(_) | J::LeftSemi(_) | J::RightSemi(_) => {
                foreign(true, "SEMI JOIN", "write WHERE EXISTS (SELECT …)", relation)?;
                continue;
            }
            J::Anti(_) | J::LeftAnti(_) | J::RightAnti(_) => {
                foreign(true, "ANTI JOIN", "write WHERE NOT EXISTS (SELECT …)", relation)?;
                continue;
            }
            J::CrossApply | J::OuterApply => {
                foreign(true, "APPLY", "write CROSS JOIN LATERAL, or LEFT JOIN LATERAL … ON true", relation)?;
                continue;
            }
            J::AsOf { match_condition: _, constraint: _ } => {
                foreign(true, "ASOF JOIN", "write LEFT JOIN LATERAL (… ORDER BY … LIMIT 1) ON true", relation)?;
                continue;
            }
            J::StraightJoin(_) => {
                foreign(
                    true,
                    "STRAIGHT_JOIN",
                    "write JOIN; SET planner.off = 'order-joins' keeps the order",
                    relation,
                )?;
                continue;
            }
            J::ArrayJoin | J::LeftArrayJoin | J::InnerArrayJoin => {
                foreign(true, "ARRAY JOIN", "write CROSS JOIN unnest(…)", relation)?;
                continue;
            }
        };
        match constraint {
            ast::JoinConstraint::On(e) => expr(e)?,
            ast::JoinConstraint::Using(_) | ast::JoinConstraint::Natural => {}
            ast::JoinConstraint::None => {
                return Err(Error::new(Code::Syntax, format!("{words} needs ON or USING"))
                    .hint("CROSS JOIN combines every row with every row")
                    .at(place(relation)));
            }
        }
    }
    Ok(())
}

fn plain_alias(alias: &ast::TableAlias) -> Result<()> {
    let ast::TableAlias { explicit: _, name, columns, at } = alias;
    foreign(at.is_some(), "AT after an alias", "WITH ORDINALITY numbers the rows of a function", name.span)?;
    for ast::TableAliasColumnDef { name, data_type } in columns {
        foreign(data_type.is_some(), "a type in a list of column names", "", name.span)?;
    }
    Ok(())
}

/// The alias of a function, which may give the columns of a record with their types.
fn record_alias(alias: &ast::TableAlias) -> Result<()> {
    let ast::TableAlias { explicit: _, name, columns: _, at } = alias;
    foreign(at.is_some(), "AT after an alias", "WITH ORDINALITY numbers the rows of a function", name.span)
}

fn table_factor(factor: &ast::TableFactor) -> Result<()> {
    let span = factor;
    match factor {
        ast::TableFactor::Table {
            name: _,
            alias,
            args,
            with_hints,
            version,
            with_ordinality,
            partitions,
            json_path,
            sample,
            index_hints,
        } => {
            foreign(!with_hints.is_empty(), "a hint for a table", "SET planner.off switches rewrites off", span)?;
            foreign(!index_hints.is_empty(), "a hint for an index", "", span)?;
            foreign(!partitions.is_empty(), "PARTITION (…) after a table", "a condition chooses partitions", span)?;
            foreign(json_path.is_some(), "a path after a table", "", span)?;
            unsupported(version.is_some() && args.is_some(), "a version of a function's rows", span)?;
            foreign(
                *with_ordinality && args.is_none(),
                "WITH ORDINALITY for a table",
                "number rows with row_number()",
                span,
            )?;
            match args {
                Some(ast::TableFunctionArgs { args, settings }) => {
                    foreign(settings.is_some(), "SETTINGS", "", span)?;
                    if let Some(sample) = sample {
                        not_a_table(sample, span)?;
                    }
                    args.iter().try_for_each(argument)?;
                    alias.iter().try_for_each(record_alias)
                }
                None => {
                    if let Some(kind) = sample {
                        let (ast::TableSampleKind::BeforeTableAlias(sample)
                        | ast::TableSampleKind::AfterTableAlias(sample)) = kind;
                        table_sample(sample, span)?;
                    }
                    alias.iter().try_for_each(plain_alias)
                }
            }
        }
        ast::TableFactor::Derived { lateral: _, subquery, alias, sample } => {
            if let Some(sample) = sample {
                not_a_table(sample, span)?;
            }
            alias.iter().try_for_each(plain_alias)?;
            check_query(subquery)
        }
        ast::TableFactor::TableFunction { expr: _, alias: _ } => {
            foreign(true, "TABLE(…) in FROM", "a function stands in FROM by its name", span)
        }
        ast::TableFactor::Function { lateral: _, name: _, args, with_ordinality: _, alias } => {
            alias.iter().try_for_each(record_alias)?;
            args.iter().try_for_each(argument)
        }
        ast::TableFactor::UNNEST { alias, array_exprs, with_offset, with_offset_alias, with_ordinality: _ } => {
            let offset = *with_offset || with_offset_alias.is_some();
            foreign(offset, "WITH OFFSET", "WITH ORDINALITY counts from one", span)?;
            alias.iter().try_for_each(plain_alias)?;
            array_exprs.iter().try_for_each(expr)
        }
        ast::TableFactor::JsonTable { json_expr, json_path: _, columns, alias } => {
            alias.iter().try_for_each(plain_alias)?;
            columns.iter().try_for_each(json_column)?;
            expr(json_expr)
        }
        ast::TableFactor::NestedJoin { table_with_joins: inner, alias } => {
            alias.iter().try_for_each(plain_alias)?;
            table_with_joins(inner)
        }
        ast::TableFactor::OpenJsonTable { json_expr: _, json_path: _, columns: _, alias: _ } => {
            foreign(true, "OPENJSON", "write JSON_TABLE, or jsonb_array_elements()", span)
        }
        ast::TableFactor::Pivot {
            table: _,
            aggregate_functions: _,
            value_column: _,
            value_source: _,
            default_on_null: _,
            alias: _,
        } => foreign(true, "PIVOT", "write an aggregate with FILTER (WHERE …) for each column", span),
        ast::TableFactor::Unpivot { table: _, value: _, name: _, columns: _, null_inclusion: _, alias: _ } => {
            foreign(true, "UNPIVOT", "write CROSS JOIN LATERAL (VALUES (…), (…))", span)
        }
        ast::TableFactor::UnpivotExpr { expression: _, value_alias: _, attribute_alias: _ } => {
            foreign(true, "UNPIVOT", "write CROSS JOIN LATERAL (VALUES (…), (…))", span)
        }
        ast::TableFactor::MatchRecognize {
            table: _,
            partition_by: _,
            order_by: _,
            measures: _,
            rows_per_match: _,
            after_match_skip: _,
            pattern: _,
            symbols: _,
            alias: _,
        } => unsupported(true, "MATCH_RECOGNIZE", span),
        ast::TableFactor::XmlTable { namespaces: _, row_expression: _, passing: _, columns: _, alias: _ } => {
            unsupported(true, "XMLTABLE", span)
        }
        ast::TableFactor::SemanticView { name: _, dimensions: _, metrics: _, facts: _, where_clause: _, alias: _ } => {
            foreign(true, "SEMANTIC_VIEW", "", span)
        }
    }
}

fn not_a_table(_: &ast::TableSampleKind, span: impl Standing) -> Result<()> {
    Err(Error::new(Code::WrongKind, "TABLESAMPLE is for tables")
        .hint("WHERE random() < 0.1 takes a part of any rows")
        .at(place(span)))
}

fn table_sample(sample: &ast::TableSample, span: impl Standing) -> Result<()> {
    let ast::TableSample { modifier, name, quantity, seed, bucket, offset } = sample;
    match modifier {
        ast::TableSampleModifier::TableSample => {}
        ast::TableSampleModifier::Sample => foreign(true, "SAMPLE", "write TABLESAMPLE BERNOULLI (percent)", span)?,
    }
    match name {
        Some(ast::TableSampleMethod::Bernoulli | ast::TableSampleMethod::System) => {}
        Some(ast::TableSampleMethod::Row | ast::TableSampleMethod::Block) | None => {
            foreign(true, "this method of TABLESAMPLE", "BERNOULLI takes rows, SYSTEM too", span)?;
        }
    }
    foreign(bucket.is_some(), "BUCKET", "", span)?;
    foreign(offset.is_some(), "OFFSET in TABLESAMPLE", "", span)?;
    if let Some(ast::TableSampleSeed { modifier: _, value: _ }) = seed {
        let error = Error::unsupported("REPEATABLE: rows come in no fixed order, so a sample cannot be drawn again");
        return Err(error.hint("keep the sample in a table, or filter by a key").at(place(span)));
    }
    match quantity {
        Some(ast::TableSampleQuantity { parenthesized: _, value, unit }) => {
            let rows = matches!(unit, Some(ast::TableSampleUnit::Rows));
            foreign(rows, "a number of rows in TABLESAMPLE", "it takes a percentage; LIMIT takes rows", span)?;
            foreign(unit.is_some(), "PERCENT", "the number alone is a percentage", span)?;
            expr(value)
        }
        None => foreign(true, "TABLESAMPLE without a percentage", "", span),
    }
}

fn json_column(column: &ast::JsonTableColumn) -> Result<()> {
    match column {
        ast::JsonTableColumn::Named(named) => {
            let ast::JsonTableNamedColumn { name: _, r#type: _, path: _, exists: _, on_empty, on_error } = named;
            for handling in on_empty.iter().chain(on_error) {
                match handling {
                    ast::JsonTableColumnErrorHandling::Null
                    | ast::JsonTableColumnErrorHandling::Default(_)
                    | ast::JsonTableColumnErrorHandling::Error => {}
                }
            }
            Ok(())
        }
        ast::JsonTableColumn::ForOrdinality(_) => Ok(()),
        ast::JsonTableColumn::Nested(ast::JsonTableNestedColumn { path: _, columns }) => {
            columns.iter().try_for_each(json_column)
        }
    }
}

fn sort_key(key: &ast::OrderByExpr) -> Result<()> {
    let ast::OrderByExpr { expr: e, options, with_fill } = key;
    foreign(with_fill.is_some(), "WITH FILL", "join with generate_series()", e)?;
    let ast::OrderByOptions { sort, nulls_first: _ } = options;
    match sort {
        None | Some(ast::OrderBySort::Asc | ast::OrderBySort::Desc | ast::OrderBySort::Using(_)) => expr(e),
    }
}

/// A key of GROUP BY, where ROLLUP, CUBE and GROUPING SETS may stand.
fn group_key(key: &ast::Expr) -> Result<()> {
    level(|| match key {
        ast::Expr::GroupingSets(sets) | ast::Expr::Cube(sets) | ast::Expr::Rollup(sets) => {
            sets.iter().flatten().try_for_each(group_key)
        }
        other => expr(other),
    })
}

fn window(spec: &ast::WindowSpec) -> Result<()> {
    let ast::WindowSpec { window_name: _, partition_by, order_by, window_frame } = spec;
    partition_by.iter().try_for_each(expr)?;
    order_by.iter().try_for_each(sort_key)?;
    if let Some(ast::WindowFrame { units, start_bound, end_bound }) = window_frame {
        match units {
            ast::WindowFrameUnits::Rows | ast::WindowFrameUnits::Range | ast::WindowFrameUnits::Groups => {}
        }
        for bound in std::iter::once(start_bound).chain(end_bound) {
            match bound {
                ast::WindowFrameBound::CurrentRow => {}
                ast::WindowFrameBound::Preceding(distance) | ast::WindowFrameBound::Following(distance) => {
                    distance.iter().try_for_each(|e| expr(e))?;
                }
            }
        }
    }
    Ok(())
}

fn function(call: &ast::Function) -> Result<()> {
    let ast::Function { name, uses_odbc_syntax, parameters, args, within_group, filter, null_treatment: _, over } =
        call;
    let span = name;
    foreign(*uses_odbc_syntax, "{fn …}", "call the function by its name", span)?;
    foreign(*parameters != ast::FunctionArguments::None, "a second list of arguments", "", span)?;
    within_group.iter().try_for_each(sort_key)?;
    filter.iter().try_for_each(|e| expr(e))?;
    match over {
        None | Some(ast::WindowType::NamedWindow(_)) => {}
        Some(ast::WindowType::WindowSpec(spec)) => window(spec)?,
    }
    match args {
        ast::FunctionArguments::None => Ok(()),
        ast::FunctionArguments::Subquery(query) => check_query(query),
        ast::FunctionArguments::List(list) => {
            let ast::FunctionArgumentList { duplicate_treatment: _, args, clauses } = list;
            args.iter().try_for_each(argument)?;
            clauses.iter().try_for_each(|clause| argument_clause(clause, span))
        }
    }
}

fn argument_clause(clause: &ast::FunctionArgumentClause, span: impl Standing) -> Result<()> {
    use ast::FunctionArgumentClause as C;
    match clause {
        C::IgnoreOrRespectNulls(_) => Ok(()),
        C::OrderBy(keys) => keys.iter().try_for_each(sort_key),
        C::JsonNullClause(ast::JsonNullClause::NullOnNull | ast::JsonNullClause::AbsentOnNull) => Ok(()),
        C::JsonReturningClause(ast::JsonReturningClause { data_type: _ }) => Ok(()),
        C::Where(_) => foreign(true, "WHERE inside a call", "write FILTER (WHERE …) behind it", span),
        C::Limit(_) => foreign(true, "LIMIT inside a call", "take a slice of the array", span),
        C::OnOverflow(_) => foreign(true, "ON OVERFLOW", "", span),
        C::Having(_) => foreign(true, "HAVING inside a call", "", span),
        C::Separator(_) => foreign(true, "SEPARATOR", "write string_agg(text, separator)", span),
    }
}

fn argument(argument: &ast::FunctionArg) -> Result<()> {
    match argument {
        ast::FunctionArg::Named { name, arg, operator } => {
            named_argument(operator, name.span)?;
            argument_value(arg)
        }
        ast::FunctionArg::ExprNamed { name, arg, operator } => {
            named_argument(operator, name)?;
            expr(name)?;
            argument_value(arg)
        }
        ast::FunctionArg::Unnamed(arg) => argument_value(arg),
    }
}

fn named_argument(operator: &ast::FunctionArgOperator, span: impl Standing) -> Result<()> {
    use ast::FunctionArgOperator as O;
    match operator {
        // The last two belong to JSON_OBJECT.
        O::RightArrow | O::Assignment | O::Colon | O::Value => Ok(()),
        O::Equals | O::Space => foreign(true, "this way to name an argument", "write name => value", span),
    }
}

fn argument_value(value: &ast::FunctionArgExpr) -> Result<()> {
    match value {
        ast::FunctionArgExpr::Expr(e) => expr(e),
        ast::FunctionArgExpr::QualifiedWildcard(_) | ast::FunctionArgExpr::Wildcard => Ok(()),
        ast::FunctionArgExpr::WildcardWithOptions(options) => {
            foreign(true, "a word after *", "", options.wildcard_token.0.span)
        }
    }
}

fn access(access: &ast::AccessExpr) -> Result<()> {
    match access {
        ast::AccessExpr::Dot(e) => expr(e),
        ast::AccessExpr::Subscript(ast::Subscript::Index { index }) => expr(index),
        ast::AccessExpr::Subscript(ast::Subscript::Slice { lower_bound, upper_bound, stride }) => {
            if let Some(stride) = stride {
                foreign(true, "the step of a slice", "", stride)?;
            }
            lower_bound.iter().chain(upper_bound).try_for_each(expr)
        }
    }
}

fn expr(written: &ast::Expr) -> Result<()> {
    level(|| one_expr(written))
}

fn all<'a>(parts: impl IntoIterator<Item = &'a ast::Expr>) -> Result<()> {
    parts.into_iter().try_for_each(expr)
}

fn one_expr(written: &ast::Expr) -> Result<()> {
    use ast::Expr as E;
    // The span of a deep expression is looked for only where something is refused.
    let refuse = |what: &str, instead: &str| foreign(true, what, instead, written);
    match written {
        E::Identifier(_) | E::CompoundIdentifier(_) => Ok(()),
        E::CompoundFieldAccess { root, access_chain } => {
            expr(root)?;
            access_chain.iter().try_for_each(access)
        }
        E::JsonAccess { value: _, path: _ } => refuse("a path behind a colon", "write document -> 'key'"),
        E::IsFalse(e)
        | E::IsNotFalse(e)
        | E::IsTrue(e)
        | E::IsNotTrue(e)
        | E::IsNull(e)
        | E::IsNotNull(e)
        | E::IsUnknown(e)
        | E::IsNotUnknown(e)
        | E::Nested(e) => expr(e),
        E::IsDistinctFrom(left, right) | E::IsNotDistinctFrom(left, right) => all([left.as_ref(), right.as_ref()]),
        E::IsJson { expr: _, kind: _, unique_keys: _, negated: _ } => unsupported(true, "IS JSON", written),
        E::IsNormalized { expr: e, form: _, negated: _ } => expr(e),
        E::InList { expr: e, list, negated: _ } => {
            expr(e)?;
            all(list)
        }
        E::InSubquery { expr: e, subquery, negated: _ } => {
            expr(e)?;
            check_query(subquery)
        }
        E::InUnnest { expr: _, array_expr: _, negated: _ } => refuse("IN UNNEST", "write = ANY (array)"),
        E::Between { expr, negated: _, low, high } => all([expr.as_ref(), low.as_ref(), high.as_ref()]),
        E::BinaryOp { left, op: _, right } => all([left.as_ref(), right.as_ref()]),
        E::Like { negated: _, any, expr, pattern, escape_char }
        | E::ILike { negated: _, any, expr, pattern, escape_char } => {
            if *any {
                return Err(Error::internal("LIKE ANY was read as another form"));
            }
            all([expr.as_ref(), pattern.as_ref()])?;
            all(escape_char.as_deref())
        }
        E::SimilarTo { negated: _, expr, pattern, escape_char } => {
            all([expr.as_ref(), pattern.as_ref()])?;
            all(escape_char.as_deref())
        }
        E::RLike { negated: _, expr: _, pattern: _, regexp: _ } => refuse("RLIKE", "regular expressions match with ~"),
        E::AnyOp { left, compare_op: _, right, is_some: _ } => all([left.as_ref(), right.as_ref()]),
        E::AllOp { left, compare_op: _, right } => all([left.as_ref(), right.as_ref()]),
        E::UnaryOp { op: _, expr: e } => expr(e),
        E::Convert { is_try: _, expr: _, data_type: _, charset: _, target_before_value: _, styles: _ } => {
            refuse("CONVERT", "write CAST (value AS type)")
        }
        E::Cast { kind, expr: e, data_type: _, format } => {
            match kind {
                ast::CastKind::Cast | ast::CastKind::DoubleColon => {}
                ast::CastKind::TryCast | ast::CastKind::SafeCast => {
                    return refuse("a cast that gives null where it fails", "test the text with ~ in a CASE first");
                }
            }
            foreign(format.is_some(), "FORMAT in a cast", "write to_char(), to_date() or to_timestamp()", e.as_ref())?;
            expr(e)
        }
        E::AtTimeZone { timestamp, time_zone } => all([timestamp.as_ref(), time_zone.as_ref()]),
        E::Extract { field: _, syntax, expr: e } => {
            match syntax {
                ast::ExtractSyntax::From => {}
                ast::ExtractSyntax::Comma => return refuse("a comma in EXTRACT", "write extract(part FROM time)"),
            }
            expr(e)
        }
        E::Ceil { expr: e, field } | E::Floor { expr: e, field } => {
            match field {
                ast::CeilFloorKind::DateTimeField(ast::DateTimeField::NoDateTime) => {}
                ast::CeilFloorKind::DateTimeField(_) => return refuse("TO in ceil and floor", "write date_trunc()"),
                ast::CeilFloorKind::Scale(_) => return refuse("a scale of ceil and floor", "write round() or trunc()"),
            }
            expr(e)
        }
        E::Position { expr, r#in } => all([expr.as_ref(), r#in.as_ref()]),
        E::Substring { expr: e, substring_from, substring_for, special: _, shorthand: _ } => {
            expr(e)?;
            all(substring_from.as_deref().into_iter().chain(substring_for.as_deref()))
        }
        E::Trim { trim_where, trim_what, expr: e, trim_characters } => {
            match trim_where {
                None
                | Some(ast::TrimWhereField::Both | ast::TrimWhereField::Leading | ast::TrimWhereField::Trailing) => {}
            }
            if trim_characters.as_ref().is_some_and(|all| all.len() > 1) {
                return refuse("a third argument of trim()", "");
            }
            expr(e)?;
            all(trim_what.as_deref().into_iter().chain(trim_characters.iter().flatten()))
        }
        E::Overlay { expr, overlay_what, overlay_from, overlay_for } => {
            all([expr.as_ref(), overlay_what.as_ref(), overlay_from.as_ref()])?;
            all(overlay_for.as_deref())
        }
        E::Collate { expr: e, collation: _ } => expr(e),
        E::Value(value) => literal(value),
        E::Prefixed { prefix, value: _ } => {
            refuse(&format!("{} before a text", prefix.value), "write the text alone; texts are UTF-8")
        }
        E::TypedString(ast::TypedString { data_type: _, value, uses_odbc_syntax }) => {
            foreign(*uses_odbc_syntax, "{d …}", "write date '…'", value.span)?;
            literal(value)
        }
        E::Function(call) => function(call),
        E::Case { case_token: _, end_token: _, operand, conditions, else_result } => {
            all(operand.as_deref().into_iter().chain(else_result.as_deref()))?;
            conditions.iter().try_for_each(|ast::CaseWhen { condition, result }| all([condition, result]))
        }
        E::Exists { subquery, negated: _ } | E::Subquery(subquery) => check_query(subquery),
        E::GroupingSets(_) | E::Cube(_) | E::Rollup(_) => {
            let error = Error::new(Code::Syntax, "GROUPING SETS, CUBE and ROLLUP belong in GROUP BY");
            Err(error.at(place(written)))
        }
        E::Tuple(parts) => all(parts),
        E::Struct { values: _, fields: _ } => refuse("STRUCT", "write ROW(…)"),
        E::Named { expr: _, name: _ } => refuse("a name inside an expression", ""),
        E::Dictionary(_) => refuse("a dictionary in braces", "write json_build_object()"),
        E::Map(_) => refuse("MAP", "write json_build_object()"),
        E::Array(ast::Array { elem, named }) => {
            if !named {
                return refuse("[…] alone", "write ARRAY[…]");
            }
            array_items(elem)
        }
        E::Interval(interval) => {
            let ast::Interval { value, leading_field, leading_precision, last_field: _, fractional_seconds_precision } =
                interval;
            // Seconds alone have digits; as the first field they are the parser's leading one.
            let of_seconds = matches!(leading_field, Some(ast::DateTimeField::Second | ast::DateTimeField::Seconds));
            let misplaced = leading_precision.is_some() && !of_seconds;
            foreign(misplaced, "a number of digits of what is no second", "", written)?;
            let given = leading_precision.or(*fractional_seconds_precision);
            foreign(given.is_some_and(|digits| digits > 6), "more than 6 digits of a second", "", written)?;
            expr(value)
        }
        E::MatchAgainst { columns: _, match_value: _, opt_search_modifier: _ } => {
            refuse("MATCH … AGAINST", "texts are searched with LIKE and ~")
        }
        E::Wildcard(token) => foreign(true, "* in an expression", "", token.0.span),
        E::QualifiedWildcard(_, _) => Ok(()),
        E::OuterJoin(_) => refuse("(+)", "write LEFT JOIN"),
        E::Prior(_) => refuse("PRIOR", "write WITH RECURSIVE"),
        E::Lambda(_) => refuse("a lambda", ""),
        E::MemberOf(_) => refuse("MEMBER OF", "write = ANY (array)"),
    }
}

/// The items of an array; the arrays among them are written without the word.
fn array_items(items: &[ast::Expr]) -> Result<()> {
    items.iter().try_for_each(|item| match item {
        ast::Expr::Array(ast::Array { elem, named: false }) => level(|| array_items(elem)),
        other => expr(other),
    })
}

fn literal(value: &ast::ValueWithSpan) -> Result<()> {
    use ast::Value as V;
    let ast::ValueWithSpan { value, span } = value;
    match value {
        V::Number(_, long) => foreign(*long, "L behind a number", "", *span),
        V::SingleQuotedString(_)
        | V::DollarQuotedString(_)
        | V::EscapedStringLiteral(_)
        | V::UnicodeStringLiteral(_)
        | V::NationalStringLiteral(_)
        | V::Boolean(_)
        | V::Null
        | V::Placeholder(_) => Ok(()),
        V::SingleQuotedByteStringLiteral(_) | V::HexStringLiteral(_) => unsupported(true, "a bit string", *span),
        V::TripleSingleQuotedString(_)
        | V::TripleDoubleQuotedString(_)
        | V::DoubleQuotedByteStringLiteral(_)
        | V::TripleSingleQuotedByteStringLiteral(_)
        | V::TripleDoubleQuotedByteStringLiteral(_)
        | V::SingleQuotedRawStringLiteral(_)
        | V::DoubleQuotedRawStringLiteral(_)
        | V::TripleSingleQuotedRawStringLiteral(_)
        | V::TripleDoubleQuotedRawStringLiteral(_)
        | V::QuoteDelimitedStringLiteral(_)
        | V::NationalQuoteDelimitedStringLiteral(_)
        | V::DoubleQuotedString(_) => foreign(true, "this way to write a text", "write '…' or $$…$$", *span),
    }
}
