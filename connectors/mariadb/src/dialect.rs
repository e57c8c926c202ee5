//! Writes SQL for MariaDB. Texts compare under a binary collation that does not pad. Decimals are cast where they are bound. A zero date, and a
//! result outside the range of its type, raises an error.

use cobble_functions::Function;
use cobble_plan::aggregate::{AggregateCall, AggregateFunction};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::logical::{JoinKind, SortKey};
use cobble_plan::offer::KeptReason;
use cobble_types::{SqlType, Value};

use super::functions;
use super::moments::{self, is_moment};
use super::numbers::{arithmetic, differs, ranged, signed};
use cobble_connect_sql::expression::{cast_differs, plain_call};
use cobble_connect_sql::{ChangeForm, Columns, Dialect, Parameter, Refusal, Sql, WindowLimits, wrap, write};

/// Compares by code points, which is the order of the bytes of UTF-8, and takes blanks at the end for what they are.
pub const BYTES: &str = "COLLATE utf8mb4_nopad_bin";

#[derive(Debug)]
pub struct MariaDialect;

fn comparable(sql_type: &SqlType) -> Result<(), Refusal> {
    match sql_type {
        SqlType::SmallInt | SqlType::Integer | SqlType::BigInt | SqlType::Numeric { .. } => Ok(()),
        SqlType::Double | SqlType::Boolean | SqlType::Text | SqlType::Null => Ok(()),
        SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz => Ok(()),
        SqlType::Real => Err((KeptReason::TypeDiffers, "single precision is widened in another way".into())),
        other => Err((KeptReason::TypeDiffers, format!("{other} is compared in another way"))),
    }
}

/// A pattern whose last sign is no open escape.
fn is_whole(pattern: &str) -> bool {
    pattern.chars().rev().take_while(|c| *c == '\\').count().is_multiple_of(2)
}

