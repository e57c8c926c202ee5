//! Functions that make rows, in FROM and in the list of a SELECT.

use cobble_functions::Function;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::LogicalPlan;
use cobble_plan::{RowMaker, TableFunction};
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast;

use super::query::scope_of;
use super::scope::Scope;
use super::types::sql_type;
use super::{Binder, Relation, folded, position_of, variadic};
use super::{native_query, rows_at};
use crate::coerce::{coerce, is_untyped};
use crate::reworded::rows_from;

/// A function's call in FROM, with the names and types that its alias gives.
pub(super) struct FunctionInFrom<'a> {
    pub name: String,
    pub arguments: &'a [ast::FunctionArg],
    pub alias: &'a Option<ast::TableAlias>,
}

/// Functions whose columns the alias gives.
const RECORDS: [&str; 4] = ["json_to_record", "jsonb_to_record", "json_to_recordset", "jsonb_to_recordset"];

impl<'a> Binder<'a> {
    /// A function in FROM; its arguments may use what stands before it.
    pub(super) fn function_in_from(
        &mut self,
        call: &FunctionInFrom<'a>,
        ordinality: bool,
        before: &Scope,
    ) -> Result<Relation> {
        let (name, arguments) = (call.name.as_str(), call.arguments);
        let typed = call.alias.iter().flat_map(|alias| &alias.columns).find(|c| c.data_type.is_some());
        if RECORDS.contains(&name) {
            return self.record_of(call, ordinality, before);
        }
        if let Some(column) = typed {
            return Err(Error::new(Code::Syntax, format!("{name}() has types of its own for its columns"))
                .at(position_of(column.name.span)));
        }
        if name == rows_from::NAME {
            return self.rows_from(arguments, ordinality, before);
        }
        let Some(function) = TableFunction::by_name(name) else {
            if MADE_OF_OTHERS.contains(&name) {
                let (made, one_row) = self.arguments_within(before, |binder| {
                    let arguments = binder.plain_arguments(name, arguments, &Scope::default())?;
                    made_of(name, &arguments)
                })?;
                if let Some((function, arguments)) = made {
                    let rows = self.rows_of(function, arguments, one_row, ordinality)?;
                    return Ok(Relation { scope: rows.scope.with_qualifier(name, &[])?, ..rows });
                }
            }
            // Any function may stand in FROM: it makes one row.
            if Function::callable(name).is_some() || self.context.functions.contains_key(name) {
                return self.one_row_of(call, ordinality, before);
            }
            let known =
                TableFunction::ALL.iter().map(|f| f.name()).chain([native_query::NAME, rows_at::NAME]).chain(RECORDS);
            let known: Vec<&str> = known.collect();
            return Err(Error::unknown("function", name, known));
        };
        let (arguments, one_row) =
            self.arguments_within(before, |binder| binder.plain_arguments(name, arguments, &Scope::default()))?;
        self.rows_of(function, arguments, one_row, ordinality)
    }

    /// A function of one value as a table of one row.
    fn one_row_of(&mut self, call: &FunctionInFrom<'a>, ordinality: bool, before: &Scope) -> Result<Relation> {
        let name = call.name.as_str();
        let (value, one_row) = self.arguments_within(before, |binder| {
            let arguments = binder.plain_arguments(name, call.arguments, &Scope::default())?;
            binder.call_by_name(name, arguments)
        })?;
        let column = self.new_column(None, name, value.sql_type());
        let mut columns = vec![(column, value)];
        if ordinality {
            columns.push((self.new_column(None, "ordinality", SqlType::BigInt), Expr::literal(Value::BigInt(1))));
        }
        let made: Vec<Column> = columns.iter().map(|(column, _)| column.clone()).collect();
        let plan = LogicalPlan::Project { input: one_row.into(), columns };
        Ok(Relation { plan, scope: scope_of(&made).with_qualifier(name, &[])? })
    }

