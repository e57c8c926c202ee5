//! Binding of scalar expressions.

use cobble_functions::Function;
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_types::deep::DEEPEST;
use cobble_types::zone::session_zone;
use cobble_types::{Code, Error, Position, Result, RowField, SqlType, Value};
use sqlparser::ast::{self, Spanned};

use super::access::{few_dimensions, row_field, row_is_null};
use super::cast::cast;
use super::literal::literal;
use super::operator::{compare_rows, is_row, named_operator, operator, special, special_operator};
use super::pattern::{Comparison, Pattern};
use super::scope::{Found, Scope};
use super::types::{sql_type, within_length};
use super::{Binder, MOST_PARAMETERS, Parameters, folded, position_of};
use crate::coerce::{binary, coerce, condition, exact_literal, settle, unify_all};
use crate::function;

/// Words that are constants of the statement, without parentheses.
const KEYWORDS: &[&str] = &[
    "current_date",
    "current_time",
    "current_timestamp",
    "localtime",
    "localtimestamp",
    "current_schema",
    "current_catalog",
    "current_user",
    "current_role",
    "session_user",
    "user",
];

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

    fn unplaced_expr(&mut self, written: &'a ast::Expr, scope: &Scope) -> Result<Expr> {
        use ast::Expr as E;
        match written {
            E::Identifier(ident) => {
                let word = folded(ident);
                match KEYWORDS.contains(&word.as_str()) && ident.quote_style.is_none() {
                    true => self
                        .constant_of_statement(&word, &[])?
                        .ok_or_else(|| Error::internal(format!("{word} has no value"))),
                    false => self.name(std::slice::from_ref(ident), scope),
                }
            }
            E::CompoundIdentifier(idents) => self.name(idents, scope),
            E::CompoundFieldAccess { root, access_chain } => self.reached(root, access_chain, scope),
            E::Nested(inner) => self.expr(inner, scope),
            E::Value(ast::ValueWithSpan { value: ast::Value::Placeholder(name), span: _ }) => self.parameter(name),
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
                        Expr::Literal { value: Value::BigInt(v), .. } if v != i64::MIN => {
                            Ok(Expr::literal(Value::BigInt(-v)))
                        }
                        Expr::Literal { value: Value::Numeric { unscaled, precision, scale }, .. } => {
                            Ok(Expr::literal(Value::Numeric { unscaled: -unscaled, precision, scale }))
                        }
                        other if other.sql_type() == SqlType::Time => {
                            Ok(Expr::Negate(Box::new(other.cast(SqlType::Interval))))
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
                    other => Err(Error::new(Code::UnknownFunction, format!("there is no operator \"{other}\""))),
                }
            }
            E::BinaryOp { left, op: ast::BinaryOperator::Overlaps, right } => self.overlaps(left, right, scope),
            E::BinaryOp { left, op: ast::BinaryOperator::PGCustomBinaryOperator(parts), right } => {
                self.binary_operator(left, &named_operator(parts)?, right, scope)
            }
            E::BinaryOp { left, op, right }
                if (is_row(left) || is_row(right)) && *op != ast::BinaryOperator::StringConcat =>
            {
                self.row_comparison(operator(op)?, left, right, scope)
            }
            E::Tuple(parts) => {
                let parts = parts.iter().map(|e| self.expr(e, scope)).collect::<Result<Vec<_>>>()?;
                function::call(Function::MakeRow, parts)
            }
            E::Array(array) => {
                let items = array.elem.iter().map(|e| self.expr(e, scope)).collect::<Result<Vec<_>>>()?;
                function::call(Function::MakeArray, items)
            }
            E::SimilarTo { negated, expr, pattern, escape_char } => {
                self.similar_to(expr, Pattern { pattern, escape: escape_char.as_deref() }, *negated, scope)
            }
            E::Collate { expr, collation } => {
                let operand = self.expr(expr, scope)?;
                collated(operand, collation)
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
            E::AnyOp { left, compare_op, right, is_some: _ } => {
                self.quantified(left, Comparison::of(compare_op)?, right, false, scope)
            }
            E::AllOp { left, compare_op, right } => {
                self.quantified(left, Comparison::of(compare_op)?, right, true, scope)
            }
            E::BinaryOp { op: ast::BinaryOperator::And, .. } => self.chain(BinaryOp::And, written, scope),
            E::BinaryOp { op: ast::BinaryOperator::Or, .. } => self.chain(BinaryOp::Or, written, scope),
            E::BinaryOp { left, op, right } => self.binary_operator(left, op, right, scope),
            E::IsNull(operand) => row_is_null(settle(self.expr(operand, scope)?)?, false),
            E::IsNotNull(operand) => row_is_null(settle(self.expr(operand, scope)?)?, true),
            E::IsTrue(operand) => self.truth(operand, true, false, scope),
            E::IsNotTrue(operand) => self.truth(operand, true, true, scope),
            E::IsFalse(operand) => self.truth(operand, false, false, scope),
            E::IsNotFalse(operand) => self.truth(operand, false, true, scope),
            E::IsUnknown(operand) => self.unknown(operand, false, scope),
            E::IsNotUnknown(operand) => self.unknown(operand, true, scope),
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
            E::Like { negated, any: _, expr, pattern, escape_char } => {
                self.like(expr, Pattern { pattern, escape: escape_char.as_deref() }, (*negated, false), scope)
            }
            E::ILike { negated, any: _, expr, pattern, escape_char } => {
                self.like(expr, Pattern { pattern, escape: escape_char.as_deref() }, (*negated, true), scope)
            }
            E::Cast { kind: _, expr, data_type, format: _ } => {
                let operand = self.expr(expr, scope)?;
                // Both are one type: what was written as json becomes of the form of jsonb.
                let operand = match data_type {
                    ast::DataType::JSONB if operand.sql_type() == SqlType::Json && self.is_made_here(&operand) => {
                        operand.cast(SqlType::Text)
                    }
                    _ => operand,
                };
                within_length(cast(operand, &sql_type(data_type)?)?, data_type)
            }
            E::Case { case_token: _, end_token: _, operand, conditions, else_result } => {
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
            E::Extract { field, syntax: _, expr } => {
                let part = field.to_string().trim_matches('\'').to_lowercase();
                let from = self.expr(expr, scope)?;
                function::call(Function::DatePart, vec![Expr::literal(Value::Text(part)), from])
            }
            E::Ceil { expr, field: _ } => {
                let operand = self.expr(expr, scope)?;
                function::call(Function::Ceil, vec![operand])
            }
            E::Floor { expr, field: _ } => {
                let operand = self.expr(expr, scope)?;
                function::call(Function::Floor, vec![operand])
            }
            E::Position { expr, r#in } => {
                let (part, text) = (self.expr(expr, scope)?, self.expr(r#in, scope)?);
                function::call(Function::Position, vec![text, part])
            }
            E::Substring { expr, substring_from, substring_for, special: _, shorthand: _ } => {
                let mut arguments = vec![self.expr(expr, scope)?];
                arguments.push(match substring_from {
                    Some(from) => self.expr(from, scope)?,
                    None => Expr::literal(Value::Integer(1)),
                });
                if let Some(count) = substring_for {
                    arguments.push(self.expr(count, scope)?);
                }
                self.call_by_name("substring", arguments)
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
            E::InSubquery { expr, subquery, negated } => {
                self.any(Comparison::Order(BinaryOp::Eq), expr, subquery, *negated, scope)
            }
            E::IsNormalized { expr, form, negated } => {
                let operand = settle(self.expr(expr, scope)?)?;
                let form = form.map_or("NFC".to_owned(), |form| form.to_string());
                let arguments = vec![operand.clone(), Expr::literal(Value::Text(form))];
                let normal = function::call(Function::Normalize, arguments)?;
                let op = if *negated { BinaryOp::NotEq } else { BinaryOp::Eq };
                binary(op, operand, normal)
            }
            E::Exists { subquery, negated } => self.exists(subquery, *negated, scope),
            E::QualifiedWildcard(name, _) => {
                let parts: Vec<String> = name.0.iter().filter_map(|p| p.as_ident().map(folded)).collect();
                self.whole_row(&parts, scope)
            }
            // Refused before binding, each at its place.
            other @ (E::JsonAccess { .. }
            | E::IsJson { .. }
            | E::InUnnest { .. }
            | E::RLike { .. }
            | E::Convert { .. }
            | E::Prefixed { .. }
            | E::GroupingSets(_)
            | E::Cube(_)
            | E::Rollup(_)
            | E::Struct { .. }
            | E::Named { .. }
            | E::Dictionary(_)
            | E::Map(_)
            | E::MatchAgainst { .. }
            | E::Wildcard(_)
            | E::OuterJoin(_)
            | E::Prior(_)
            | E::Lambda(_)
            | E::MemberOf(_)) => Err(Error::unsupported(format_args!("the expression {other}"))),
        }
    }

    fn binary_operator(
        &mut self,
        left: &'a ast::Expr,
        op: &ast::BinaryOperator,
        right: &'a ast::Expr,
        scope: &Scope,
    ) -> Result<Expr> {
        let (left, right) = (self.expr(left, scope)?, self.expr(right, scope)?);
        // JSON loses members by the sign of subtraction.
        if *op == ast::BinaryOperator::Minus && left.sql_type() == SqlType::Json {
            return function::call(Function::JsonDelete, vec![left, right]);
        }
        if special(op).is_some() {
            return special_operator(op, left, right);
        }
        match Comparison::of(op)? {
            Comparison::Order(op) => binary(op, left, right),
            pattern => pattern.apply(left, right),
        }
    }

    /// `(start, end) OVERLAPS (start, end)`, the ends also as lengths (SQL:2016 part 2, 8.14; PostgreSQL manual 9.9).
    fn overlaps(&mut self, left: &'a ast::Expr, right: &'a ast::Expr, scope: &Scope) -> Result<Expr> {
        let mut spans = Vec::new();
        for side in [left, right] {
            let [start, end]: [Expr; 2] = self
                .row(side, scope)?
                .try_into()
                .map_err(|_| Error::new(Code::Syntax, "OVERLAPS compares two pairs of times"))?;
            let end = match end.sql_type() {
                SqlType::Interval => binary(BinaryOp::Plus, start.clone(), end)?,
                _ => end,
            };
            spans.push([start, end]);
        }
        let (parts, common) = unify_all(spans.into_iter().flatten().collect(), "OVERLAPS")?;
        if !common.is_time_point() && common != SqlType::Time {
            return Err(Error::new(Code::UnknownFunction, format!("OVERLAPS does not take {common}")));
        }
        let [s, e, t, f]: [Expr; 4] =
            parts.try_into().map_err(|_| Error::internal("OVERLAPS of other than two pairs"))?;
        Ok(Expr::Call { function: Function::Overlaps, arguments: vec![s, e, t, f], sql_type: SqlType::Boolean })
    }

    fn unknown(&mut self, written: &'a ast::Expr, negated: bool, scope: &Scope) -> Result<Expr> {
        let operand = condition(self.expr(written, scope)?, "IS UNKNOWN")?;
        Ok(Expr::IsNull { operand: Box::new(operand), negated })
    }

    /// The statement's start as a clock in the session's zone shows it.
    pub(super) fn clock_now(&self) -> i64 {
        session_zone().clock(self.context.now).unwrap_or(self.context.now)
    }

    pub(super) fn today(&self) -> i32 {
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

    pub(super) fn name(&mut self, idents: &[ast::Ident], scope: &Scope) -> Result<Expr> {
        let parts: Vec<String> = idents.iter().map(folded).collect();
        let position = idents.first().and_then(|ident| position_of(ident.span));
        let mut found = scope.find(&parts, position)?;
        if matches!(found, Found::Nothing) {
            for outer in self.outer.iter().rev() {
                found = outer.scope.find(&parts, position)?;
                if matches!(found, Found::Column(..)) {
                    break;
                }
            }
        }
        let Found::Column(entry, used) = found else {
            // The name of a table alone is its whole row.
            if parts.len() == 1 && self.has_table(&parts, scope) {
                return self.whole_row(&parts, scope);
            }
            let error = scope.unknown(&parts, self.outer.iter().map(|outer| &outer.scope)).at(position);
            return Err(match idents {
                [only] if only.quote_style.is_some() && error.hint.is_none() => {
                    error.hint(format!("double quotes are for names; a text stands in single ones: '{}'", only.value))
                }
                _ => error,
            });
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

    /// All columns of a table or alias as one value.
    pub(super) fn whole_row(&mut self, parts: &[String], scope: &Scope) -> Result<Expr> {
        let found = scope.row_of(parts).or_else(|| self.outer.iter().rev().find_map(|outer| outer.scope.row_of(parts)));
        let Some(columns) = found else {
            return Err(scope.unknown(parts, self.outer.iter().map(|outer| &outer.scope)));
        };
        if columns.iter().any(|c| c.may_be_missing) {
            let name = parts.join(".");
            return Err(Error::unsupported(format_args!(
                "\"{name}\" as one value where an outer join may leave it out"
            ))
            .hint("name its columns, such as ROW(…)"));
        }
        let fields =
            columns.iter().map(|c| RowField { name: c.name.clone(), sql_type: c.column.sql_type.clone() }).collect();
        let arguments = columns.into_iter().map(|c| Expr::Column(c.column)).collect();
        Ok(Expr::Call { function: Function::MakeRow, arguments, sql_type: SqlType::Row(fields) })
    }

    /// `$n`: the n-th value that came with the statement.
    fn parameter(&self, name: &str) -> Result<Expr> {
        let number = name.strip_prefix('$').and_then(|n| n.parse::<usize>().ok()).filter(|n| *n > 0);
        let Some(number) = number else { return Err(Error::unsupported(format_args!("the parameter {name}"))) };
        let known = match self.context.parameters {
            Parameters::Known(known) => known,
            Parameters::Wanted(_) if number > MOST_PARAMETERS => {
                return Err(Error::new(
                    Code::UnknownParameter,
                    format!("{name} is beyond the {MOST_PARAMETERS} parameters that a statement may have"),
                ));
            }
            Parameters::Wanted(given) => {
                let sql_type = given.get(number - 1).cloned().flatten().unwrap_or(SqlType::Null);
                return Ok(Expr::Parameter { number, sql_type });
            }
        };
        match known.get(number - 1) {
            // An array is written as a text, which is read item by item.
            Some((value @ Value::Text(_), sql_type @ SqlType::Array(_))) => {
                coerce(Expr::Literal { value: value.clone(), sql_type: SqlType::Null }, sql_type)
            }
            Some((value, sql_type)) => Ok(Expr::Literal { value: value.clone(), sql_type: sql_type.clone() }),
            None => Err(Error::new(Code::UnknownParameter, format!("there is no value for the parameter {name}"))
                .hint(format!("the statement came with {}", known.len()))),
        }
    }

    fn truth(&mut self, written: &'a ast::Expr, value: bool, negated: bool, scope: &Scope) -> Result<Expr> {
        let operand = condition(self.expr(written, scope)?, "IS TRUE")?;
        let op = if negated { BinaryOp::IsDistinctFrom } else { BinaryOp::IsNotDistinctFrom };
        binary(op, operand, Expr::boolean(value))
    }

    fn has_table(&self, parts: &[String], scope: &Scope) -> bool {
        scope.row_of(parts).is_some() || self.outer.iter().any(|outer| outer.scope.row_of(parts).is_some())
    }

    /// Where a column of this expression was named in the text.
    pub(super) fn place_of(&self, expr: &Expr) -> Option<Position> {
        expr.columns().iter().find_map(|id| self.named_at.get(id).copied())
    }
}

/// Texts are compared by their bytes, which is what these collations ask for.
fn collated(operand: Expr, collation: &ast::ObjectName) -> Result<Expr> {
    let operand = settle(operand)?;
    let own = operand.sql_type();
    if own != SqlType::Text {
        return Err(Error::new(Code::TypeMismatch, format!("COLLATE is for texts, not {own}")));
    }
    let name = collation.0.last().and_then(|part| part.as_ident()).map(|ident| ident.value.clone()).unwrap_or_default();
    if ["c", "posix", "ucs_basic", "default"].contains(&name.to_lowercase().as_str()) {
        return Ok(operand);
    }
    Err(Error::new(Code::UnknownObject, format!("there is no collation \"{name}\""))
        .hint("texts are compared by their bytes, which COLLATE \"C\" says"))
}

impl Binder<'_> {
    /// What a function or an aggregate makes; other columns come in the form that their source gives them.
    pub(super) fn is_made_here(&self, expr: &Expr) -> bool {
        match expr {
            Expr::Call { .. } => true,
            Expr::Column(column) => {
                self.select.iter().flat_map(|s| &s.aggregates).any(|(made, _)| made.id == column.id)
            }
            _ => false,
        }
    }
}
