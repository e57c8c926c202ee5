//! Writes SQL for SQLite, which computes with few types: decimals are floating-point there, and times are text in any form. Such work stays in the
//! engine. Where SQLite's meaning differs, the statement calls a function of ours.

use cobble_functions::Function;
use cobble_plan::aggregate::{AggregateCall, AggregateFunction};
use cobble_plan::expr::{BinaryOp, Expr};
use cobble_plan::logical::{JoinKind, SortKey};
use cobble_plan::offer::KeptReason;
use cobble_types::{SqlType, Value};

use super::functions;
use cobble_connect_sql::expression::{cast_differs, plain_call};
use cobble_connect_sql::{ChangeForm, Columns, Dialect, Parameter, Refusal, Sql, wrap, write};

/// For databases of one text encoding: only in UTF-8 is the order of bytes that of the engine.
#[derive(Debug)]
pub struct SqliteDialect {
    pub utf8: bool,
}

/// Whether values of this type compare there as they do here, and why not.
fn comparable(sql_type: &SqlType) -> Result<(), Refusal> {
    match sql_type {
        SqlType::SmallInt | SqlType::Integer | SqlType::BigInt | SqlType::Double => Ok(()),
        SqlType::Boolean | SqlType::Text | SqlType::Date | SqlType::Null => Ok(()),
        SqlType::Numeric { .. } => Err(differs("decimals are floating-point there")),
        SqlType::Timestamp | SqlType::TimestampTz | SqlType::Time => {
            Err(differs(format!("a {sql_type} is text there, which has several forms")))
        }
        other => Err(differs(format!("{other} is compared in another way"))),
    }
}

fn differs(note: impl Into<String>) -> Refusal {
    (KeptReason::TypeDiffers, note.into())
}

/// A number of type `numeric` that is whole and held as an integer there, such as a part of a date; `None` for other expressions.
fn whole_number(expr: &Expr, translate: &dyn Fn(&Expr) -> Result<Sql, Refusal>) -> Option<Result<Sql, Refusal>> {
    if !matches!(expr.sql_type(), SqlType::Numeric { scale: 0, .. }) {
        return None;
    }
    match expr {
        Expr::Literal { value: Value::Numeric { unscaled, .. }, .. } => {
            let value = i64::try_from(*unscaled).ok()?;
            Some(Ok(Sql::parameter(Parameter(Value::BigInt(value), SqlType::BigInt))))
        }
        Expr::Cast { operand, .. } if operand.sql_type().is_integer() => Some(translate(operand)),
        Expr::Call { function: Function::DatePart, .. } => Some(translate(expr)),
        _ => None,
    }
}

impl SqliteDialect {
    /// The file's encoding of texts, in SQLite's words where it matters which.
    pub fn encoding(&self) -> &'static str {
        if self.utf8 { "UTF-8" } else { "UTF-16" }
    }

    /// Both sides of a comparison, of types that compare there as here.
    fn comparands(&self, sides: [&Expr; 2], columns: Columns<'_>) -> Result<[Sql; 2], Refusal> {
        let sub = |e: &Expr| self.translate(e, columns);
        if let [Some(left), Some(right)] = sides.map(|side| whole_number(side, &sub)) {
            return Ok([left?, right?]);
        }
        comparable(&sides[0].sql_type())?;
        comparable(&sides[1].sql_type())?;
        Ok([sub(sides[0])?, sub(sides[1])?])
    }

    fn ordered(&self, sql_type: &SqlType) -> Result<(), Refusal> {
        comparable(sql_type)?;
        if *sql_type == SqlType::Text && !self.utf8 {
            return Err((KeptReason::CollationDiffers, "the database is not in UTF-8".into()));
        }
        Ok(())
    }
}

