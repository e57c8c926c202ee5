//! The logical plan: an immutable tree of relational operators over columns known by id.

use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

use cobble_types::{ColumnId, ObjectName, SqlType};

use crate::aggregate::AggregateCall;
use crate::expr::{Column, Expr, comma_separated};
use crate::offer::Source;
use crate::statistics::TableStatistics;

/// A table as its connector describes it.
#[derive(Debug)]
pub struct Table {
    pub name: ObjectName,
    pub columns: Vec<TableColumn>,
    pub statistics: TableStatistics,
    /// Column positions of the primary key, empty when there is none.
    pub primary_key: Vec<usize>,
    pub kind: TableKind,
    pub source: Arc<dyn Source>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TableKind {
    Table,
    View,
}

#[derive(Debug, Clone, PartialEq)]
pub struct TableColumn {
    pub name: String,
    pub sql_type: SqlType,
    pub nullable: bool,
    /// True for a column whose value is the name of a `key=value` folder.
    pub partition: bool,
    pub comment: Option<String>,
}

#[derive(Debug, Clone)]
pub struct Scan {
    pub table: Arc<Table>,
    /// The columns read, with their position in the table.
    pub columns: Vec<(Column, usize)>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum JoinKind {
    Inner,
    Left,
    Right,
    Full,
    /// Left rows with at least one partner.
    Semi,
    /// Left rows without a partner.
    Anti,
    /// `NOT IN`: left rows of which it is certain that no right row equals them.
    NullAwareAnti,
}

impl JoinKind {
    pub fn words(self) -> &'static str {
        match self {
            JoinKind::Inner => "join",
            JoinKind::Left => "left join",
            JoinKind::Right => "right join",
            JoinKind::Full => "full join",
            JoinKind::Semi => "semi join",
            JoinKind::Anti => "anti join",
            JoinKind::NullAwareAnti => "null-aware anti join",
        }
    }

    /// True when only the left side's columns come out.
    pub fn left_only(self) -> bool {
        matches!(self, JoinKind::Semi | JoinKind::Anti | JoinKind::NullAwareAnti)
    }
}

#[derive(Debug, Clone)]
pub struct Join {
    pub left: Arc<LogicalPlan>,
    pub right: Arc<LogicalPlan>,
    pub kind: JoinKind,
    /// Equalities, left side first. Nulls never match.
    pub on: Vec<(Expr, Expr)>,
    /// Conditions over both sides that are not such equalities.
    pub residual: Vec<Expr>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct SortKey {
    pub expr: Expr,
    pub descending: bool,
    pub nulls_first: bool,
}

impl fmt::Display for SortKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.expr)?;
        if self.descending {
            f.write_str(" desc")?;
        }
        // PostgreSQL's default: nulls are larger than everything.
        match (self.descending, self.nulls_first) {
            (false, true) => f.write_str(" nulls first"),
            (true, false) => f.write_str(" nulls last"),
            _ => Ok(()),
        }
    }
}

#[derive(Debug, Clone)]
pub enum LogicalPlan {
    Scan(Scan),
    /// Constant rows; each expression is free of columns.
    Values {
        columns: Vec<Column>,
        rows: Vec<Vec<Expr>>,
    },
    /// Keeps the rows for which every conjunct is true.
    Filter {
        input: Arc<LogicalPlan>,
        conjuncts: Vec<Expr>,
    },
    Project {
        input: Arc<LogicalPlan>,
        columns: Vec<(Column, Expr)>,
    },
    Join(Join),
    /// Without group expressions the result is one row.
    Aggregate {
        input: Arc<LogicalPlan>,
        groups: Vec<(Column, Expr)>,
        aggregates: Vec<(Column, AggregateCall)>,
    },
    /// With `fetch`, only the first rows in that order are kept.
    Sort {
        input: Arc<LogicalPlan>,
        keys: Vec<SortKey>,
        fetch: Option<u64>,
    },
    Limit {
        input: Arc<LogicalPlan>,
        limit: Option<u64>,
        offset: u64,
    },
    /// All rows of all inputs; the inputs' columns correspond by place.
    Union {
        inputs: Vec<Arc<LogicalPlan>>,
        columns: Vec<Column>,
    },
    /// A scalar subquery: exactly one row, of nulls when the input is empty; two rows are an error.
    SingleRow {
        input: Arc<LogicalPlan>,
    },
}

