//! What a program takes over: each piece is put into the protocol's words and offered to it; what has no words there is kept.

use std::collections::HashMap;
use std::sync::Arc;

use cobble_plan::BinaryOp;
use cobble_plan::aggregate::{AggregateCall, AggregateFunction};
use cobble_plan::draft::Draft;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::fragment::Asked;
use cobble_plan::logical::{Scan, SortKey, TableColumn};
use cobble_plan::offer::{Agreed, KeptReason, Verdict, pass_through, places_of};
use cobble_plan::scan::ScanSpec;
use cobble_serve::{Answer, Condition, GroupValue, Groups, Order, Piece, TableName, Top};
use cobble_types::{ColumnId, ObjectName, Result, SqlType, array_value_text};

use super::KIND;
use super::Program;
use super::scan::{FORM, Work};

/// The table of an offer.
#[derive(Debug, Clone)]
pub struct Wanted {
    pub program: Arc<Program>,
    pub table: TableName,
    pub columns: Arc<[TableColumn]>,
}

#[derive(Debug)]
pub struct ProgramDraft {
    name: ObjectName,
    wanted: Wanted,
    places: HashMap<ColumnId, usize>,
    filters: Vec<Condition>,
    limit: Option<u64>,
    groups: Option<Groups>,
    top: Option<Top>,
}

/// What follows groups, a limit or an order has no place in a request.
fn last(piece: &str) -> Verdict {
    Verdict::kept(KeptReason::NoSuchAbility, format!("in the protocol nothing follows {piece}"))
}

impl ProgramDraft {
    pub fn new(wanted: Wanted, scan: &Scan) -> Self {
        let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
        ProgramDraft {
            name: scan.table.name.clone(),
            wanted,
            places,
            filters: vec![],
            limit: None,
            groups: None,
            top: None,
        }
    }
}

impl Wanted {
    pub async fn ask(&self, filters: &[Condition], piece: Piece) -> Verdict {
        let offer = cobble_serve::Offer { table: self.table.clone(), filters: filters.to_vec(), piece };
        match self.program.offer(offer).await {
            Ok(Answer::Pushed { note }) => Verdict::Pushed { note },
            Ok(Answer::Prunes { note }) => Verdict::Prunes { note },
            Ok(Answer::Kept { note }) => Verdict::Kept { reason: KeptReason::NoSuchAbility, note },
            // Without an answer the engine does it itself; if the program is gone, reading says so.
            Err(error) => {
                Verdict::kept(KeptReason::NoSuchAbility, format!("the program gave no answer: {}", error.message))
            }
        }
    }
}

/// The expression in the protocol's words, or what has none.
pub fn condition(
    expr: &Expr,
    places: &HashMap<ColumnId, usize>,
    columns: &[TableColumn],
) -> std::result::Result<Condition, String> {
    let each =
        |all: &[&Expr]| all.iter().map(|e| condition(e, places, columns)).collect::<std::result::Result<Vec<_>, _>>();
    let call = |name: &str, arguments: Vec<Condition>| Condition::Call { call: name.to_owned(), arguments };
    let negated = |inner: Condition, negated: bool| if negated { call("not", vec![inner]) } else { inner };
    Ok(match expr {
        Expr::Column(column) => {
            let place = places.get(&column.id).ok_or_else(|| format!("{column} is not a column of the table"))?;
            Condition::Column { column: columns[*place].name.clone() }
        }
        Expr::Literal { value, sql_type } => {
            let literal = array_value_text(value.to_array(sql_type).as_ref(), 0);
            Condition::Literal { literal, sql_type: sql_type.to_string() }
        }
        Expr::Binary { op, left, right, .. } if op.is_comparison() => {
            let sides = each(&[whole_number(left), whole_number(right)])?;
            call(op.symbol(), sides)
        }
        Expr::Binary { op, left, right, .. } => {
            let is_float = |e: &Expr| e.sql_type().is_float();
            if op.is_arithmetic() && (is_float(left) || is_float(right)) {
                return Err("floating-point arithmetic differs from system to system".into());
            }
            if *op == BinaryOp::Divide {
                return Err("quotients have a scale of the engine's own".into());
            }
            call(op.symbol(), each(&[left, right])?)
        }
        Expr::Not(inner) => call("not", each(&[inner])?),
        Expr::IsNull { operand, negated: not } => negated(call("is null", each(&[whole_number(operand)])?), *not),
        Expr::InList { operand, list, negated: not } => {
            let mut all = vec![whole_number(operand)];
            all.extend(list.iter().map(whole_number));
            negated(call("in", each(&all)?), *not)
        }
        Expr::Like { operand, pattern, negated: not, case_insensitive: false } => {
            negated(call("like", each(&[operand, pattern])?), *not)
        }
        Expr::Like { .. } => return Err("patterns regardless of case are not in the protocol".into()),
        Expr::Call { function, .. } => return Err(format!("{}() is not in the protocol", function.name())),
        Expr::Cast { sql_type, .. } => return Err(format!("a cast to {sql_type} is not in the protocol")),
        Expr::Negate(_)
        | Expr::Case { .. }
        | Expr::Script { .. }
        | Expr::Field { .. }
        | Expr::Subscript { .. }
        | Expr::Parameter { .. } => {
            return Err("such an expression is not in the protocol".into());
        }
    })
}

