//! How PostgreSQL writes what it takes over.

use cobble_functions::Function;
use cobble_plan::aggregate::{AggregateCall, AggregateFunction};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::logical::{JoinKind, SortKey};
use cobble_plan::offer::KeptReason;
use cobble_types::{SqlType, Value};

use super::{functions, parameter, sql};
use cobble_connect_sql::{ChangeForm, Columns, Dialect, Parameter, Refusal, Sql, wrap};

#[derive(Debug)]
pub struct PostgresDialect;

impl Dialect for PostgresDialect {
    fn kind(&self) -> &'static str {
        "postgres"
    }

    fn parser(&self) -> &'static dyn sqlparser::dialect::Dialect {
        &sqlparser::dialect::PostgreSqlDialect {}
    }

    fn quote(&self) -> char {
        '"'
    }

    fn reference(&self, parameter: &Parameter, number: usize) -> String {
        parameter::reference(parameter, number)
    }

    fn literal(&self, value: &Value, sql_type: &SqlType) -> Result<Sql, Refusal> {
        sql::literal(value, sql_type)
    }

    fn compared(&self, op: BinaryOp, sides: [&Expr; 2], columns: Columns<'_>) -> Result<Sql, Refusal> {
        sql::compared(op, sides, columns)
    }

    fn computed(
        &self,
        op: BinaryOp,
        sides: [&Expr; 2],
        result: &SqlType,
        columns: Columns<'_>,
    ) -> Result<Sql, Refusal> {
        sql::computed(op, sides, result, columns)
    }

    fn negated(&self, operand: &Expr, columns: Columns<'_>) -> Result<Sql, Refusal> {
        Ok(wrap(&[&self.translate(operand, columns)?], "(- ?)"))
    }

    fn letter_case(&self) -> &'static str {
        "upper and lower case depend on the server's locale"
    }

    fn like(&self, [operand, pattern]: [&Expr; 2], negated: bool, columns: Columns<'_>) -> Result<Sql, Refusal> {
        let word = if negated { "NOT LIKE" } else { "LIKE" };
        let (operand, pattern) = (self.translate(operand, columns)?, self.translate(pattern, columns)?);
        Ok(wrap(&[&operand, &pattern], &format!("(? {word} ?)")))
    }

    fn listed(&self, operand: &Expr, list: &[Expr], columns: Columns<'_>) -> Result<(Sql, Vec<Sql>), Refusal> {
        sql::listed(operand, list, columns)
    }

    fn case_type(&self, sql_type: &SqlType) -> Result<String, Refusal> {
        Ok(format!("::{}", sql::type_name(sql_type)))
    }

    fn cast(&self, operand: &Expr, sql_type: &SqlType, columns: Columns<'_>) -> Result<Sql, Refusal> {
        sql::cast(operand, sql_type, columns)
    }

    fn call(
        &self,
        function: Function,
        arguments: &[Expr],
        result: &SqlType,
        columns: Columns<'_>,
    ) -> Result<Sql, Refusal> {
        functions::call(function, arguments, result, columns)
    }

    fn aggregate(&self, call: &AggregateCall, columns: Columns<'_>, over: Option<&Sql>) -> Result<Sql, Refusal> {
        aggregate(call, columns, over)
    }

    fn derived_text(&self, sql: Sql) -> Sql {
        wrap(&[&sql], "(? COLLATE \"C\")")
    }

    // Columns of other collations may stand at the same place in the other queries.
    fn united(&self, sql: Sql, sql_type: &SqlType) -> Sql {
        if *sql_type == SqlType::Text { wrap(&[&sql], "(? COLLATE \"C\")") } else { sql }
    }

    fn groups(&self, expr: &Expr) -> Result<(), Refusal> {
        match expr.sql_type() {
            SqlType::Interval => Err((KeptReason::TypeDiffers, "intervals are grouped in another way".into())),
            own if own.is_float() => {
                Err((KeptReason::TypeDiffers, "a group of zeros may be shown as 0 or -0 there".into()))
            }
            _ => Ok(()),
        }
    }

    fn sort_key(&self, key: &SortKey, mut sql: Sql) -> Result<Sql, Refusal> {
        let own = key.expr.sql_type();
        if matches!(own, SqlType::Interval | SqlType::Uuid) {
            return Err((KeptReason::TypeDiffers, format!("{own} is ordered in another way")));
        }
        if own == SqlType::Text {
            sql.text(" COLLATE \"C\"");
        }
        sql.text(if key.descending { " DESC" } else { " ASC" });
        sql.text(if key.nulls_first { " NULLS FIRST" } else { " NULLS LAST" });
        Ok(sql)
    }

    // COPY is the fastest way to read rows, but takes no bound values.
    fn sent(&self, text: String, plain: bool) -> String {
        if plain { format!("COPY ({text}) TO STDOUT (FORMAT binary)") } else { text }
    }

    fn limit(&self, limit: Option<u64>, offset: u64) -> String {
        let first = limit.map(|n| format!(" LIMIT {n}")).unwrap_or_default();
        if offset > 0 { format!("{first} OFFSET {offset}") } else { first }
    }

    fn joins(&self, kind: JoinKind) -> bool {
        use JoinKind::{Anti, Full, Inner, Left, NullAwareAnti, Right, Semi};
        matches!(kind, Inner | Left | Right | Full | Semi | Anti | NullAwareAnti)
    }

    fn no_columns(&self) -> &'static str {
        ""
    }

    fn change_form(&self) -> ChangeForm {
        ChangeForm::FromUsing
    }

    fn changed_row(&self, alias: &str) -> Option<String> {
        Some(format!("{alias}."))
    }

    fn takes_keys(&self, sql_type: &SqlType) -> bool {
        sql_type.is_integer()
            || matches!(
                sql_type,
                SqlType::Text | SqlType::Date | SqlType::Timestamp | SqlType::TimestampTz | SqlType::Numeric { .. }
            )
    }
}