    /// `jsonb_to_record(document) AS x(a int, b text)`, and `…_recordset` for each object of an array: the members that the alias
    /// names, as values of its types (PostgreSQL manual 9.16).
    fn record_of(&mut self, call: &FunctionInFrom<'a>, ordinality: bool, before: &Scope) -> Result<Relation> {
        let name = call.name.as_str();
        let alias = call.alias.as_ref().filter(|alias| !alias.columns.is_empty());
        let Some(alias) = alias else {
            return Err(Error::new(Code::Syntax, format!("{name}() needs the columns that it makes"))
                .hint(format!("write for example {name}(document) AS x(id integer, name text)")));
        };
        let mut wanted = Vec::new();
        for column in &alias.columns {
            let Some(written) = &column.data_type else {
                return Err(Error::new(Code::Syntax, format!("the column \"{}\" needs a type", column.name.value))
                    .at(position_of(column.name.span)));
            };
            wanted.push((folded(&column.name), sql_type(written)?));
        }
        let (arguments, one_row) =
            self.arguments_within(before, |binder| binder.plain_arguments(name, call.arguments, &Scope::default()))?;
        let relation = match name.ends_with("set") {
            true => self.rows_of(TableFunction::JsonArrayElements, arguments, one_row, ordinality)?,
            false => {
                let [document]: [Expr; 1] = arguments
                    .try_into()
                    .map_err(|_| Error::new(Code::UnknownFunction, format!("{name}() takes one document")))?;
                let document = if is_untyped(&document) { coerce(document, &SqlType::Json)? } else { document };
                let column = self.new_column(None, "value", document.sql_type());
                let plan = LogicalPlan::Project { input: one_row.into(), columns: vec![(column.clone(), document)] };
                Relation { plan, scope: scope_of(&[column]) }
            }
        };
        let own = relation.plan.columns();
        let Some((document, rest)) = own.split_first() else {
            return Err(Error::internal("a document without a column"));
        };
        let record = crate::function::call(Function::JsonRecord, vec![Expr::Column(document.clone())])?;
        let mut columns = Vec::new();
        for (name, sql_type) in wanted {
            let key = Expr::literal(Value::Text(name.clone()));
            let member = |f| crate::function::call(f, vec![record.clone(), key.clone()]);
            let value = match &sql_type {
                SqlType::Json => member(Function::JsonGet)?,
                SqlType::Array(_) => super::cast::cast(member(Function::JsonGet)?, &sql_type)?,
                _ => super::cast::cast(member(Function::JsonGetText)?, &sql_type)?,
            };
            columns.push((self.new_column(None, name, sql_type), value));
        }
        for number in rest {
            columns.push((self.new_column(None, "ordinality", SqlType::BigInt), Expr::Column(number.clone())));
        }
        let made: Vec<Column> = columns.iter().map(|(column, _)| column.clone()).collect();
        let plan = LogicalPlan::Project { input: relation.plan.into(), columns };
        Ok(Relation { plan, scope: scope_of(&made).with_qualifier(name, &[])? })
    }

