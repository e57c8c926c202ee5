//! Calls of functions that give one value: which function a name means, how its arguments are named, and what is a constant of
//! the statement.

use cobble_functions::Function;
use cobble_plan::aggregate::AggregateFunction;
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::{Ranking, TableFunction};
use cobble_types::{Code, Error, Result, SqlType, Value};
use sqlparser::ast::{self, Spanned};

use super::scope::Scope;
use super::types::sql_type;
use super::{Binder, folded, position_of};
use crate::coerce::{binary, coerce, settle, unify};
use crate::function;

/// What other dialects call a function, and what it is called here.
const ELSEWHERE: &[(&str, &str)] = &[
    ("nvl", "coalesce(value, otherwise)"),
    ("ifnull", "coalesce(value, otherwise)"),
    ("isnull", "value IS NULL, or coalesce(value, otherwise)"),
    ("nvl2", "CASE WHEN value IS NOT NULL THEN … ELSE … END"),
    ("iif", "CASE WHEN condition THEN … ELSE … END"),
    ("if", "CASE WHEN condition THEN … ELSE … END"),
    ("datediff", "the difference of two dates: later - earlier"),
    ("date_diff", "the difference of two dates: later - earlier"),
    ("timestampdiff", "extract(epoch FROM later - earlier), or age()"),
    ("dateadd", "date + interval '1 day'"),
    ("date_add", "date + interval '1 day'"),
    ("date_sub", "date - interval '1 day'"),
    ("adddate", "date + interval '1 day'"),
    ("getdate", "now()"),
    ("sysdate", "now()"),
    ("curdate", "current_date"),
    ("curtime", "localtime"),
    ("datepart", "extract(part FROM time)"),
    ("year", "extract(year FROM time)"),
    ("month", "extract(month FROM time)"),
    ("day", "extract(day FROM time)"),
    ("hour", "extract(hour FROM time)"),
    ("minute", "extract(minute FROM time)"),
    ("second", "extract(second FROM time)"),
    ("quarter", "extract(quarter FROM time)"),
    ("week", "extract(week FROM time)"),
    ("dayofweek", "extract(dow FROM time)"),
    ("dayofyear", "extract(doy FROM time)"),
    ("last_day", "date_trunc('month', date) + interval '1 month - 1 day'"),
    ("months_between", "age(later, earlier)"),
    ("add_months", "date + interval '1 month'"),
    ("date_format", "to_char(time, 'YYYY-MM-DD')"),
    ("strftime", "to_char(time, 'YYYY-MM-DD')"),
    ("str_to_date", "to_date(text, 'YYYY-MM-DD')"),
    ("to_varchar", "to_char(value, format), or value::text"),
    ("from_unixtime", "to_timestamp(seconds)"),
    ("unix_timestamp", "extract(epoch FROM time)"),
    ("len", "length(text)"),
    ("lcase", "lower(text)"),
    ("ucase", "upper(text)"),
    ("instr", "strpos(text, part)"),
    ("charindex", "strpos(text, part)"),
    ("locate", "strpos(text, part)"),
    ("mid", "substring(text, start, count)"),
    ("replicate", "repeat(text, count)"),
    ("space", "repeat(' ', count)"),
    ("stuff", "overlay(text PLACING part FROM start FOR count)"),
    ("group_concat", "string_agg(text, ',')"),
    ("listagg", "string_agg(text, ',' ORDER BY …)"),
    ("wm_concat", "string_agg(text, ',')"),
    ("array_size", "cardinality(array)"),
    ("size", "cardinality(array)"),
    ("list_contains", "item = ANY (array)"),
    ("array_contains", "item = ANY (array)"),
    ("explode", "unnest(array)"),
    ("flatten", "unnest(array)"),
    ("split", "string_to_array(text, separator)"),
    ("parse_json", "text::json"),
    ("json_extract", "document -> 'key', or json_extract_path(document, 'key')"),
    ("get_json_object", "document ->> 'key'"),
    ("json_extract_scalar", "document ->> 'key'"),
    ("truncate", "trunc(number, digits)"),
    ("rand", "random()"),
    ("newid", "gen_random_uuid()"),
    ("uuid", "gen_random_uuid()"),
    ("median", "percentile_cont(0.5) WITHIN GROUP (ORDER BY value)"),
    ("first", "first_value() over a window, or (array_agg(value ORDER BY …))[1]"),
    ("last", "last_value() over a window, or (array_agg(value ORDER BY … DESC))[1]"),
    ("any_value", "min(value)"),
    ("countif", "count(*) FILTER (WHERE condition)"),
    ("count_if", "count(*) FILTER (WHERE condition)"),
    ("sumif", "sum(value) FILTER (WHERE condition)"),
    ("to_double", "value::double precision"),
    ("toint", "value::integer"),
    ("hex", "to_hex(number), or encode(bytes, 'hex')"),
];