fn aggregate(call: &AggregateCall, columns: Columns<'_>, over: Option<&Sql>) -> Result<Sql, Refusal> {
    let Some(argument) = call.arguments.first() else {
        return filtered(Sql::of_rows("count(*)"), call, columns, over);
    };
    if call.arguments.len() > 1 || !call.order.is_empty() {
        return Err((KeptReason::FunctionDiffers, format!("{} is computed by the engine", call.function.name())));
    }
    let own = argument.sql_type();
    let text = PostgresDialect.translate(argument, columns)?;
    let distinct = if call.distinct { "DISTINCT " } else { "" };
    let plain = |name: &str, argument: &Sql| {
        let mut out = Sql::of_rows(format!("{name}({distinct}"));
        out.push(argument).text(")");
        out
    };
    let cast = |mut sql: Sql| {
        sql.text(&format!("::{}", call.sql_type));
        sql
    };
    match call.function {
        AggregateFunction::Sum | AggregateFunction::Avg | AggregateFunction::Min | AggregateFunction::Max
            if own == SqlType::Interval =>
        {
            Err((KeptReason::TypeDiffers, "intervals are computed in another way".into()))
        }
        AggregateFunction::Sum | AggregateFunction::Avg if own.is_float() => {
            Err((KeptReason::TypeDiffers, "floating-point sums depend on the order of the rows".into()))
        }
        AggregateFunction::Count => filtered(plain("count", &text), call, columns, over),
        AggregateFunction::Sum => Ok(cast(filtered(plain("sum", &text), call, columns, over)?)),
        AggregateFunction::Avg => {
            // The server rounds an average to fewer digits. Its own sum over its own count, divided at 40 digits and
            // rounded once to ours, is exact for fewer than 10^23 rows.
            let SqlType::Numeric { scale, .. } = call.sql_type else {
                return Err((KeptReason::TypeDiffers, "this average is not numeric".into()));
            };
            let sum = filtered(plain("sum", &text), call, columns, over)?;
            let count = filtered(plain("count", &text), call, columns, over)?;
            let mut out = Sql::new("round(");
            out.push(&sum).text("::numeric(100,40) / nullif(").push(&count).text(&format!(", 0), {scale})"));
            Ok(cast(out))
        }
        AggregateFunction::Min | AggregateFunction::Max => {
            let mut ordered = text;
            if own == SqlType::Text {
                ordered.text(" COLLATE \"C\"");
            }
            filtered(plain(call.function.name(), &ordered), call, columns, over)
        }
        AggregateFunction::BoolAnd
        | AggregateFunction::BoolOr
        | AggregateFunction::BitAnd
        | AggregateFunction::BitOr
        | AggregateFunction::BitXor => filtered(plain(call.function.name(), &text), call, columns, over),
        other => Err((KeptReason::FunctionDiffers, format!("{} is computed by the engine", other.name()))),
    }
}

fn filtered(mut sql: Sql, call: &AggregateCall, columns: Columns<'_>, over: Option<&Sql>) -> Result<Sql, Refusal> {
    if let Some(filter) = &call.filter {
        let condition = PostgresDialect.translate(filter, columns)?;
        sql.text(" FILTER (WHERE ").push(&condition).text(")");
    }
    if let Some(over) = over {
        sql.text(" OVER ").push(over);
    }
    Ok(sql)
}