    /// `ROWS FROM (f(…), g(…))`: their rows side by side, the shorter ones filled with nulls.
    fn rows_from(&mut self, calls: &'a [ast::FunctionArg], ordinality: bool, before: &Scope) -> Result<Relation> {
        let (makers, one_row) = self.arguments_within(before, |binder| {
            let mut makers = Vec::new();
            for call in calls {
                let ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(ast::Expr::Function(call))) = call else {
                    return Err(Error::new(Code::Syntax, format!("ROWS FROM takes calls of functions, not {call}")));
                };
                let name =
                    call.name.0.iter().filter_map(|part| part.as_ident().map(folded)).collect::<Vec<_>>().join(".");
                let list: &'a [ast::FunctionArg] = match &call.args {
                    ast::FunctionArguments::List(list) => &list.args,
                    _ => &[],
                };
                let arguments = binder.plain_arguments(&name, list, &Scope::default())?;
                let (function, arguments) = match TableFunction::by_name(&name) {
                    Some(function) => (function, arguments),
                    None => match made_of(&name, &arguments)? {
                        Some(made) => made,
                        // A function of one value makes one row.
                        None => {
                            let value = binder.call_by_name(&name, arguments)?;
                            if matches!(value.sql_type(), SqlType::Array(_)) {
                                let what = format!("{name}() in ROWS FROM, as it gives an array,");
                                return Err(Error::unsupported(what).hint("unnest() makes rows of its items"));
                            }
                            (TableFunction::Unnest, vec![crate::function::call(Function::MakeArray, vec![value])?])
                        }
                    },
                };
                let (arguments, mut columns) = binder.typed_expansion(function, arguments)?;
                if let [only] = columns.as_mut_slice() {
                    only.name = name;
                }
                makers.push(RowMaker { function, arguments, columns });
            }
            Ok(makers)
        })?;
        self.numbered(makers, one_row, "rows", ordinality)
    }

    /// `one_row` is what the arguments are computed of.
    pub(super) fn rows_of(
        &mut self,
        function: TableFunction,
        arguments: Vec<Expr>,
        one_row: LogicalPlan,
        ordinality: bool,
    ) -> Result<Relation> {
        let (arguments, columns) = self.typed_expansion(function, arguments)?;
        self.numbered(vec![RowMaker { function, arguments, columns }], one_row, function.name(), ordinality)
    }

    fn numbered(
        &mut self,
        makers: Vec<RowMaker>,
        one_row: LogicalPlan,
        name: &str,
        ordinality: bool,
    ) -> Result<Relation> {
        let mut all: Vec<Column> = makers.iter().flat_map(|maker| maker.columns.clone()).collect();
        let mut plan = LogicalPlan::Expand { input: one_row.into(), makers, outer: false };
        if ordinality {
            let number = self.new_column(None, "ordinality", SqlType::BigInt);
            let call = super::window::ranking(cobble_plan::Ranking::RowNumber);
            plan = LogicalPlan::Window {
                input: plan.into(),
                partition: vec![],
                order: vec![],
                calls: vec![(number.clone(), call)],
            };
            all.push(number);
        }
        let scope = scope_of(&all).with_qualifier(name, &[])?;
        Ok(Relation { plan, scope })
    }

    /// A table function in a SELECT list: the input row is repeated for each row it makes. Several run in step, the shorter
    /// ones filled with nulls (PostgreSQL manual 38.5.9).
    pub(super) fn function_in_select(&mut self, function: TableFunction, arguments: Vec<Expr>) -> Result<Expr> {
        let (arguments, columns) = self.typed_expansion(function, arguments)?;
        let [column] = columns.as_slice() else {
            return Err(Error::unsupported(format_args!(
                "{} outside FROM, as it has several columns",
                function.name()
            )));
        };
        let value = Expr::Column(column.clone());
        match &mut self.select {
            Some(select) if select.windows_allowed => {
                select.expansions.push(RowMaker { function, arguments, columns });
                Ok(value)
            }
            _ => Err(Error::new(Code::Grouping, format!("{}() makes rows and cannot stand here", function.name()))
                .hint("it belongs in FROM or in the list of SELECT")),
        }
    }

    pub(super) fn plain_arguments(
        &mut self,
        name: &str,
        list: &'a [ast::FunctionArg],
        scope: &Scope,
    ) -> Result<Vec<Expr>> {
        let mut arguments = Vec::new();
        for argument in list {
            match argument {
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(ast::Expr::Function(call)))
                    if variadic::is_mark(call) =>
                {
                    let array = self.variadic_array(call, scope)?;
                    arguments = variadic::spread(name, arguments, array)?;
                }
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(expr)) => arguments.push(self.expr(expr, scope)?),
                _ => return Err(Error::unsupported(format_args!("the argument {argument} of {name}()"))),
            }
        }
        Ok(arguments)
    }

    fn typed_expansion(
        &mut self,
        function: TableFunction,
        mut arguments: Vec<Expr>,
    ) -> Result<(Vec<Expr>, Vec<Column>)> {
        let entry = function.entry();
        if !entry.callable {
            return Err(Error::new(Code::Syntax, "JSON_TABLE belongs in FROM")
                .hint("as in JSON_TABLE(document, '$[*]' COLUMNS (name text PATH '$.name'))"));
        }
        if function == TableFunction::Unnest {
            // All items of all dimensions, one after another.
            for argument in &mut arguments {
                while matches!(argument.sql_type(), SqlType::Array(item) if matches!(*item, SqlType::Array(_))) {
                    *argument = crate::function::call(Function::ArrayFlatten, vec![argument.clone()])?;
                }
            }
        }
        let found = function.overload(arguments.iter().map(Expr::sql_type)).ok_or_else(|| {
            let given: Vec<String> = arguments.iter().map(|a| a.sql_type().to_string()).collect();
            Error::new(Code::UnknownFunction, format!("{}({}) does not exist", entry.name, given.join(", ")))
                .hint(format!("it is called as {}({})", entry.name, entry.arguments))
        })?;
        let columns = (entry.columns)(&found.arguments, &found.returns);
        let columns = columns.into_iter().map(|(name, t)| self.new_column(None, name, t)).collect();
        Ok((crate::function::coerced(arguments, &found.arguments)?, columns))
    }
}

/// Functions that make rows as others do of other arguments.
const MADE_OF_OTHERS: &[&str] = &["string_to_table", "generate_subscripts"];

/// What such a function is, by its name; nothing for others.
pub(super) fn made_of(name: &str, arguments: &[Expr]) -> Result<Option<(TableFunction, Vec<Expr>)>> {
    let whole = |n: i32| Expr::literal(Value::Integer(n));
    Ok(match (name, arguments) {
        ("string_to_table", arguments) => {
            let parts = crate::function::call(Function::StringToArray, arguments.to_vec())?;
            Some((TableFunction::Unnest, vec![parts]))
        }
        ("generate_subscripts", [array, dimension, reverse @ ..]) => {
            let last = crate::function::call(Function::ArrayLength, vec![array.clone(), dimension.clone()])?;
            let backwards = match reverse {
                [] => false,
                [Expr::Literal { value: Value::Boolean(backwards), .. }] => *backwards,
                _ => return Err(Error::unsupported("generate_subscripts() whose direction is not a constant")),
            };
            let arguments = if backwards { vec![last, whole(1), whole(-1)] } else { vec![whole(1), last] };
            Some((TableFunction::GenerateSeries, arguments))
        }
        _ => None,
    })
}