/// That a function of another dialect has another name here.
fn called_here(name: &str) -> Option<Error> {
    let (_, here) = ELSEWHERE.iter().find(|(elsewhere, _)| *elsewhere == name)?;
    let error = Error::new(Code::UnknownFunction, format!("there is no function named \"{name}\""));
    Some(error.hint(format!("here it is {here}")))
}

impl<'a> Binder<'a> {
    fn is_known(&self, function: &str) -> bool {
        self.context.functions.contains_key(function) || Function::callable(function).is_some()
    }

    pub(super) fn call(&mut self, call: &'a ast::Function, scope: &Scope) -> Result<Expr> {
        let mut parts: Vec<String> = call.name.0.iter().filter_map(|p| p.as_ident().map(folded)).collect();
        // PostgreSQL's own functions live in a schema that is always looked into.
        if parts.len() == 2 && parts[0] == "pg_catalog" {
            parts.remove(0);
        }
        let name = parts.join(".");
        let (list, distinct): (&'a [ast::FunctionArg], bool) = match &call.args {
            ast::FunctionArguments::None => (&[], false),
            ast::FunctionArguments::Subquery(query) if name == "array" => return self.array_of_rows(query, scope),
            ast::FunctionArguments::Subquery(_) => {
                return Err(Error::new(Code::Syntax, "a subquery as an argument stands in parentheses of its own"));
            }
            ast::FunctionArguments::List(list) => {
                (&list.args, matches!(list.duplicate_treatment, Some(ast::DuplicateTreatment::Distinct)))
            }
        };
        if let Some(over) = &call.over {
            return self.window_call(&name, call, over, list, scope);
        }
        if let Some(function) = AggregateFunction::by_name(&name) {
            return self.aggregate(function, call, list, scope);
        }
        if let Some(function) = Ranking::by_name(&name) {
            if !call.within_group.is_empty() {
                return self.hypothetical(function, call, list, scope);
            }
            return Err(Error::new(Code::WrongKind, format!("{name}() is a window function"))
                .hint("say over which rows, such as OVER (ORDER BY …)"));
        }
        if super::window::null_treatment(call).is_some() {
            return Err(super::window::nulls_are_not_passed_over(&name, call));
        }
        if distinct || call.filter.is_some() || !call.within_group.is_empty() {
            return Err(Error::new(
                Code::WrongKind,
                format!("{name} is not an aggregate: DISTINCT, FILTER and WITHIN GROUP have no meaning"),
            )
            .at(position_of(call.name.span())));
        }
        if let Some(made) = self.json_constructor(&name, call, list, scope)? {
            return Ok(made);
        }
        if name == "grouping" {
            return self.grouping_call(list, scope);
        }
        let arguments = match list {
            // The form is written as a word of the language.
            [
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(operand)),
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(ast::Expr::Identifier(form))),
            ] if name == "normalize" && form.quote_style.is_none() => {
                vec![self.expr(operand, scope)?, Expr::literal(Value::Text(form.value.to_uppercase()))]
            }
            _ => self.named_arguments(&name, list, scope).map_err(|error| match called_here(&name) {
                // Words such as the "day" of another dialect's function are no columns.
                Some(elsewhere) if error.code == Code::UnknownName && !self.is_known(&name) => elsewhere,
                _ => error,
            })?,
        };
        if let Some(constant) = self.constant_of_statement(&name, &arguments)? {
            return Ok(constant);
        }
        if let ast::FunctionArguments::List(written) = &call.args
            && let Some(clause) = written.clauses.first()
        {
            return match (Function::callable(&name), clause) {
                (Some(Function::JsonValue), ast::FunctionArgumentClause::JsonReturningClause(returning)) => {
                    match function::call(Function::JsonValue, arguments)? {
                        Expr::Call { function, arguments, .. } => {
                            Ok(Expr::Call { function, arguments, sql_type: sql_type(&returning.data_type)? })
                        }
                        other => Ok(other),
                    }
                }
                _ => Err(Error::new(Code::Syntax, format!("{clause} has no meaning in {name}()"))
                    .at(position_of(call.name.span()))),
            };
        }
        self.call_by_name(&name, arguments)
    }

    /// `JSON_OBJECT('key': value)`, `JSON_OBJECT(KEY 'key' VALUE value)` and `JSON_ARRAY(value, …)` (SQL:2016 part 2, 6.33).
    fn json_constructor(
        &mut self,
        name: &str,
        call: &'a ast::Function,
        list: &'a [ast::FunctionArg],
        scope: &Scope,
    ) -> Result<Option<Expr>> {
        let is_pair = |argument: &ast::FunctionArg| {
            matches!(
                argument,
                ast::FunctionArg::ExprNamed {
                    operator: ast::FunctionArgOperator::Colon | ast::FunctionArgOperator::Value,
                    ..
                } | ast::FunctionArg::Named {
                    operator: ast::FunctionArgOperator::Colon | ast::FunctionArgOperator::Value,
                    ..
                }
            )
        };
        let pairs = name == "json_object" && list.iter().any(is_pair);
        if !pairs && name != "json_array" {
            return Ok(None);
        }
        let clauses = match &call.args {
            ast::FunctionArguments::List(written) => written.clauses.as_slice(),
            _ => &[],
        };
        let absent = |clause: &ast::FunctionArgumentClause| {
            matches!(clause, ast::FunctionArgumentClause::JsonNullClause(ast::JsonNullClause::AbsentOnNull))
        };
        let keeps = |clause: &ast::FunctionArgumentClause| {
            matches!(clause, ast::FunctionArgumentClause::JsonNullClause(ast::JsonNullClause::NullOnNull))
        };
        if clauses.iter().any(|clause| !absent(clause) && !keeps(clause)) {
            return Err(Error::unsupported(format_args!("RETURNING in {name}()")));
        }
        if !pairs {
            // Nulls are left out of an array unless they are asked for.
            let arguments = self.plain_arguments(name, list, scope)?;
            let keeps_nulls = clauses.iter().any(keeps);
            let mut rest = Vec::new();
            for argument in arguments {
                let argument = crate::function::document(argument)?;
                if !keeps_nulls && !matches!(argument, Expr::Literal { .. }) && may_be_null(&argument) {
                    return Err(Error::unsupported("json_array() of values that may be null")
                        .hint("say NULL ON NULL, or write jsonb_build_array()"));
                }
                rest.push(argument);
            }
            return function::call(Function::JsonBuildArray, rest).map(Some);
        }
        if clauses.iter().any(absent) {
            return Err(
                Error::unsupported("ABSENT ON NULL in json_object()").hint("json_strip_nulls() drops such members")
            );
        }
        let mut parts = Vec::new();
        for argument in list {
            let (key, value) = match argument {
                ast::FunctionArg::ExprNamed { name, arg: ast::FunctionArgExpr::Expr(value), operator: _ } => {
                    (self.expr(name, scope)?, value)
                }
                ast::FunctionArg::Named { name, arg: ast::FunctionArgExpr::Expr(value), operator: _ } => {
                    (self.name(std::slice::from_ref(name), scope)?, value)
                }
                other => return Err(Error::new(Code::Syntax, format!("{other} is not a pair of a key and a value"))),
            };
            parts.push(key);
            parts.push(self.expr(value, scope)?);
        }
        function::call(Function::JsonBuildObject, parts).map(Some)
    }

    /// What is the same in all rows of the statement, such as `now()` and `version()`.
    pub(super) fn constant_of_statement(&self, name: &str, arguments: &[Expr]) -> Result<Option<Expr>> {
        let text = |text: &str| Expr::literal(Value::Text(text.to_owned()));
        let digits = || match arguments {
            [] => Ok(6),
            [Expr::Literal { value: Value::Integer(digits), .. }] if (0..=6).contains(digits) => Ok(*digits),
            _ => Err(Error::new(Code::InvalidValue, format!("{name} takes 0 to 6 digits of a second"))),
        };
        let rounded = |micros: i64, digits: i32| {
            let unit = 10i64.pow(6 - digits.unsigned_abs().min(6));
            micros.saturating_add(unit / 2).div_euclid(unit) * unit
        };
        let day = 86_400_000_000;
        Ok(Some(match (name, arguments.len()) {
            ("now" | "transaction_timestamp" | "statement_timestamp" | "clock_timestamp", 0) => {
                Expr::literal(Value::TimestampTz(self.context.now))
            }
            ("current_timestamp", 0 | 1) => Expr::literal(Value::TimestampTz(rounded(self.context.now, digits()?))),
            ("localtimestamp", 0 | 1) => Expr::literal(Value::Timestamp(rounded(self.clock_now(), digits()?))),
            ("localtime" | "current_time", 0 | 1) => {
                Expr::literal(Value::Time(rounded(self.clock_now().rem_euclid(day), digits()?).min(day)))
            }
            ("current_date", 0) => Expr::literal(Value::Date(self.today())),
            ("timeofday", 0) => {
                let zone = self.context.zone;
                let shape = Expr::literal(Value::Text(format!("FMDy FMMon DD HH24:MI:SS.US YYYY \"{zone}\"")));
                let now = Expr::literal(Value::Timestamp(self.clock_now()));
                function::call(Function::ToChar, vec![now, shape])?
            }
            ("version", 0) => text(concat!("Cobble Lane ", env!("CARGO_PKG_VERSION"))),
            ("pg_client_encoding", 0) => text("UTF8"),
            ("current_schema", 0) => match self.context.session.schema {
                Some(schema) => text(schema),
                None => Expr::Literal { value: Value::Null, sql_type: SqlType::Text },
            },
            ("current_catalog" | "current_database", 0) => match self.context.session.catalog {
                Some(catalog) => text(catalog),
                None => Expr::Literal { value: Value::Null, sql_type: SqlType::Text },
            },
            ("current_user" | "session_user" | "current_role" | "user", 0) => text(self.context.session.user),
            ("current_setting", 1 | 2) => {
                let Expr::Literal { value: Value::Text(wanted), .. } = &arguments[0] else {
                    return Err(Error::unsupported("current_setting() of a name that is not a constant"));
                };
                let missing_ok = matches!(arguments.get(1), Some(Expr::Literal { value: Value::Boolean(true), .. }));
                match (self.context.session.setting)(wanted) {
                    Some(value) => text(&value),
                    None if missing_ok => Expr::Literal { value: Value::Null, sql_type: SqlType::Text },
                    None => {
                        return Err(Error::new(Code::UnknownObject, format!("there is no setting \"{wanted}\""))
                            .hint("SHOW SETTINGS lists them"));
                    }
                }
            }
            ("pg_typeof", 1) => {
                let name = text(&super::types::postgres_name(&arguments[0].sql_type()));
                match &arguments[0] {
                    Expr::Column(_) | Expr::Literal { .. } => name,
                    // What cannot be computed has no type either.
                    computed => Expr::Case {
                        branches: vec![(
                            Expr::IsNull { operand: Box::new(computed.clone()), negated: false },
                            name.clone(),
                        )],
                        otherwise: Box::new(name),
                        sql_type: SqlType::Text,
                    },
                }
            }
            _ => return Ok(None),
        }))
    }

    /// Arguments by place, then by name (PostgreSQL manual 4.3).
    fn named_arguments(&mut self, name: &str, list: &'a [ast::FunctionArg], scope: &Scope) -> Result<Vec<Expr>> {
        let is_named = |a: &ast::FunctionArg| !matches!(a, ast::FunctionArg::Unnamed(_));
        let Some(first) = list.iter().position(is_named) else { return self.plain_arguments(name, list, scope) };
        if let Some(late) = list[first..].iter().find(|a| !is_named(a)) {
            return Err(Error::new(Code::Syntax, format!("the argument {late} stands after a named one")));
        }
        let context: &'a super::BindContext<'a> = self.context;
        let parameters: Vec<String> = match context.functions.get(name) {
            Some(known) => known.function.parameters.iter().map(|(name, _)| name.clone()).collect(),
            None => {
                let own = Function::callable(name).map(|function| function.entry().parameters);
                let known = own.or_else(|| TableFunction::by_name(name).map(|function| function.entry().parameters));
                known.unwrap_or_default().iter().map(|parameter| (*parameter).to_owned()).collect()
            }
        };
        let mut arguments: Vec<Option<Expr>> = Vec::new();
        for argument in self.plain_arguments(name, &list[..first], scope)? {
            arguments.push(Some(argument));
        }
        for argument in &list[first..] {
            let (given, value) = match argument {
                ast::FunctionArg::Named { name, arg: ast::FunctionArgExpr::Expr(value), operator: _ } => (name, value),
                ast::FunctionArg::ExprNamed {
                    name: ast::Expr::Identifier(name),
                    arg: ast::FunctionArgExpr::Expr(value),
                    operator: _,
                } => (name, value),
                other => return Err(Error::new(Code::Syntax, format!("{other} is not a named argument"))),
            };
            let given_name = folded(given);
            let place = parameters.iter().position(|known| *known == given_name).ok_or_else(|| {
                let mut error = Error::unknown("argument", &given_name, parameters.iter().map(String::as_str));
                error.code = Code::UnknownFunction;
                error.at(position_of(given.span))
            })?;
            let value = self.expr(value, scope)?;
            if arguments.len() <= place {
                arguments.resize(place + 1, None);
            }
            if arguments[place].replace(value).is_some() {
                return Err(Error::new(Code::Syntax, format!("the argument {given_name} is given twice"))
                    .at(position_of(given.span)));
            }
        }
        // Those that are left out have a default; it is zero, or nothing.
        let zero = matches!(name, "make_interval");
        arguments
            .into_iter()
            .zip(&parameters)
            .map(|(value, parameter)| match value {
                Some(value) => Ok(value),
                None if zero => Ok(Expr::literal(Value::Integer(0))),
                None => Err(Error::new(Code::UnknownFunction, format!("{name}() needs the argument {parameter}"))),
            })
            .collect()
    }

    pub(super) fn call_by_name(&mut self, name: &str, mut arguments: Vec<Expr>) -> Result<Expr> {
        let context: &'a super::BindContext<'a> = self.context;
        if let Some(known) = context.functions.get(name) {
            return self.user_call(known, arguments);
        }
        if let Some(function) = TableFunction::by_name(name) {
            return self.function_in_select(function, arguments);
        }
        if let Some((function, arguments)) = super::table_function::made_of(name, &arguments)? {
            return self.function_in_select(function, arguments);
        }
        match (name, arguments.len()) {
            ("nullif", 2) => return nullif(arguments),
            ("age", 1) => {
                let midnight = i64::from(self.today()) * 86_400_000_000;
                arguments.insert(0, Expr::literal(Value::Timestamp(midnight)));
            }
            ("log", 2) => {
                if function::is_exact(&arguments) {
                    return function::call(Function::Log, arguments);
                }
                // Of a base: the quotient of two logarithms.
                let mut both = arguments.into_iter().map(|e| function::call(Function::Ln, vec![e]));
                let (Some(base), Some(value)) = (both.next(), both.next()) else {
                    return Err(Error::internal("two arguments are not two"));
                };
                return binary(BinaryOp::Divide, value?, base?);
            }
            ("convert", 3) => {
                let [bytes, from, to]: [Expr; 3] =
                    arguments.try_into().map_err(|_| Error::internal("three arguments are not three"))?;
                return function::call(
                    Function::ConvertTo,
                    vec![function::call(Function::ConvertFrom, vec![bytes, from])?, to],
                );
            }
            // As with a cast: what was written as json becomes of the form of jsonb.
            ("to_jsonb", 1) if arguments[0].sql_type() == SqlType::Json && self.is_made_here(&arguments[0]) => {
                let text = arguments.swap_remove(0).cast(SqlType::Text);
                return Ok(text.cast(SqlType::Json));
            }
            ("get_bit", 2) | ("set_bit", 3) => return bit_of(arguments),
            ("mod", 2) => {
                let mut both = arguments.into_iter();
                let (Some(left), Some(right)) = (both.next(), both.next()) else {
                    return Err(Error::internal("two arguments are not two"));
                };
                return binary(BinaryOp::Modulo, left, right);
            }
            // substring(text FROM pattern), or with an escape character the standard's form: the part that the pattern finds.
            ("substring", 2 | 3) => {
                let is_text = |e: &Expr| settle(e.clone()).is_ok_and(|e| e.sql_type() == SqlType::Text);
                if arguments[1..].iter().all(is_text) {
                    let three = arguments.len() == 3;
                    let function = if three { Function::SimilarSubstring } else { Function::RegexpSubstr };
                    return function::call(function, arguments);
                }
            }
            ("position", 2) => arguments.reverse(),
            _ => {}
        }
        let Some(function) = Function::callable(name) else {
            if let Some(error) = called_here(name) {
                return Err(error);
            }
            let mut all: Vec<&str> = cobble_functions::known_names().collect();
            all.extend(context.functions.keys().map(String::as_str));
            return Err(Error::unknown("function", name, all));
        };
        let bound = function::call(function, arguments)?;
        // PostgreSQL's date_part() gives double precision where EXTRACT gives numeric.
        Ok(if name == "date_part" { bound.cast(SqlType::Double) } else { bound })
    }
}