/// Whole numbers compare alike whatever their size, so that a cast to a larger size says nothing.
fn whole_number(expr: &Expr) -> &Expr {
    match expr {
        Expr::Cast { operand, sql_type: SqlType::Integer | SqlType::BigInt } if operand.sql_type().is_integer() => {
            whole_number(operand)
        }
        other => other,
    }
}

impl ProgramDraft {
    fn condition(&self, expr: &Expr) -> std::result::Result<Condition, String> {
        condition(expr, &self.places, &self.wanted.columns)
    }

    /// What stands in the way of a further piece, if something does.
    fn closed(&self) -> Option<Verdict> {
        match (&self.groups, self.limit, &self.top) {
            (Some(_), _, _) => Some(last("groups")),
            (_, Some(_), _) => Some(last("a limit")),
            (_, _, Some(_)) => Some(last("an order")),
            _ => None,
        }
    }

    /// The name of a column that an expression is.
    fn name(&self, expr: &Expr) -> std::result::Result<String, Verdict> {
        match expr {
            Expr::Column(column) if self.places.contains_key(&column.id) => {
                Ok(self.wanted.columns[self.places[&column.id]].name.clone())
            }
            _ => Err(Verdict::kept(KeptReason::NoSuchAbility, "only columns are grouped and ordered in the protocol")),
        }
    }

    fn value(&self, place: usize, call: &AggregateCall) -> std::result::Result<GroupValue, Verdict> {
        use AggregateFunction::{Count, Max, Min, Sum};
        let kept = |note: String| Verdict::kept(KeptReason::FunctionDiffers, note);
        let known = matches!(call.function, Count | Min | Max | Sum) && call.order.is_empty();
        let column = match call.arguments.as_slice() {
            [] if call.function == Count => None,
            [argument] if known => {
                if argument.sql_type().is_float() {
                    return Err(kept("floating-point values are gathered by the engine".into()));
                }
                Some(self.name(whole_number(argument))?)
            }
            _ => return Err(kept(format!("{} is not in the protocol", call.function.name()))),
        };
        let filter = match &call.filter {
            None => None,
            Some(filter) => Some(self.condition(filter).map_err(kept)?),
        };
        Ok(GroupValue {
            name: format!("value {}", place + 1),
            function: call.function.name().to_owned(),
            column,
            distinct: call.distinct,
            filter,
            sql_type: call.sql_type.to_string(),
        })
    }

    fn grouped(
        &self,
        groups: &[(Column, Expr)],
        aggregates: &[(Column, AggregateCall)],
    ) -> std::result::Result<Groups, Verdict> {
        let by = groups.iter().map(|(_, expr)| {
            if expr.sql_type().is_float() {
                let note = "a group of zeros may be shown as 0 or -0";
                return Err(Verdict::kept(KeptReason::TypeDiffers, note));
            }
            self.name(expr)
        });
        let by = by.collect::<std::result::Result<_, _>>()?;
        let values = aggregates.iter().enumerate().map(|(place, (_, call))| self.value(place, call));
        Ok(Groups { by, values: values.collect::<std::result::Result<_, _>>()? })
    }
}

impl ProgramDraft {
    async fn filter(&mut self, conjunct: &Expr) -> Verdict {
        if let Some(verdict) = self.closed() {
            return verdict;
        }
        if conjunct.is_volatile() {
            return Verdict::kept(KeptReason::Volatile, "its value changes from row to row");
        }
        let condition = match self.condition(conjunct) {
            Ok(condition) => condition,
            Err(why) => return Verdict::kept(KeptReason::FunctionDiffers, why),
        };
        let verdict = self.wanted.ask(&self.filters, Piece::Filter(condition.clone())).await;
        if matches!(verdict, Verdict::Pushed { .. } | Verdict::Prunes { .. }) {
            self.filters.push(condition);
        }
        verdict
    }

    async fn aggregate(&mut self, groups: &[(Column, Expr)], aggregates: &[(Column, AggregateCall)]) -> Verdict {
        if let Some(verdict) = self.closed() {
            return verdict;
        }
        let wanted = match self.grouped(groups, aggregates) {
            Ok(wanted) => wanted,
            Err(verdict) => return verdict,
        };
        match self.wanted.ask(&self.filters, Piece::Groups(wanted.clone())).await {
            Verdict::Pushed { note } => {
                let column = |name: &str, sql_type: &SqlType, nullable: bool| TableColumn {
                    name: name.to_owned(),
                    sql_type: sql_type.clone(),
                    nullable,
                    partition: false,
                    comment: None,
                };
                let table = self.wanted.columns.clone();
                let nullable = |name: &str| table.iter().any(|own| own.name == name && own.nullable);
                let by =
                    wanted.by.iter().zip(groups).map(|(name, (own, _))| column(name, &own.sql_type, nullable(name)));
                let values = wanted.values.iter().zip(aggregates).map(|(value, (own, call))| {
                    column(&value.name, &own.sql_type, call.function != AggregateFunction::Count)
                });
                self.wanted.columns = by.chain(values).collect();
                let all = groups.iter().map(|(own, _)| own).chain(aggregates.iter().map(|(own, _)| own));
                self.places = all.enumerate().map(|(place, own)| (own.id, place)).collect();
                self.groups = Some(wanted);
                Verdict::Pushed { note }
            }
            Verdict::Prunes { .. } => Verdict::kept(
                KeptReason::NoSuchAbility,
                "the program answers \"prunes\", and groups are whole or not at all",
            ),
            kept @ Verdict::Kept { .. } => kept,
        }
    }

