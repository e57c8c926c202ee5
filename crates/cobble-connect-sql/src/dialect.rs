//! What differs between databases: how names, values and expressions are written, and which of them mean the same there.

use std::fmt;

use cobble_functions::Function;
use cobble_plan::aggregate::AggregateCall;
use cobble_plan::expr::{BinaryOp, Column, Expr};
use cobble_plan::logical::{JoinKind, SortKey};
use cobble_types::{SqlType, Value};

use super::change::ChangeForm;
use super::expression;
use super::sql::{Parameter, Refusal, Sql};

/// The text of each column that may be used.
pub type Columns<'a> = &'a dyn Fn(&Column) -> Option<Sql>;

pub trait Dialect: Send + Sync + fmt::Debug {
    /// The kind of connection, such as `postgres`.
    fn kind(&self) -> &'static str;
    /// How the database's own statements are read.
    fn parser(&self) -> &'static dyn sqlparser::dialect::Dialect;
    /// What stands around names, such as `"`.
    fn quote(&self) -> char;
    /// How a statement names a parameter so that it has its SQL type.
    fn reference(&self, parameter: &Parameter, number: usize) -> String;
    /// The expression, if it provably means the same there.
    fn translate(&self, expr: &Expr, columns: Columns<'_>) -> Result<Sql, Refusal> {
        expression::translated(self, expr, columns)
    }
    fn literal(&self, value: &Value, sql_type: &SqlType) -> Result<Sql, Refusal>;
    fn compared(&self, op: BinaryOp, sides: [&Expr; 2], columns: Columns<'_>) -> Result<Sql, Refusal>;
    /// Arithmetic, and texts one after another.
    fn computed(&self, op: BinaryOp, sides: [&Expr; 2], result: &SqlType, columns: Columns<'_>)
    -> Result<Sql, Refusal>;
    fn negated(&self, operand: &Expr, columns: Columns<'_>) -> Result<Sql, Refusal>;
    /// What LIKE regardless of case depends on there.
    fn letter_case(&self) -> &'static str;
    /// An operand and a pattern.
    fn like(&self, sides: [&Expr; 2], negated: bool, columns: Columns<'_>) -> Result<Sql, Refusal>;
    /// What IN looks for, and its list.
    fn listed(&self, operand: &Expr, list: &[Expr], columns: Columns<'_>) -> Result<(Sql, Vec<Sql>), Refusal>;
    /// What stands behind a CASE of this type.
    fn case_type(&self, sql_type: &SqlType) -> Result<String, Refusal>;
    fn cast(&self, operand: &Expr, sql_type: &SqlType, columns: Columns<'_>) -> Result<Sql, Refusal>;
    /// A call of a function that gives the same for the same arguments.
    fn call(
        &self,
        function: Function,
        arguments: &[Expr],
        result: &SqlType,
        columns: Columns<'_>,
    ) -> Result<Sql, Refusal>;
    /// What rows are grouped or ordered by, or an aggregate is made of: more than the values that come out must be in order then.
    fn key(&self, expr: &Expr, columns: Columns<'_>) -> Result<Sql, Refusal> {
        self.translate(expr, columns)
    }
    /// A condition on rows, which holds or not: what is unknown for a row may be false.
    fn condition(&self, condition: &Expr, columns: Columns<'_>) -> Result<Sql, Refusal> {
        self.translate(condition, columns)
    }
    /// With `over`, for each row over its window instead of over a group.
    fn aggregate(&self, call: &AggregateCall, columns: Columns<'_>, over: Option<&Sql>) -> Result<Sql, Refusal>;
    /// What the database lacks of window functions.
    fn windows(&self) -> WindowLimits {
        WindowLimits::default()
    }
    /// A text column of a derived table: its collation must not conflict with that of another text.
    fn derived_text(&self, sql: Sql) -> Sql {
        sql
    }
    /// An expression of a query that is one of several in a UNION.
    fn united(&self, sql: Sql, sql_type: &SqlType) -> Sql {
        let _ = sql_type;
        sql
    }
    /// Whether values of this expression fall into the same groups there.
    fn groups(&self, expr: &Expr) -> Result<(), Refusal>;
    /// A translated sort key with its direction, and where nulls go.
    fn sort_key(&self, key: &SortKey, sql: Sql) -> Result<Sql, Refusal>;
    fn limit(&self, limit: Option<u64>, offset: u64) -> String;
    /// A complete statement as it goes to the server; `plain` says that it has columns and binds no value.
    fn sent(&self, text: String, plain: bool) -> String {
        let _ = plain;
        text
    }
    /// Whether joins of this kind are written.
    fn joins(&self, kind: JoinKind) -> bool;
    /// The SELECT list of a query whose columns are not needed.
    fn no_columns(&self) -> &'static str {
        "1"
    }
    /// Whether keys of a join can be sent for a column of this type.
    fn takes_keys(&self, sql_type: &SqlType) -> bool;

    /// How a statement is written that changes rows found by a query.
    fn change_form(&self) -> ChangeForm;

    /// What stands before the columns of the changed table, known by the alias, where such a statement gives rows back; `None` where it
    /// gives none.
    fn changed_row(&self, alias: &str) -> Option<String> {
        let _ = alias;
        None
    }

    /// A value for a column, as it is bound.
    fn stored(&self, value: &Value, sql_type: &SqlType) -> Parameter {
        Parameter(value.clone(), sql_type.clone())
    }

    fn quoted(&self, name: &str) -> String {
        let quote = self.quote();
        format!("{quote}{}{quote}", name.replace(quote, &format!("{quote}{quote}")))
    }
}

/// What not every database has.
#[derive(Debug, Clone, Copy, Default)]
pub struct WindowLimits {
    /// No frames of groups of equal rows, and none without some of their rows.
    pub only_rows_and_range: bool,
    /// No value of one's own where `lag` and `lead` find no row.
    pub no_default: bool,
    /// Shares such as `cume_dist` are rounded to some digits.
    pub rounds_shares: bool,
}

/// Pieces put into a pattern: each `?` takes the next one.
pub fn wrap(parts: &[&Sql], pattern: &str) -> Sql {
    let mut out = Sql::default();
    let mut parts = parts.iter();
    for (i, piece) in pattern.split('?').enumerate() {
        if i > 0
            && let Some(part) = parts.next()
        {
            out.push(part);
        }
        out.text(piece);
    }
    out
}