impl LogicalPlan {
    /// The columns that come out, in order.
    pub fn columns(&self) -> Vec<Column> {
        match self {
            LogicalPlan::Scan(scan) => scan.columns.iter().map(|(column, _)| column.clone()).collect(),
            LogicalPlan::Values { columns, .. } | LogicalPlan::Union { columns, .. } => columns.clone(),
            LogicalPlan::Filter { input, .. }
            | LogicalPlan::Sort { input, .. }
            | LogicalPlan::Limit { input, .. }
            | LogicalPlan::SingleRow { input } => input.columns(),
            LogicalPlan::Project { columns, .. } => columns.iter().map(|(column, _)| column.clone()).collect(),
            LogicalPlan::Join(join) => {
                let mut columns = join.left.columns();
                if !join.kind.left_only() {
                    columns.extend(join.right.columns());
                }
                columns
            }
            LogicalPlan::Aggregate { groups, aggregates, .. } => {
                groups.iter().map(|(c, _)| c.clone()).chain(aggregates.iter().map(|(c, _)| c.clone())).collect()
            }
        }
    }

    pub fn column_ids(&self) -> BTreeSet<ColumnId> {
        self.columns().into_iter().map(|column| column.id).collect()
    }

    pub fn inputs(&self) -> Vec<&Arc<LogicalPlan>> {
        match self {
            LogicalPlan::Scan(_) | LogicalPlan::Values { .. } => vec![],
            LogicalPlan::Filter { input, .. }
            | LogicalPlan::Project { input, .. }
            | LogicalPlan::Aggregate { input, .. }
            | LogicalPlan::Sort { input, .. }
            | LogicalPlan::Limit { input, .. }
            | LogicalPlan::SingleRow { input } => vec![input],
            LogicalPlan::Join(join) => vec![&join.left, &join.right],
            LogicalPlan::Union { inputs, .. } => inputs.iter().collect(),
        }
    }

    /// The same operator over inputs changed by `change`.
    pub fn map_inputs(&self, change: &mut dyn FnMut(&LogicalPlan) -> LogicalPlan) -> LogicalPlan {
        let mut shared = |plan: &Arc<LogicalPlan>| Arc::new(change(plan));
        match self {
            LogicalPlan::Scan(_) | LogicalPlan::Values { .. } => self.clone(),
            LogicalPlan::Filter { input, conjuncts } => {
                LogicalPlan::Filter { input: shared(input), conjuncts: conjuncts.clone() }
            }
            LogicalPlan::Project { input, columns } => {
                LogicalPlan::Project { input: shared(input), columns: columns.clone() }
            }
            LogicalPlan::Join(join) => {
                LogicalPlan::Join(Join { left: shared(&join.left), right: shared(&join.right), ..join.clone() })
            }
            LogicalPlan::Aggregate { input, groups, aggregates } => {
                LogicalPlan::Aggregate { input: shared(input), groups: groups.clone(), aggregates: aggregates.clone() }
            }
            LogicalPlan::Sort { input, keys, fetch } => {
                LogicalPlan::Sort { input: shared(input), keys: keys.clone(), fetch: *fetch }
            }
            LogicalPlan::Limit { input, limit, offset } => {
                LogicalPlan::Limit { input: shared(input), limit: *limit, offset: *offset }
            }
            LogicalPlan::Union { inputs, columns } => {
                LogicalPlan::Union { inputs: inputs.iter().map(shared).collect(), columns: columns.clone() }
            }
            LogicalPlan::SingleRow { input } => LogicalPlan::SingleRow { input: shared(input) },
        }
    }

    /// The same operator with each of its own expressions changed.
    pub fn map_expressions(&self, change: &mut dyn FnMut(&Expr) -> Expr) -> LogicalPlan {
        let mut plan = self.clone();
        match &mut plan {
            LogicalPlan::Scan(_)
            | LogicalPlan::Limit { .. }
            | LogicalPlan::Union { .. }
            | LogicalPlan::SingleRow { .. } => {}
            LogicalPlan::Values { rows, .. } => rows.iter_mut().flatten().for_each(|e| *e = change(e)),
            LogicalPlan::Filter { conjuncts, .. } => conjuncts.iter_mut().for_each(|e| *e = change(e)),
            LogicalPlan::Project { columns, .. } => columns.iter_mut().for_each(|(_, e)| *e = change(e)),
            LogicalPlan::Join(join) => {
                for (left, right) in &mut join.on {
                    *left = change(left);
                    *right = change(right);
                }
                join.residual.iter_mut().for_each(|e| *e = change(e));
            }
            LogicalPlan::Aggregate { groups, aggregates, .. } => {
                groups.iter_mut().for_each(|(_, e)| *e = change(e));
                aggregates.iter_mut().for_each(|(_, call)| *call = call.map(change));
            }
            LogicalPlan::Sort { keys, .. } => keys.iter_mut().for_each(|key| key.expr = change(&key.expr)),
        }
        plan
    }