    async fn sort(&mut self, keys: &[SortKey], fetch: Option<u64>) -> Verdict {
        if let Some(verdict) = self.closed() {
            return verdict;
        }
        let Some(rows) = fetch else {
            return Verdict::kept(
                KeptReason::NoSuchAbility,
                "in the protocol only the first rows of an order are asked for",
            );
        };
        let mut order = Vec::new();
        for key in keys {
            match self.name(&key.expr) {
                Ok(column) => {
                    order.push(Order { column, descending: key.descending, nulls_first: key.nulls_first });
                }
                Err(verdict) => return verdict,
            }
        }
        let top = Top { order, rows };
        match self.wanted.ask(&self.filters, Piece::Top(top.clone())).await {
            // Each portion has first rows of its own.
            Verdict::Pushed { note } | Verdict::Prunes { note } => {
                self.top = Some(top);
                Verdict::Prunes {
                    note: note.or_else(|| Some(format!("no portion gives more than its first {rows} rows"))),
                }
            }
            kept @ Verdict::Kept { .. } => kept,
        }
    }

    async fn limit(&mut self, limit: Option<u64>, offset: u64) -> Verdict {
        if let Some(verdict) = self.closed().filter(|_| self.limit.is_none()) {
            return verdict;
        }
        let Some(limit) = limit else { return Verdict::kept(KeptReason::NoSuchAbility, "rows are not counted off") };
        let wanted = limit.saturating_add(offset);
        match self.wanted.ask(&self.filters, Piece::Limit(wanted)).await {
            // Each portion counts for itself.
            Verdict::Pushed { note } | Verdict::Prunes { note } => {
                self.limit = Some(self.limit.map_or(wanted, |known| known.min(wanted)));
                Verdict::Prunes { note: note.or_else(|| Some(format!("no portion gives more than {wanted} rows"))) }
            }
            kept @ Verdict::Kept { .. } => kept,
        }
    }
}

/// Whether the program would give fewer rows for the keys of the column at this place.
pub async fn takes_keys(wanted: &Wanted, spec: &ScanSpec, place: usize, keys: f64) -> Result<Verdict> {
    let work: Work = spec.unpack(FORM)?;
    let Some(column) = work.places.get(place).and_then(|place| work.columns.get(*place)) else {
        return Ok(Verdict::kept(KeptReason::NoSuchAbility, "the program has no such column"));
    };
    let column = column.name.clone();
    if work.top.is_some() || work.limit.is_some() {
        return Ok(Verdict::kept(KeptReason::BelowKept, "the request has a limit, which would come after"));
    }
    if work.groups.as_ref().is_some_and(|groups| !groups.by.contains(&column)) {
        return Ok(Verdict::kept(KeptReason::NoSuchAbility, "the program computes this column for groups"));
    }
    Ok(match wanted.ask(&work.filters, Piece::Keys { column, count: keys as u64 }).await {
        Verdict::Pushed { note } | Verdict::Prunes { note } => Verdict::Prunes { note },
        Verdict::Kept { note, .. } => Verdict::Kept { reason: KeptReason::NoSuchAbility, note },
    })
}

impl Draft for ProgramDraft {
    async fn take(&mut self, piece: Asked<'_>) -> Verdict {
        match piece {
            Asked::Filter(conjunct) => self.filter(conjunct).await,
            Asked::Project(columns) => pass_through(&mut self.places, columns),
            Asked::Aggregate { groups, aggregates } => self.aggregate(groups, aggregates).await,
            Asked::Sort { keys, fetch } => self.sort(keys, fetch).await,
            Asked::Limit { limit, offset } => self.limit(limit, offset).await,
            Asked::Window { .. } => piece.kept(),
        }
    }

    async fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let work = Work {
            table: self.wanted.table.clone(),
            columns: self.wanted.columns.to_vec(),
            places: places_of(&self.places, columns)?,
            filters: self.filters.clone(),
            limit: self.limit,
            groups: self.groups.clone(),
            top: self.top.clone(),
        };
        let spec = ScanSpec::new((&self.wanted.program.connection, KIND.kind), &self.name, FORM, &work)?;
        Ok(Agreed::new(spec, work.request(), work.columns_read()))
    }
}