/// A LIKE pattern as GLOB writes it, which tells upper from lower case; `None` when it ends in an open escape.
fn glob(pattern: &str) -> Option<String> {
    let mut out = String::with_capacity(pattern.len() + 4);
    let mut characters = pattern.chars();
    while let Some(c) = characters.next() {
        match c {
            '%' => out.push('*'),
            '_' => out.push('?'),
            _ => {
                let plain = if c == '\\' { characters.next()? } else { c };
                match plain {
                    '*' | '?' | '[' => out.extend(['[', plain, ']']),
                    other => out.push(other),
                }
            }
        }
    }
    Some(out)
}

impl Dialect for SqliteDialect {
    fn kind(&self) -> &'static str {
        "sqlite"
    }

    fn parser(&self) -> &'static dyn sqlparser::dialect::Dialect {
        &sqlparser::dialect::SQLiteDialect {}
    }

    fn quote(&self) -> char {
        '"'
    }

    fn reference(&self, _: &Parameter, number: usize) -> String {
        format!("?{number}")
    }

    fn literal(&self, value: &Value, sql_type: &SqlType) -> Result<Sql, Refusal> {
        match value {
            Value::Null => Ok(Sql::new("NULL")),
            Value::Boolean(v) => Ok(Sql::new(if *v { "1" } else { "0" })),
            Value::Double(v) if !v.is_finite() => Err(differs(format!("{v} has no place there"))),
            Value::Text(text) if text.contains('\0') => Err(differs("texts end at a zero byte there")),
            _ => {
                comparable(sql_type)?;
                Ok(Sql::parameter(Parameter(value.clone(), sql_type.clone())))
            }
        }
    }

    fn compared(&self, op: BinaryOp, sides: [&Expr; 2], columns: Columns<'_>) -> Result<Sql, Refusal> {
        let own = sides[0].sql_type();
        let symbol = match op {
            BinaryOp::IsDistinctFrom => "IS NOT",
            BinaryOp::IsNotDistinctFrom => "IS",
            BinaryOp::Lt | BinaryOp::LtEq | BinaryOp::Gt | BinaryOp::GtEq => {
                if !matches!(own, SqlType::Numeric { .. }) {
                    self.ordered(&own)?;
                }
                op.symbol()
            }
            _ => op.symbol(),
        };
        let [left, right] = self.comparands(sides, columns)?;
        let collation = if own == SqlType::Text { " COLLATE BINARY" } else { "" };
        Ok(wrap(&[&left, &right], &format!("(?{collation} {symbol} ?)")))
    }

    /// Arithmetic of whole numbers, days between dates, and texts.
    fn computed(
        &self,
        op: BinaryOp,
        sides: [&Expr; 2],
        result: &SqlType,
        columns: Columns<'_>,
    ) -> Result<Sql, Refusal> {
        let types = sides.map(Expr::sql_type);
        let [left, right] = [self.translate(sides[0], columns)?, self.translate(sides[1], columns)?];
        if op == BinaryOp::Concat && types == [SqlType::Text, SqlType::Text] {
            return Ok(wrap(&[&left, &right], "(? || ?)"));
        }
        if op == BinaryOp::Minus && types == [SqlType::Date, SqlType::Date] {
            return Ok(wrap(&[&left, &right], "cobble_days_between(?, ?)"));
        }
        match (functions::arithmetic(op), functions::bits(result)) {
            (Some(name), Some(bits)) if types.iter().all(SqlType::is_integer) => {
                Ok(wrap(&[&left, &right], &format!("{name}(?, ?, {bits})")))
            }
            _ => Err(differs("decimals, times and what is no number have other types there")),
        }
    }

    fn negated(&self, operand: &Expr, columns: Columns<'_>) -> Result<Sql, Refusal> {
        match functions::bits(&operand.sql_type()) {
            Some(bits) => Ok(wrap(&[&self.translate(operand, columns)?], &format!("cobble_minus(0, ?, {bits})"))),
            None => Err(differs("only whole numbers are computed with there")),
        }
    }

    fn letter_case(&self) -> &'static str {
        "only the letters of ASCII have two cases there"
    }

    fn like(&self, [operand, pattern]: [&Expr; 2], negated: bool, columns: Columns<'_>) -> Result<Sql, Refusal> {
        let pattern = match pattern {
            Expr::Literal { value: Value::Text(pattern), .. } if !pattern.contains('\0') => glob(pattern),
            _ => None,
        };
        let Some(pattern) = pattern else {
            return Err((KeptReason::NoSuchAbility, "only constant patterns are written as GLOB".to_owned()));
        };
        let word = if negated { "NOT GLOB" } else { "GLOB" };
        let pattern = Sql::parameter(Parameter(Value::Text(pattern), SqlType::Text));
        Ok(wrap(&[&self.translate(operand, columns)?, &pattern], &format!("(? {word} ?)")))
    }

    fn listed(&self, operand: &Expr, list: &[Expr], columns: Columns<'_>) -> Result<(Sql, Vec<Sql>), Refusal> {
        let pairs = list.iter().map(|item| self.comparands([operand, item], columns));
        let pairs = pairs.collect::<Result<Vec<_>, _>>()?;
        let Some(searched) = pairs.first().map(|[searched, _]| searched.clone()) else {
            return Err((KeptReason::NoSuchAbility, "an empty list is not written".to_owned()));
        };
        let is_text = operand.sql_type() == SqlType::Text;
        let searched = if is_text { wrap(&[&searched], "? COLLATE BINARY") } else { searched };
        Ok((searched, pairs.into_iter().map(|[_, item]| item).collect()))
    }

    fn case_type(&self, _: &SqlType) -> Result<String, Refusal> {
        Ok(String::new())
    }

    fn cast(&self, operand: &Expr, to: &SqlType, columns: Columns<'_>) -> Result<Sql, Refusal> {
        let from = operand.sql_type();
        let inner = self.translate(operand, columns)?;
        match (&from, to) {
            (SqlType::SmallInt, SqlType::Integer | SqlType::BigInt) | (SqlType::Integer, SqlType::BigInt) => Ok(inner),
            (a, SqlType::Double) if a.is_integer() => Ok(wrap(&[&inner], "CAST(? AS REAL)")),
            (a, SqlType::Text) if a.is_integer() => Ok(wrap(&[&inner], "CAST(? AS TEXT)")),
            // A part of a date, which is a small number.
            (_, SqlType::Integer | SqlType::BigInt)
                if matches!(operand, Expr::Call { function: Function::DatePart, .. }) =>
            {
                Ok(inner)
            }
            _ => Err(cast_differs(&from, to)),
        }
    }

    /// A call of a function that is lent, where its arguments are held there as the function takes them.
    fn call(
        &self,
        function: Function,
        arguments: &[Expr],
        result: &SqlType,
        columns: Columns<'_>,
    ) -> Result<Sql, Refusal> {
        match (function, functions::bits(result)) {
            (Function::Coalesce, _) if arguments.len() > 1 => return plain_call(self, "coalesce", arguments, columns),
            (Function::Abs, Some(bits)) => {
                let operand = arguments.iter().map(|argument| self.translate(argument, columns));
                let operand = Sql::joined(&operand.collect::<Result<Vec<_>, _>>()?, ", ");
                return Ok(wrap(&[&operand], &format!("cobble_abs(?, {bits})")));
            }
            _ => {}
        }
        let takes = |argument: &Expr| {
            let own = argument.sql_type();
            own == SqlType::Text || own.is_integer() || (own == SqlType::Date && function == Function::DatePart)
        };
        match functions::lent(function) {
            // A part with a fraction is a number that is not whole, and other moments than dates have several forms.
            Some(name) if arguments.iter().all(takes) && !matches!(result, SqlType::Numeric { scale: 1.., .. }) => {
                plain_call(self, name, arguments, columns)
            }
            _ => {
                let note = format!("{}() is not known to give the same answer there", function.name());
                Err((KeptReason::FunctionDiffers, note))
            }
        }
    }

    fn aggregate(&self, call: &AggregateCall, columns: Columns<'_>, over: Option<&Sql>) -> Result<Sql, Refusal> {
        let kept = || Err((KeptReason::FunctionDiffers, format!("{} is computed by the engine", call.function.name())));
        if call.arguments.len() > 1 || !call.order.is_empty() {
            return kept();
        }
        let mut out = Sql::of_rows("");
        match (call.function, call.arguments.first()) {
            (AggregateFunction::Count, None) => {
                out.text("count(*)");
            }
            (function, Some(argument)) => {
                let own = argument.sql_type();
                match function {
                    AggregateFunction::Count if call.distinct => comparable(&own)?,
                    AggregateFunction::Count => {}
                    AggregateFunction::Min | AggregateFunction::Max => self.ordered(&own)?,
                    // A sum beyond 64 bits is an error there, and said to be one.
                    AggregateFunction::Sum if own.is_integer() => {}
                    AggregateFunction::Sum | AggregateFunction::Avg => {
                        return Err((KeptReason::TypeDiffers, "sums and averages are floating-point there".into()));
                    }
                    _ => return kept(),
                }
                let distinct = if call.distinct { "DISTINCT " } else { "" };
                out.text(&format!("{}({distinct}", function.name()))
                    .push(&self.translate(argument, columns)?)
                    .text(")");
            }
            (_, None) => return kept(),
        }
        if let Some(filter) = &call.filter {
            let condition = self.translate(filter, columns)?;
            out.text(" FILTER (WHERE ").push(&condition).text(")");
        }
        if let Some(over) = over {
            out.text(" OVER ").push(over);
        }
        Ok(out)
    }

    fn groups(&self, expr: &Expr) -> Result<(), Refusal> {
        match whole_number(expr, &|_| Ok(Sql::default())) {
            Some(_) => Ok(()),
            None => comparable(&expr.sql_type()),
        }
    }

    fn sort_key(&self, key: &SortKey, mut sql: Sql) -> Result<Sql, Refusal> {
        let own = key.expr.sql_type();
        self.ordered(&own)?;
        if own == SqlType::Text {
            sql.text(" COLLATE BINARY");
        }
        sql.text(if key.descending { " DESC" } else { " ASC" });
        sql.text(if key.nulls_first { " NULLS FIRST" } else { " NULLS LAST" });
        Ok(sql)
    }

    fn limit(&self, limit: Option<u64>, offset: u64) -> String {
        match (limit, offset) {
            (Some(n), 0) => format!(" LIMIT {n}"),
            (Some(n), offset) => format!(" LIMIT {n} OFFSET {offset}"),
            (None, offset) => format!(" LIMIT -1 OFFSET {offset}"),
        }
    }

    fn joins(&self, kind: JoinKind) -> bool {
        use JoinKind::{Anti, Inner, Left, NullAwareAnti, Right, Semi};
        matches!(kind, Inner | Left | Right | Semi | Anti | NullAwareAnti)
    }

    fn change_form(&self) -> ChangeForm {
        ChangeForm::FromIn
    }

    // RETURNING knows no alias, and no other table either.
    fn changed_row(&self, _: &str) -> Option<String> {
        Some(String::new())
    }

    fn stored(&self, value: &Value, sql_type: &SqlType) -> Parameter {
        write::stored(value, sql_type)
    }

    fn takes_keys(&self, sql_type: &SqlType) -> bool {
        sql_type.is_integer() || matches!(sql_type, SqlType::Text | SqlType::Date)
    }
}

#[cfg(test)]
mod tests {
    use super::glob;

    #[test]
    fn patterns_keep_their_meaning() {
        for (like, wanted) in [
            ("Quay%", Some("Quay*")),
            ("a_c", Some("a?c")),
            ("50\\%", Some("50%")),
            ("a*b?[c]", Some("a[*]b[?][[]c]")),
            ("\\_x\\\\", Some("_x\\")),
            ("open\\", None),
        ] {
            assert_eq!(glob(like).as_deref(), wanted, "{like}");
        }
    }
}