    /// Wraps the plan in a filter, joining it with one that is there already.
    pub fn filtered(self, conjuncts: Vec<Expr>) -> LogicalPlan {
        if conjuncts.is_empty() {
            return self;
        }
        match self {
            LogicalPlan::Filter { input, conjuncts: mut present } => {
                for conjunct in conjuncts {
                    if !present.contains(&conjunct) {
                        present.push(conjunct);
                    }
                }
                LogicalPlan::Filter { input, conjuncts: present }
            }
            other => LogicalPlan::Filter { input: Arc::new(other), conjuncts },
        }
    }

    /// What this operator does, in one line of words.
    pub fn line(&self) -> String {
        match self {
            LogicalPlan::Scan(scan) => {
                let names = comma_separated(scan.columns.iter().map(|(column, _)| &column.name));
                format!("read {} ({names})", scan.table.name)
            }
            LogicalPlan::Values { rows, .. } => {
                format!("{} constant row{}", rows.len(), if rows.len() == 1 { "" } else { "s" })
            }
            LogicalPlan::Filter { conjuncts, .. } => format!("keep rows where {}", conjunct_text(conjuncts)),
            LogicalPlan::Project { columns, .. } => format!("compute {}", project_text(columns)),
            LogicalPlan::Join(join) => join_text(join.kind, &join.on, &join.residual),
            LogicalPlan::Aggregate { groups, aggregates, .. } => aggregate_text(groups, aggregates),
            LogicalPlan::Sort { keys, fetch, .. } => sort_text(keys, *fetch),
            LogicalPlan::Limit { limit, offset, .. } => limit_text(*limit, *offset),
            LogicalPlan::Union { inputs, .. } => format!("all rows of {} inputs", inputs.len()),
            LogicalPlan::SingleRow { .. } => "at most one row".to_owned(),
        }
    }

    fn write_indented(&self, f: &mut fmt::Formatter<'_>, depth: usize) -> fmt::Result {
        writeln!(f, "{}{}", "  ".repeat(depth), self.line())?;
        self.inputs().into_iter().try_for_each(|input| input.write_indented(f, depth + 1))
    }
}

pub fn conjunct_text(conjuncts: &[Expr]) -> String {
    conjuncts
        .iter()
        .map(|c| {
            if conjuncts.len() > 1 && matches!(c, Expr::Binary { op: crate::BinaryOp::Or, .. }) {
                format!("({c})")
            } else {
                c.to_string()
            }
        })
        .collect::<Vec<_>>()
        .join(" and ")
}

pub fn project_text(columns: &[(Column, Expr)]) -> String {
    comma_separated(columns.iter().map(|(column, expr)| match expr {
        Expr::Column(source) if source.name == column.name => source.to_string(),
        other => format!("{other} as {}", column.name),
    }))
}

pub fn join_text(kind: JoinKind, on: &[(Expr, Expr)], residual: &[Expr]) -> String {
    let conditions: Vec<String> = on
        .iter()
        .map(|(left, right)| format!("{left} = {right}"))
        .chain(residual.iter().map(Expr::to_string))
        .collect();
    match (kind, conditions.is_empty()) {
        (JoinKind::Inner, true) => "combine every row with every row".to_owned(),
        (kind, true) => format!("{} with every row", kind.words()),
        (kind, false) => format!("{} on {}", kind.words(), conditions.join(" and ")),
    }
}

pub fn aggregate_text(groups: &[(Column, Expr)], aggregates: &[(Column, AggregateCall)]) -> String {
    let calls = comma_separated(aggregates.iter().map(|(_, call)| call));
    let keys = comma_separated(groups.iter().map(|(_, expr)| expr));
    match (groups.is_empty(), aggregates.is_empty()) {
        (true, _) => format!("summarise: {calls}"),
        (false, true) => format!("distinct rows of {keys}"),
        (false, false) => format!("group by {keys}: {calls}"),
    }
}

pub fn sort_text(keys: &[SortKey], fetch: Option<u64>) -> String {
    match fetch {
        Some(n) => format!("first {n} by {}", comma_separated(keys)),
        None => format!("sort by {}", comma_separated(keys)),
    }
}

pub fn limit_text(limit: Option<u64>, offset: u64) -> String {
    match (limit, offset) {
        (Some(n), 0) => format!("first {n} rows"),
        (Some(n), skip) => format!("{n} rows after the first {skip}"),
        (None, skip) => format!("all but the first {skip} rows"),
    }
}

/// The plan as indented lines, result first. Two plans are the same to a reader when these texts are.
impl fmt::Display for LogicalPlan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.write_indented(f, 0)
    }
}
