//! Binding of scalar expressions.

use cobble_plan::aggregate::AggregateFunction;
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::function::Function;
use cobble_plan::{Ranking, TableFunction};
use cobble_types::deep::DEEPEST;
use cobble_types::zone::session_zone;
use cobble_types::{Code, Error, Position, Result, SqlType, Value};
use sqlparser::ast::{self, Spanned};

use super::operator::{compare_rows, is_row};
use super::scope::{Found, Scope};
use super::types::{sql_type, within_length};
use super::{Binder, folded, position_of};
use crate::coerce::{binary, coerce, condition, exact_literal, is_untyped, settle, unify, unify_all};
use crate::function;

impl<'a> Binder<'a> {
    /// A typed expression over the scope. Errors carry the position of the innermost part at fault.
    pub(super) fn expr(&mut self, written: &'a ast::Expr, scope: &Scope) -> Result<Expr> {
        self.depth += 1;
        let bound = if self.depth > DEEPEST {
            Err(Error::new(Code::TooComplex, format!("an expression nests more than {DEEPEST} levels"))
                .hint("compute parts of it in a WITH, or write a list of values as one array"))
        } else {
            self.unplaced_expr(written, scope).and_then(few_dimensions)
        };
        self.depth -= 1;
        // The span of a deep expression is not looked for at every level above.
        bound.map_err(|error| if error.position.is_some() { error } else { error.at(position_of(written.span())) })
    }

    fn boxed(&mut self, written: &'a ast::Expr, scope: &Scope) -> Result<Box<Expr>> {
        self.expr(written, scope).map(Box::new)
    }