/// True unless the value is made of constants that are there.
fn may_be_null(expr: &Expr) -> bool {
    expr.any(&|e| matches!(e, Expr::Column(_) | Expr::Literal { value: Value::Null, .. }))
}

/// `nullif(a, b)` has the type that the two are compared in; types of one family are compared as they are (manual 9.18.3).
fn nullif(arguments: Vec<Expr>) -> Result<Expr> {
    let [left, right]: [Expr; 2] =
        arguments.try_into().map_err(|_| Error::new(Code::TypeMismatch, "nullif takes two arguments"))?;
    let family = |test: fn(&SqlType) -> bool| test(&left.sql_type()) && test(&right.sql_type());
    let keeps = family(SqlType::is_integer) || family(SqlType::is_float) || family(SqlType::is_time_point);
    let own = left.clone();
    let (compared, right, _) = unify(left, right, "\"=\"")?;
    let equal = binary(BinaryOp::Eq, compared.clone(), right)?;
    let value = if keeps { own } else { compared };
    let sql_type = value.sql_type();
    let null = Expr::Literal { value: Value::Null, sql_type: sql_type.clone() };
    Ok(Expr::Case { branches: vec![(equal, null)], otherwise: Box::new(value), sql_type })
}

/// `get_bit(bytes, n)` and `set_bit(bytes, n, value)`, by the byte that has the bit; its lowest is the first (PostgreSQL manual 9.5).
fn bit_of(arguments: Vec<Expr>) -> Result<Expr> {
    let whole = |n: i32| Expr::literal(Value::Integer(n));
    let mut arguments = arguments.into_iter();
    let (Some(bytes), Some(n)) = (arguments.next(), arguments.next()) else {
        return Err(Error::internal("a bit without a place"));
    };
    let bytes = coerce(bytes, &SqlType::Bytea)?;
    let n = coerce(n, &SqlType::Integer)?;
    let place = binary(BinaryOp::Divide, n.clone(), whole(8))?;
    let within = binary(BinaryOp::Modulo, n, whole(8))?;
    let byte = function::call(Function::GetByte, vec![bytes.clone(), place.clone()])?;
    let Some(value) = arguments.next() else {
        let shifted = function::call(Function::ShiftRight, vec![byte, within])?;
        return function::call(Function::BitAnd, vec![shifted, whole(1)]);
    };
    let bit = function::call(Function::ShiftLeft, vec![whole(1), within.clone()])?;
    let others =
        function::call(Function::BitAnd, vec![byte, function::call(Function::BitXor, vec![bit, whole(255)])?])?;
    let set = function::call(Function::ShiftLeft, vec![coerce(value, &SqlType::Integer)?, within])?;
    let next = function::call(Function::BitOr, vec![others, set])?;
    function::call(Function::SetByte, vec![bytes, place, next])
}