impl Dialect for MariaDialect {
    fn kind(&self) -> &'static str {
        "mariadb"
    }

    fn parser(&self) -> &'static dyn sqlparser::dialect::Dialect {
        &sqlparser::dialect::MySqlDialect {}
    }

    fn quote(&self) -> char {
        '`'
    }

    fn reference(&self, parameter: &Parameter, _: usize) -> String {
        match &parameter.1 {
            SqlType::Numeric { precision, scale } => format!("CAST(? AS DECIMAL({precision},{scale}))"),
            _ => "?".to_owned(),
        }
    }

    fn key(&self, expr: &Expr, columns: Columns<'_>) -> Result<Sql, Refusal> {
        let own = expr.sql_type();
        let sql = self.translate(expr, columns)?;
        Ok(if is_moment(&own) && matches!(expr, Expr::Column(_)) { moments::guarded(&sql, &own) } else { sql })
    }

    fn literal(&self, value: &Value, sql_type: &SqlType) -> Result<Sql, Refusal> {
        match value {
            Value::Null => Ok(Sql::new("NULL")),
            Value::Boolean(v) => Ok(Sql::new(if *v { "true" } else { "false" })),
            Value::Double(v) if !v.is_finite() => Err(differs(&format!("{v} has no place there"))),
            _ if is_moment(sql_type) => moments::literal(value, sql_type),
            _ => {
                comparable(sql_type)?;
                Ok(Sql::parameter(Parameter(value.clone(), sql_type.clone())))
            }
        }
    }

    fn compared(&self, op: BinaryOp, [left, right]: [&Expr; 2], columns: Columns<'_>) -> Result<Sql, Refusal> {
        let own = left.sql_type();
        comparable(&own)?;
        comparable(&right.sql_type())?;
        let collation = if own == SqlType::Text { format!(" {BYTES}") } else { String::new() };
        let pattern = match op {
            BinaryOp::IsDistinctFrom => format!("(NOT ?{collation} <=> ?)"),
            BinaryOp::IsNotDistinctFrom => format!("(?{collation} <=> ?)"),
            other => format!("(?{collation} {} ?)", other.symbol()),
        };
        Ok(wrap(&[&self.key(left, columns)?, &self.key(right, columns)?], &pattern))
    }

    fn computed(
        &self,
        op: BinaryOp,
        [left, right]: [&Expr; 2],
        result: &SqlType,
        columns: Columns<'_>,
    ) -> Result<Sql, Refusal> {
        let [l, r] = [self.key(left, columns)?, self.key(right, columns)?];
        match op {
            BinaryOp::Minus if *result == SqlType::Integer && left.sql_type() == SqlType::Date => {
                Ok(wrap(&[&l, &r], "datediff(?, ?)"))
            }
            BinaryOp::Concat => functions::concatenated(&[&l, &r]),
            op if op.is_arithmetic() => arithmetic(op, (left, right), (l, r), result),
            _ => Err(differs("results and their ranges have other types there")),
        }
    }

    fn negated(&self, operand: &Expr, columns: Columns<'_>) -> Result<Sql, Refusal> {
        let own = operand.sql_type();
        ranged(wrap(&[&signed(&self.key(operand, columns)?, &own)?], "(- ?)"), &own)
    }

    fn letter_case(&self) -> &'static str {
        "upper and lower case depend on the collation"
    }

    fn like(&self, [operand, pattern]: [&Expr; 2], negated: bool, columns: Columns<'_>) -> Result<Sql, Refusal> {
        match pattern {
            Expr::Literal { value: Value::Text(text), .. } if is_whole(text) => {
                let word = if negated { "NOT LIKE" } else { "LIKE" };
                let (operand, pattern) = (self.key(operand, columns)?, self.key(pattern, columns)?);
                Ok(wrap(&[&operand, &pattern], &format!("(? {BYTES} {word} ?)")))
            }
            _ => Err((KeptReason::NoSuchAbility, "only constant patterns are handed over".to_owned())),
        }
    }

    fn listed(&self, operand: &Expr, list: &[Expr], columns: Columns<'_>) -> Result<(Sql, Vec<Sql>), Refusal> {
        let own = operand.sql_type();
        comparable(&own)?;
        let list = list.iter().map(|item| self.key(item, columns)).collect::<Result<_, _>>()?;
        let operand = self.key(operand, columns)?;
        Ok((if own == SqlType::Text { wrap(&[&operand], &format!("? {BYTES}")) } else { operand }, list))
    }

    fn case_type(&self, sql_type: &SqlType) -> Result<String, Refusal> {
        match comparable(sql_type) {
            Ok(()) => Ok(String::new()),
            Err(_) => Err(differs("results and their ranges have other types there")),
        }
    }

    fn cast(&self, operand: &Expr, to: &SqlType, columns: Columns<'_>) -> Result<Sql, Refusal> {
        let from = operand.sql_type();
        let inner = self.key(operand, columns)?;
        let whole = |t: &SqlType| t.digits().map(|(precision, scale)| i16::from(precision) - i16::from(scale));
        match (&from, to) {
            (SqlType::SmallInt, SqlType::Integer | SqlType::BigInt) | (SqlType::Integer, SqlType::BigInt) => Ok(inner),
            // What does not fit would be cut to the greatest value.
            (a, SqlType::Numeric { precision, scale })
                if whole(a).is_some_and(|own| Some(own) <= whole(to))
                    && a.digits().is_some_and(|(_, own)| own <= *scale) =>
            {
                Ok(wrap(&[&inner], &format!("CAST(? AS DECIMAL({precision},{scale}))")))
            }
            (a, SqlType::Double) if a.is_integer() => Ok(wrap(&[&inner], "CAST(? AS DOUBLE)")),
            (a, SqlType::Text) if a.is_integer() => Ok(wrap(&[&inner], "CAST(? AS CHAR)")),
            // A part of a date, which is a small number.
            (_, SqlType::Integer | SqlType::BigInt)
                if matches!(operand, Expr::Call { function: Function::DatePart, .. }) =>
            {
                Ok(inner)
            }
            // The session there lives in UTC.
            (SqlType::Timestamp, SqlType::TimestampTz) | (SqlType::TimestampTz, SqlType::Timestamp) => Ok(inner),
            (SqlType::Date, SqlType::Timestamp | SqlType::TimestampTz) => Ok(wrap(&[&inner], "CAST(? AS DATETIME(6))")),
            (SqlType::Timestamp | SqlType::TimestampTz, SqlType::Date) => Ok(wrap(&[&inner], "CAST(? AS DATE)")),
            _ => Err(cast_differs(&from, to)),
        }
    }

    fn call(
        &self,
        function: Function,
        arguments: &[Expr],
        result: &SqlType,
        columns: Columns<'_>,
    ) -> Result<Sql, Refusal> {
        match (function, arguments) {
            (Function::Coalesce, [_, _, ..]) if comparable(result).is_ok() => {
                plain_call(self, "coalesce", arguments, columns)
            }
            (Function::DatePart, [Expr::Literal { value: Value::Text(part), .. }, from])
                if is_moment(&from.sql_type()) =>
            {
                moments::part(part, &self.key(from, columns)?)
            }
            (Function::DatePart, _) => Err(differs("parts are taken out of dates and moments alone")),
            (Function::DateTrunc, [Expr::Literal { value: Value::Text(part), .. }, from]) => {
                moments::start_of(part, &self.key(from, columns)?)
            }
            (Function::DateTrunc, _) => {
                Err((KeptReason::FunctionDiffers, "only constant parts are handed over".to_owned()))
            }
            _ => {
                let translated = arguments.iter().map(|argument| self.key(argument, columns));
                functions::call(function, arguments, &translated.collect::<Result<Vec<_>, _>>()?, result)
            }
        }
    }

    fn aggregate(&self, call: &AggregateCall, columns: Columns<'_>, over: Option<&Sql>) -> Result<Sql, Refusal> {
        let kept = || Err((KeptReason::FunctionDiffers, format!("{} is computed by the engine", call.function.name())));
        if call.arguments.len() > 1 || !call.order.is_empty() {
            return kept();
        }
        let argument = match (call.function, call.arguments.first()) {
            (AggregateFunction::Count, None) => Sql::new(if call.filter.is_some() { "1" } else { "*" }),
            (_, None) => return kept(),
            (function, Some(argument)) => {
                let own = argument.sql_type();
                match function {
                    AggregateFunction::Count if call.distinct => comparable(&own)?,
                    AggregateFunction::Count => {}
                    AggregateFunction::Min | AggregateFunction::Max if own != SqlType::Boolean => comparable(&own)?,
                    // More digits could leave the range in which the sum is divided.
                    AggregateFunction::Avg
                        if own.digits().is_some_and(|(p, s)| i16::from(p) - i16::from(s) <= 19)
                            && matches!(call.sql_type, SqlType::Numeric { scale: ..=30, .. }) => {}
                    AggregateFunction::Sum if own.is_integer() || matches!(own, SqlType::Numeric { .. }) => {}
                    AggregateFunction::Sum | AggregateFunction::Avg => {
                        return Err((KeptReason::TypeDiffers, "the sum or average is computed in another way".into()));
                    }
                    _ => return kept(),
                }
                self.key(argument, columns)?
            }
        };
        let argument = match &call.filter {
            None => argument,
            // The standard's FILTER is written as a CASE: what does not pass is null.
            Some(filter) => wrap(&[&self.translate(filter, columns)?, &argument], "CASE WHEN ? THEN ? END"),
        };
        let distinct = if call.distinct { "DISTINCT " } else { "" };
        let plain = |name: &str| {
            let mut out = Sql::of_rows(format!("{name}({distinct}"));
            out.push(&argument).text(")");
            if let Some(over) = over {
                out.text(" OVER ").push(over);
            }
            out
        };
        match (call.function, &call.sql_type) {
            // The server rounds an average to a few digits more than its values have. Its sum over its count, divided at 38 digits and
            // rounded once, is exact for fewer than 10^12 rows.
            (AggregateFunction::Avg, SqlType::Numeric { scale, .. }) => {
                let pattern = format!("round(CAST(? AS DECIMAL(65,34)) / nullif(?, 0), {scale})");
                Ok(wrap(&[&plain("sum"), &plain("count")], &pattern))
            }
            (function, _) => Ok(plain(function.name())),
        }
    }

    fn condition(&self, condition: &Expr, columns: Columns<'_>) -> Result<Sql, Refusal> {
        match moments::condition(condition, columns) {
            Some(sql) => Ok(sql),
            None => self.translate(condition, columns),
        }
    }

    fn windows(&self) -> WindowLimits {
        WindowLimits { only_rows_and_range: true, no_default: true, rounds_shares: true }
    }

    // What is bound has a collation of its own.
    fn united(&self, sql: Sql, sql_type: &SqlType) -> Sql {
        if *sql_type == SqlType::Text { wrap(&[&sql], &format!("(CONVERT(? USING utf8mb4) {BYTES})")) } else { sql }
    }

    fn groups(&self, expr: &Expr) -> Result<(), Refusal> {
        match expr.sql_type() {
            SqlType::Double => Err((KeptReason::TypeDiffers, "two zeros may be two groups there".into())),
            other => comparable(&other),
        }
    }

    fn sort_key(&self, key: &SortKey, sql: Sql) -> Result<Sql, Refusal> {
        let own = key.expr.sql_type();
        comparable(&own)?;
        let collation = if own == SqlType::Text { format!(" {BYTES}") } else { String::new() };
        let nulls = if key.nulls_first { "DESC" } else { "ASC" };
        let direction = if key.descending { "DESC" } else { "ASC" };
        Ok(wrap(&[&sql, &sql], &format!("(? IS NULL) {nulls}, ?{collation} {direction}")))
    }

    fn limit(&self, limit: Option<u64>, offset: u64) -> String {
        match (limit, offset) {
            (Some(n), 0) => format!(" LIMIT {n}"),
            (limit, offset) => format!(" LIMIT {} OFFSET {offset}", limit.unwrap_or(u64::MAX)),
        }
    }

    fn joins(&self, kind: JoinKind) -> bool {
        use JoinKind::{Anti, Inner, Left, NullAwareAnti, Right, Semi};
        matches!(kind, Inner | Left | Right | Semi | Anti | NullAwareAnti)
    }

    fn change_form(&self) -> ChangeForm {
        ChangeForm::Join
    }

    fn stored(&self, value: &Value, sql_type: &SqlType) -> Parameter {
        write::stored(value, sql_type)
    }

    fn takes_keys(&self, sql_type: &SqlType) -> bool {
        sql_type.is_integer() || matches!(sql_type, SqlType::Text | SqlType::Numeric { .. }) || is_moment(sql_type)
    }
}