    fn unplaced_expr(&mut self, written: &'a ast::Expr, scope: &Scope) -> Result<Expr> {
        use ast::Expr as E;
        match written {
            E::Identifier(ident) => {
                let keyword = match (ident.quote_style, ident.value.to_lowercase().as_str()) {
                    (None, "current_date") => Some(Value::Date(self.today())),
                    (None, "current_timestamp") => Some(Value::TimestampTz(self.context.now)),
                    (None, "localtimestamp") => Some(Value::Timestamp(self.clock_now())),
                    _ => None,
                };
                match keyword {
                    Some(value) => Ok(Expr::literal(value)),
                    None => self.name(std::slice::from_ref(ident), scope),
                }
            }
            E::CompoundIdentifier(idents) => self.name(idents, scope),
            E::CompoundFieldAccess { root, access_chain } => {
                let mut value = self.expr(root, scope)?;
                for access in access_chain {
                    value = match access {
                        ast::AccessExpr::Dot(E::Identifier(field)) => row_field(value, &folded(field))?,
                        ast::AccessExpr::Subscript(ast::Subscript::Index { index }) => {
                            let index = self.expr(index, scope)?;
                            subscript(value, index)?
                        }
                        _ => return Err(Error::unsupported("this way of reaching into a value")),
                    };
                }
                Ok(value)
            }
            E::Nested(inner) => self.expr(inner, scope),
            E::Value(ast::ValueWithSpan { value: ast::Value::Placeholder(name), .. }) => self.parameter(name),
            E::Value(value) => literal(&value.value),
            E::TypedString(typed) => {
                let text = typed.value.value.clone().into_string().unwrap_or_default();
                let literal = Expr::Literal { value: Value::Text(text), sql_type: SqlType::Null };
                within_length(coerce(literal, &sql_type(&typed.data_type)?)?, &typed.data_type)
            }
            E::Interval(interval) => self.interval(interval, scope),
            E::UnaryOp { op, expr } => {
                let operand = self.expr(expr, scope)?;
                match op {
                    ast::UnaryOperator::Not => Ok(Expr::Not(Box::new(condition(operand, "NOT")?))),
                    ast::UnaryOperator::Plus if operand.sql_type().is_number() => Ok(operand),
                    ast::UnaryOperator::Minus => match operand {
                        // A minus before digits belongs to the number: -32768 is a smallint.
                        Expr::Literal { value: Value::Integer(v), .. } if v != i32::MIN => {
                            Ok(Expr::literal(Value::Integer(-v)))
                        }
                        Expr::Literal { value: Value::BigInt(v), .. } => Ok(narrowest_integer(-i128::from(v))),
                        Expr::Literal { value: Value::Numeric { unscaled, precision, scale }, .. } => {
                            Ok(Expr::literal(Value::Numeric { unscaled: -unscaled, precision, scale }))
                        }
                        other if other.sql_type().is_number() || other.sql_type() == SqlType::Interval => {
                            Ok(Expr::Negate(Box::new(other)))
                        }
                        other => {
                            Err(Error::new(Code::UnknownFunction, format!("\"-\" does not take {}", other.sql_type())))
                        }
                    },
                    ast::UnaryOperator::BitwiseNot => function::call(Function::BitNot, vec![operand]),
                    ast::UnaryOperator::PGSquareRoot => function::call(Function::Sqrt, vec![operand]),
                    ast::UnaryOperator::PGCubeRoot => function::call(Function::Cbrt, vec![operand]),
                    ast::UnaryOperator::PGAbs => function::call(Function::Abs, vec![operand]),
                    other => Err(Error::unsupported(format_args!("the operator {other}"))),
                }
            }
            E::BinaryOp { left, op, right } if is_row(left) || is_row(right) => {
                self.row_comparison(operator(op)?, left, right, scope)
            }
            E::BinaryOp { left, op, right } if special(op).is_some() => {
                let (left, right) = (self.expr(left, scope)?, self.expr(right, scope)?);
                special_operator(op, left, right)
            }
            E::Tuple(parts) => {
                let parts = parts.iter().map(|e| self.expr(e, scope)).collect::<Result<Vec<_>>>()?;
                function::call(Function::MakeRow, parts)
            }
            E::Array(array) => {
                let items = array.elem.iter().map(|e| self.expr(e, scope)).collect::<Result<Vec<_>>>()?;
                function::call(Function::MakeArray, items)
            }
            E::SimilarTo { negated, expr, pattern, escape_char: None } => {
                let (operand, pattern) = (self.expr(expr, scope)?, self.expr(pattern, scope)?);
                let matches = function::call(Function::SimilarTo, vec![operand, pattern])?;
                Ok(if *negated { Expr::Not(Box::new(matches)) } else { matches })
            }
            E::AtTimeZone { timestamp, time_zone } => {
                let (time, zone) = (self.expr(timestamp, scope)?, self.expr(time_zone, scope)?);
                function::call(Function::AtTimeZone, vec![zone, time])
            }
            E::Overlay { expr, overlay_what, overlay_from, overlay_for } => {
                let mut arguments =
                    vec![self.expr(expr, scope)?, self.expr(overlay_what, scope)?, self.expr(overlay_from, scope)?];
                if let Some(count) = overlay_for {
                    arguments.push(self.expr(count, scope)?);
                }
                function::call(Function::Overlay, arguments)
            }
            E::AnyOp { left, compare_op, right, .. } => {
                self.quantified(left, operator(compare_op)?, right, false, scope)
            }
            E::AllOp { left, compare_op, right } => self.quantified(left, operator(compare_op)?, right, true, scope),
            E::BinaryOp { op: ast::BinaryOperator::And, .. } => self.chain(BinaryOp::And, written, scope),
            E::BinaryOp { op: ast::BinaryOperator::Or, .. } => self.chain(BinaryOp::Or, written, scope),
            E::BinaryOp { left, op, right } => {
                let op = operator(op)?;
                let left = self.expr(left, scope)?;
                let right = self.expr(right, scope)?;
                binary(op, left, right)
            }
            E::IsNull(operand) => Ok(Expr::IsNull { operand: self.boxed(operand, scope)?, negated: false }),
            E::IsNotNull(operand) => Ok(Expr::IsNull { operand: self.boxed(operand, scope)?, negated: true }),
            E::IsTrue(operand) => self.truth(operand, true, false, scope),
            E::IsNotTrue(operand) => self.truth(operand, true, true, scope),
            E::IsFalse(operand) => self.truth(operand, false, false, scope),
            E::IsNotFalse(operand) => self.truth(operand, false, true, scope),
            E::IsUnknown(operand) => Ok(Expr::IsNull { operand: self.boxed(operand, scope)?, negated: false }),
            E::IsNotUnknown(operand) => Ok(Expr::IsNull { operand: self.boxed(operand, scope)?, negated: true }),
            E::IsDistinctFrom(left, right) => {
                let (left, right) = (self.expr(left, scope)?, self.expr(right, scope)?);
                binary(BinaryOp::IsDistinctFrom, left, right)
            }
            E::IsNotDistinctFrom(left, right) => {
                let (left, right) = (self.expr(left, scope)?, self.expr(right, scope)?);
                binary(BinaryOp::IsNotDistinctFrom, left, right)
            }
            E::Between { expr, negated, low, high } => {
                let operand = self.expr(expr, scope)?;
                let (low, high) = (self.expr(low, scope)?, self.expr(high, scope)?);
                let (from, to, join) = if *negated {
                    (BinaryOp::Lt, BinaryOp::Gt, BinaryOp::Or)
                } else {
                    (BinaryOp::GtEq, BinaryOp::LtEq, BinaryOp::And)
                };
                binary(join, binary(from, operand.clone(), low)?, binary(to, operand, high)?)
            }
            E::InList { expr, list, negated } if is_row(expr) => {
                let operand = self.row(expr, scope)?;
                let any = list
                    .iter()
                    .map(|item| compare_rows(BinaryOp::Eq, operand.clone(), self.row(item, scope)?))
                    .collect::<Result<Vec<_>>>()?;
                let any = Expr::combined(BinaryOp::Or, any).unwrap_or_else(|| Expr::boolean(false));
                Ok(if *negated { Expr::Not(Box::new(any)) } else { any })
            }
            E::InList { expr, list, negated } => {
                let mut all = vec![self.expr(expr, scope)?];
                for item in list {
                    all.push(self.expr(item, scope)?);
                }
                let operand_type = all[0].sql_type();
                for item in &mut all[1..] {
                    if let Some(exact) = exact_literal(item, &operand_type) {
                        *item = exact;
                    }
                }
                let (mut all, _) = unify_all(all, "IN")?;
                let operand = Box::new(all.remove(0));
                Ok(Expr::InList { operand, list: all, negated: *negated })
            }
            E::Like { any: true, negated, expr, pattern, .. } => self.like_any(expr, pattern, *negated, false, scope),
            E::ILike { any: true, negated, expr, pattern, .. } => self.like_any(expr, pattern, *negated, true, scope),
            E::Like { negated, any: false, expr, pattern, escape_char } => {
                self.like(expr, pattern, escape_char.as_deref(), *negated, false, scope)
            }
            E::ILike { negated, any: false, expr, pattern, escape_char } => {
                self.like(expr, pattern, escape_char.as_deref(), *negated, true, scope)
            }
            E::Cast { kind: ast::CastKind::Cast | ast::CastKind::DoubleColon, expr, data_type, format: None } => {
                let operand = self.expr(expr, scope)?;
                within_length(cast(operand, &sql_type(data_type)?)?, data_type)
            }
            E::Case { operand, conditions, else_result, .. } => {
                let operand = operand.as_ref().map(|o| self.expr(o, scope)).transpose()?;
                let (mut whens, mut thens) = (Vec::new(), Vec::new());
                for case in conditions {
                    let when = self.expr(&case.condition, scope)?;
                    whens.push(match &operand {
                        Some(operand) => binary(BinaryOp::Eq, operand.clone(), when)?,
                        None => condition(when, "CASE WHEN")?,
                    });
                    thens.push(self.expr(&case.result, scope)?);
                }
                thens.push(match else_result {
                    Some(otherwise) => self.expr(otherwise, scope)?,
                    None => Expr::literal(Value::Null),
                });
                let (mut thens, common) = unify_all(thens, "CASE")?;
                let otherwise = Box::new(thens.pop().unwrap_or_else(|| Expr::literal(Value::Null)));
                Ok(Expr::Case { branches: whens.into_iter().zip(thens).collect(), otherwise, sql_type: common })
            }
            E::Extract { field, expr, .. } => {
                let part = Expr::literal(Value::Text(field.to_string().to_lowercase()));
                let from = self.expr(expr, scope)?;
                function::call(Function::DatePart, vec![part, from])
            }
            E::Ceil { expr, .. } => {
                let operand = self.expr(expr, scope)?;
                function::call(Function::Ceil, vec![operand])
            }
            E::Floor { expr, .. } => {
                let operand = self.expr(expr, scope)?;
                function::call(Function::Floor, vec![operand])
            }
            E::Position { expr, r#in } => {
                let (part, text) = (self.expr(expr, scope)?, self.expr(r#in, scope)?);
                function::call(Function::Position, vec![text, part])
            }
            E::Substring { expr, substring_from, substring_for, .. } => {
                let mut arguments = vec![self.expr(expr, scope)?];
                arguments.push(match substring_from {
                    Some(from) => self.expr(from, scope)?,
                    None => Expr::literal(Value::Integer(1)),
                });
                if let Some(count) = substring_for {
                    arguments.push(self.expr(count, scope)?);
                }
                // substring(text FROM pattern) is the part that the pattern finds.
                let by_pattern = arguments.len() == 2
                    && (arguments[1].sql_type() == SqlType::Text
                        || matches!(arguments[1], Expr::Literal { value: Value::Text(_), .. }));
                if by_pattern {
                    return function::call(Function::RegexpSubstr, arguments);
                }
                function::call(Function::Substring, arguments)
            }
            E::Trim { trim_where, trim_what, expr, trim_characters } => {
                let function = match trim_where {
                    None | Some(ast::TrimWhereField::Both) => Function::Trim,
                    Some(ast::TrimWhereField::Leading) => Function::TrimStart,
                    Some(ast::TrimWhereField::Trailing) => Function::TrimEnd,
                };
                let mut arguments = vec![self.expr(expr, scope)?];
                let what = trim_what.as_deref().or(trim_characters.as_ref().and_then(|c| c.first()));
                if let Some(what) = what {
                    arguments.push(self.expr(what, scope)?);
                }
                function::call(function, arguments)
            }
            E::Function(call) => self.call(call, scope),
            E::Subquery(query) => self.scalar_subquery(query, scope),
            E::InSubquery { expr, subquery, negated } => self.any(BinaryOp::Eq, expr, subquery, *negated, scope),
            E::Exists { subquery, negated } => self.exists(subquery, *negated, scope),
            other => Err(Error::unsupported(format_args!("the expression {other}"))),
        }
    }

    /// The statement's start as a clock in the session's zone shows it.
    fn clock_now(&self) -> i64 {
        session_zone().clock(self.context.now).unwrap_or(self.context.now)
    }

    fn today(&self) -> i32 {
        self.clock_now().div_euclid(86_400_000_000) as i32
    }

    /// `a AND b AND …`, written to any length.
    fn chain(&mut self, op: BinaryOp, written: &'a ast::Expr, scope: &Scope) -> Result<Expr> {
        let mut parts = Vec::new();
        let mut rest = written;
        while let ast::Expr::BinaryOp { left, op: own, right } = rest
            && operator(own) == Ok(op)
            && !is_row(left)
            && !is_row(right)
        {
            parts.push(right.as_ref());
            rest = left;
        }
        parts.push(rest);
        let word = if op == BinaryOp::And { "AND" } else { "OR" };
        let bound = parts
            .into_iter()
            .rev()
            .map(|part| condition(self.expr(part, scope)?, word).map_err(|e| e.at(position_of(part.span()))))
            .collect::<Result<Vec<_>>>()?;
        Expr::combined(op, bound).ok_or_else(|| Error::internal("a chain of nothing"))
    }

    fn name(&mut self, idents: &[ast::Ident], scope: &Scope) -> Result<Expr> {
        let parts: Vec<String> = idents.iter().map(folded).collect();
        let position = idents.first().and_then(|ident| position_of(ident.span));
        let mut found = scope.find(&parts, position)?;
        if matches!(found, Found::Nothing) {
            for outer in self.outer.iter().rev() {
                found = outer.find(&parts, position)?;
                if matches!(found, Found::Column(..)) {
                    break;
                }
            }
        }
        let Found::Column(entry, used) = found else {
            return Err(scope.unknown(&parts, &self.outer).at(position));
        };
        let mut value = Expr::Column(entry.column.clone());
        if let Some(position) = position {
            self.named_at.insert(entry.column.id, position);
        }
        for field in &parts[used..] {
            value = row_field(value, field)?;
        }
        Ok(value)
    }

    /// `$n`: the n-th value that came with the statement.
    fn parameter(&self, name: &str) -> Result<Expr> {
        let number = name.strip_prefix('$').and_then(|n| n.parse::<usize>().ok()).filter(|n| *n > 0);
        let Some(number) = number else { return Err(Error::unsupported(format_args!("the parameter {name}"))) };
        match self.context.parameters.get(number - 1) {
            Some((value, sql_type)) => Ok(Expr::Literal { value: value.clone(), sql_type: sql_type.clone() }),
            None => Err(Error::new(Code::UnknownParameter, format!("there is no value for the parameter {name}"))
                .hint(format!("the statement came with {}", self.context.parameters.len()))),
        }
    }

    fn truth(&mut self, written: &'a ast::Expr, value: bool, negated: bool, scope: &Scope) -> Result<Expr> {
        let operand = condition(self.expr(written, scope)?, "IS TRUE")?;
        let op = if negated { BinaryOp::IsDistinctFrom } else { BinaryOp::IsNotDistinctFrom };
        binary(op, operand, Expr::boolean(value))
    }

    fn like(
        &mut self,
        operand: &'a ast::Expr,
        pattern: &'a ast::Expr,
        escape: Option<&'a ast::Expr>,
        negated: bool,
        case_insensitive: bool,
        scope: &Scope,
    ) -> Result<Expr> {
        let (operand, pattern) = (self.expr(operand, scope)?, self.expr(pattern, scope)?);
        let (operand, mut pattern) = (settle(operand)?, settle(pattern)?);
        if let Some(escape) = escape {
            let escape = settle(self.expr(escape, scope)?)?;
            pattern = with_escape(pattern, &escape)?;
        }
        for side in [&operand, &pattern] {
            if side.sql_type() != SqlType::Text {
                return Err(Error::new(Code::TypeMismatch, format!("LIKE takes text, not {}", side.sql_type()))
                    .hint("cast it, such as ::text"));
            }
        }
        Ok(Expr::Like { operand: Box::new(operand), pattern: Box::new(pattern), negated, case_insensitive })
    }

    /// LIKE ANY: one of several patterns that are written out.
    fn like_any(
        &mut self,
        operand: &'a ast::Expr,
        patterns: &'a ast::Expr,
        negated: bool,
        case_insensitive: bool,
        scope: &Scope,
    ) -> Result<Expr> {
        let patterns = match patterns {
            ast::Expr::Nested(inner) => inner.as_ref(),
            other => other,
        };
        let ast::Expr::Array(array) = patterns else {
            return Err(Error::unsupported("LIKE ANY over an array that is not written out"));
        };
        let patterns = array.elem.iter();
        let any = patterns.map(|pattern| self.like(operand, pattern, None, negated, case_insensitive, scope));
        let any = any.collect::<Result<Vec<_>>>()?;
        Ok(Expr::combined(BinaryOp::Or, any).unwrap_or_else(|| Expr::boolean(false)))
    }

    fn interval(&mut self, interval: &'a ast::Interval, scope: &Scope) -> Result<Expr> {
        let value = self.expr(&interval.value, scope)?;
        let unit = interval.leading_field.as_ref().map(|unit| unit.to_string().to_lowercase());
        let text = match (value, unit) {
            (Expr::Literal { value: Value::Text(text), .. }, None) => text,
            (Expr::Literal { value: Value::Text(text), .. }, Some(unit)) => format!("{text} {unit}"),
            _ => return Err(Error::unsupported("an interval that is not a constant")),
        };
        coerce(Expr::Literal { value: Value::Text(text), sql_type: SqlType::Null }, &SqlType::Interval)
    }

    fn call(&mut self, call: &'a ast::Function, scope: &Scope) -> Result<Expr> {
        let name = call.name.0.iter().filter_map(|p| p.as_ident().map(folded)).collect::<Vec<_>>().join(".");
        let (list, distinct): (&'a [ast::FunctionArg], bool) = match &call.args {
            ast::FunctionArguments::None => (&[], false),
            ast::FunctionArguments::Subquery(query) if name == "array" => return self.array_of_rows(query, scope),
            ast::FunctionArguments::Subquery(_) => return Err(Error::unsupported("a subquery as argument list")),
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
        if Ranking::by_name(&name).is_some() {
            return Err(Error::new(Code::WrongKind, format!("{name}() is a window function"))
                .hint("say over which rows, such as OVER (ORDER BY …)"));
        }
        if distinct || call.filter.is_some() || !call.within_group.is_empty() {
            return Err(Error::new(
                Code::Syntax,
                format!("{name} is not an aggregate: DISTINCT, FILTER and WITHIN GROUP have no meaning"),
            ));
        }
        match name.as_str() {
            "now" | "current_timestamp" | "transaction_timestamp" | "statement_timestamp" => {
                return Ok(Expr::literal(Value::TimestampTz(self.context.now)));
            }
            "current_date" => {
                return Ok(Expr::literal(Value::Date(self.today())));
            }
            _ => {}
        }
        if name == "grouping" {
            return self.grouping_call(list, scope);
        }
        let mut arguments = self.plain_arguments(&name, list, scope)?;
        if let ast::FunctionArguments::List(written) = &call.args
            && let Some(clause) = written.clauses.first()
        {
            return match (Function::by_name(&name), clause) {
                (Some(Function::JsonValue), ast::FunctionArgumentClause::JsonReturningClause(returning)) => {
                    match function::call(Function::JsonValue, arguments)? {
                        Expr::Call { function, arguments, .. } => {
                            Ok(Expr::Call { function, arguments, sql_type: sql_type(&returning.data_type)? })
                        }
                        other => Ok(other),
                    }
                }
                _ => Err(Error::unsupported(format_args!("{clause} in {name}()"))),
            };
        }
        if let Some(function) = TableFunction::by_name(&name) {
            return self.function_in_select(function, arguments);
        }
        if name == "nullif" {
            let [left, right]: [Expr; 2] =
                arguments.try_into().map_err(|_| Error::new(Code::TypeMismatch, "nullif takes two arguments"))?;
            let (left, right, common) = unify(left, right, "nullif")?;
            let equal = binary(BinaryOp::Eq, left.clone(), right)?;
            let null = Expr::Literal { value: Value::Null, sql_type: common.clone() };
            return Ok(Expr::Case { branches: vec![(equal, null)], otherwise: Box::new(left), sql_type: common });
        }
        if name == "age" && arguments.len() == 1 {
            let midnight = i64::from(self.today()) * 86_400_000_000;
            arguments.insert(0, Expr::literal(Value::Timestamp(midnight)));
        }
        if matches!(name.as_str(), "clock_timestamp" | "timeofday") {
            return Ok(Expr::literal(Value::TimestampTz(self.context.now)));
        }
        if name == "log" && arguments.len() == 2 {
            let value = arguments.pop().unwrap_or_else(|| Expr::literal(Value::Null));
            let base = arguments.pop().unwrap_or_else(|| Expr::literal(Value::Null));
            let (above, below) =
                (function::call(Function::Ln, vec![value])?, function::call(Function::Ln, vec![base])?);
            return binary(BinaryOp::Divide, above, below);
        }
        if name == "mod" && arguments.len() == 2 {
            let right = arguments.pop().unwrap_or_else(|| Expr::literal(Value::Null));
            let left = arguments.pop().unwrap_or_else(|| Expr::literal(Value::Null));
            return binary(BinaryOp::Modulo, left, right);
        }
        let context: &'a super::BindContext<'a> = self.context;
        if let Some(known) = context.functions.get(&name) {
            return self.user_call(known, arguments);
        }
        let Some(function) = Function::by_name(&name) else {
            let known = Function::ALL.iter().map(|f| f.name()).chain(context.functions.keys().map(String::as_str));
            let all: Vec<&str> =
                known.chain(AggregateFunction::ALL.iter().map(|f| f.name())).chain(["now", "nullif", "mod"]).collect();
            return Err(Error::unknown("function", &name, all));
        };
        let position_swapped = name == "position";
        if position_swapped {
            arguments.reverse();
        }
        let bound = function::call(function, arguments)?;
        // PostgreSQL's date_part() gives double precision where EXTRACT gives numeric.
        Ok(if name == "date_part" { bound.cast(SqlType::Double) } else { bound })
    }

    /// Where a column of this expression was named in the text.
    pub(super) fn place_of(&self, expr: &Expr) -> Option<Position> {
        expr.columns().iter().find_map(|id| self.named_at.get(id).copied())
    }
}

fn narrowest_integer(value: i128) -> Expr {
    match (i32::try_from(value), i64::try_from(value)) {
        (Ok(v), _) => Expr::literal(Value::Integer(v)),
        (_, Ok(v)) => Expr::literal(Value::BigInt(v)),
        _ => {
            let precision = value.unsigned_abs().to_string().len().clamp(1, 38) as u8;
            Expr::literal(Value::Numeric { unscaled: value, precision, scale: 0 })
        }
    }
}

pub(super) fn literal(value: &ast::Value) -> Result<Expr> {
    Ok(match value {
        ast::Value::Number(digits, _) => {
            let bad = || {
                Error::new(Code::InvalidValue, format!("\"{digits}\" is not a number the engine can hold"))
                    .hint("numerics have at most 38 digits")
            };
            let written_wide = digits.contains(['e', 'E']);
            let double = || digits.parse().ok().filter(|v: &f64| written_wide && v.is_finite());
            let Some((unscaled, scale)) = cobble_types::parse::parse_decimal(digits) else {
                return Ok(Expr::literal(Value::Double(double().ok_or_else(bad)?)));
            };
            if scale == 0 && !digits.contains(['.', 'e', 'E']) {
                narrowest_integer(unscaled)
            } else {
                let length = unscaled.unsigned_abs().to_string().len().max(scale.max(1) as usize);
                let precision = u8::try_from(length).ok().filter(|p| *p <= 38);
                match precision {
                    Some(precision) => Expr::literal(Value::Numeric { unscaled, precision, scale }),
                    None => Expr::literal(Value::Double(double().ok_or_else(bad)?)),
                }
            }
        }
        ast::Value::SingleQuotedString(text) | ast::Value::EscapedStringLiteral(text) => {
            Expr::Literal { value: Value::Text(text.clone()), sql_type: SqlType::Null }
        }
        ast::Value::DollarQuotedString(text) => {
            Expr::Literal { value: Value::Text(text.value.clone()), sql_type: SqlType::Null }
        }
        ast::Value::Boolean(value) => Expr::boolean(*value),
        ast::Value::Null => Expr::literal(Value::Null),
        other => return Err(Error::unsupported(format_args!("the literal {other}"))),
    })
}

/// The pattern with this escape character in place of the backslash. An empty one switches escaping off.
fn with_escape(pattern: Expr, escape: &Expr) -> Result<Expr> {
    let Expr::Literal { value: Value::Text(escape), .. } = escape else {
        return Err(Error::unsupported("ESCAPE with something that is not a constant"));
    };
    let mut characters = escape.chars();
    let escape = match (characters.next(), characters.next()) {
        (one, None) => one,
        _ => return Err(Error::new(Code::InvalidValue, "ESCAPE takes one character or none")),
    };
    let Expr::Literal { value: Value::Text(text), sql_type } = pattern else {
        return Err(Error::unsupported("ESCAPE with a pattern that is not a constant"));
    };
    let mut out = String::new();
    let mut characters = text.chars();
    while let Some(c) = characters.next() {
        if Some(c) == escape {
            out.push('\\');
            out.extend(characters.next());
        } else if c == '\\' {
            out.push_str("\\\\");
        } else {
            out.push(c);
        }
    }
    Ok(Expr::Literal { value: Value::Text(out), sql_type })
}

/// Operators that are functions with a sign for a name.
fn special(op: &ast::BinaryOperator) -> Option<Function> {
    use ast::BinaryOperator as B;
    Some(match op {
        B::Arrow => Function::JsonGet,
        B::LongArrow => Function::JsonGetText,
        B::HashArrow => Function::JsonPath,
        B::HashLongArrow => Function::JsonPathText,
        B::AtArrow | B::ArrowAt => Function::JsonContains,
        B::Question => Function::JsonHasKey,
        B::AtQuestion => Function::JsonPathExists,
        B::AtAt => Function::JsonPathMatch,
        B::PGRegexMatch | B::PGRegexIMatch | B::PGRegexNotMatch | B::PGRegexNotIMatch => Function::RegexpLike,
        B::PGStartsWith => Function::StartsWith,
        B::PGExp => Function::Power,
        B::PGOverlap => Function::ArrayOverlaps,
        B::BitwiseAnd => Function::BitAnd,
        B::BitwiseOr => Function::BitOr,
        B::PGBitwiseXor => Function::BitXor,
        B::PGBitwiseShiftLeft => Function::ShiftLeft,
        B::PGBitwiseShiftRight => Function::ShiftRight,
        _ => return None,
    })
}

fn special_operator(op: &ast::BinaryOperator, left: Expr, right: Expr) -> Result<Expr> {
    use ast::BinaryOperator as B;
    let own = special(op).ok_or_else(|| Error::internal("an operator without a function"))?;
    let arrays = matches!(left.sql_type(), SqlType::Array(_)) && matches!(right.sql_type(), SqlType::Array(_));
    let (left, right) = if matches!(op, B::ArrowAt) { (right, left) } else { (left, right) };
    match op {
        B::AtArrow | B::ArrowAt if arrays => function::call(Function::ArrayContains, vec![left, right]),
        // The operators find nothing where the functions fail.
        B::AtQuestion | B::AtAt => {
            let none = Expr::literal(Value::Text("{}".into())).cast(SqlType::Json);
            function::call(own, vec![left, right, none, Expr::boolean(true)])
        }
        B::HashArrow | B::HashLongArrow if is_untyped(&right) => {
            // A path is written as the text of an array.
            let path = coerce(right, &SqlType::Text)?;
            let Expr::Literal { value: Value::Text(path), .. } = path else {
                return Err(Error::unsupported("a path that is not a constant"));
            };
            let keys = path.trim_matches(['{', '}']).split(',').filter(|key| !key.is_empty());
            let text = |key: &str| Expr::literal(Value::Text(key.trim().trim_matches('"').to_owned()));
            function::call(own, std::iter::once(left).chain(keys.map(text)).collect())
        }
        B::PGRegexIMatch | B::PGRegexNotIMatch => {
            let matches = function::call(own, vec![left, right, Expr::literal(Value::Text("i".into()))])?;
            Ok(if matches!(op, B::PGRegexNotIMatch) { Expr::Not(Box::new(matches)) } else { matches })
        }
        B::PGRegexNotMatch => Ok(Expr::Not(Box::new(function::call(own, vec![left, right])?))),
        _ => function::call(own, vec![left, right]),
    }
}

/// Arrays have at most the dimensions that PostgreSQL allows.
fn few_dimensions(expr: Expr) -> Result<Expr> {
    let mut sql_type = &expr.sql_type();
    for _ in 0..=MOST_DIMENSIONS {
        match sql_type {
            SqlType::Array(item) => sql_type = item,
            _ => return Ok(expr),
        }
    }
    Err(Error::new(Code::TooComplex, format!("an array has more than {MOST_DIMENSIONS} dimensions")))
}

const MOST_DIMENSIONS: usize = 6;

fn operator(op: &ast::BinaryOperator) -> Result<BinaryOp> {
    use ast::BinaryOperator as B;
    Ok(match op {
        B::Plus => BinaryOp::Plus,
        B::Minus => BinaryOp::Minus,
        B::Multiply => BinaryOp::Times,
        B::Divide => BinaryOp::Divide,
        B::Modulo => BinaryOp::Modulo,
        B::Eq => BinaryOp::Eq,
        B::NotEq => BinaryOp::NotEq,
        B::Lt => BinaryOp::Lt,
        B::LtEq => BinaryOp::LtEq,
        B::Gt => BinaryOp::Gt,
        B::GtEq => BinaryOp::GtEq,
        B::And => BinaryOp::And,
        B::Or => BinaryOp::Or,
        B::StringConcat => BinaryOp::Concat,
        other => return Err(Error::unsupported(format_args!("the operator {other}"))),
    })
}

/// An explicit cast. Constants are cast by the fold-constants rewrite, so that an error shows where it stands.
fn cast(operand: Expr, target: &SqlType) -> Result<Expr> {
    if is_untyped(&operand) || matches!(operand, Expr::Literal { value: Value::Null, .. }) {
        return coerce(operand, target);
    }
    let own = operand.sql_type();
    if castable(&own, target) {
        Ok(operand.cast(target.clone()))
    } else {
        Err(Error::new(Code::TypeMismatch, format!("{own} cannot be cast to {target}")))
    }
}

fn castable(own: &SqlType, target: &SqlType) -> bool {
    use SqlType as T;
    match (own, target) {
        _ if own == target => true,
        (T::Array(own), T::Array(target)) => castable(own, target),
        (T::Row(own), T::Row(target)) => {
            own.len() == target.len() && own.iter().zip(target).all(|(o, t)| castable(&o.sql_type, &t.sql_type))
        }
        (_, T::Array(_) | T::Row(_)) => false,
        (_, T::Text) | (T::Text, _) => true,
        (T::Timestamp | T::TimestampTz, T::Time)
        | (T::Boolean, T::Integer)
        | (T::Integer, T::Boolean)
        | (T::Time, T::Interval)
        | (T::Json, T::Boolean) => true,
        (own, target) if own.is_number() || *own == T::Json => target.is_number(),
        (own, target) => own.is_time_point() && target.is_time_point(),
    }
}

fn row_field(operand: Expr, name: &str) -> Result<Expr> {
    let own = operand.sql_type();
    let SqlType::Row(fields) = &own else {
        return Err(Error::new(Code::TypeMismatch, format!("{operand} is {own}, which has no field \"{name}\"")));
    };
    match fields.iter().find(|field| field.name == name) {
        Some(field) => {
            Ok(Expr::Field { operand: Box::new(operand), name: name.to_owned(), sql_type: field.sql_type.clone() })
        }
        None => Err(Error::unknown("field", name, fields.iter().map(|f| f.name.as_str()))),
    }
}

fn subscript(operand: Expr, index: Expr) -> Result<Expr> {
    let own = operand.sql_type();
    let SqlType::Array(item) = own else {
        return Err(Error::new(Code::TypeMismatch, format!("{operand} is {own}, not an array")));
    };
    if !index.sql_type().is_integer() {
        return Err(Error::new(
            Code::TypeMismatch,
            format!("an array is subscripted by an integer, not {}", index.sql_type()),
        ));
    }
    let index = coerce(index, &SqlType::BigInt)?;
    Ok(Expr::Subscript { operand: Box::new(operand), index: Box::new(index), sql_type: *item })
}
