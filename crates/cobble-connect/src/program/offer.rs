//! What a program takes over: each piece is put into the protocol's words and offered to it; what has no words there is kept.

use std::any::Any;
use std::collections::HashMap;
use std::sync::Arc;

use cobble_plan::BinaryOp;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::{Scan, TableColumn};
use cobble_plan::offer::{GateScan, KeptReason, Offer, Verdict, pass_through, places_of};
use cobble_serve::{Answer, Condition, Piece, TableName};
use cobble_types::{ColumnId, Result, SqlType, array_value_text};

use super::Program;
use super::scan::ProgramScan;

/// The table of an offer.
#[derive(Debug, Clone)]
pub struct Wanted {
    pub program: Arc<Program>,
    pub table: TableName,
    pub columns: Arc<[TableColumn]>,
}

#[derive(Debug)]
pub struct ProgramOffer {
    wanted: Wanted,
    places: HashMap<ColumnId, usize>,
    filters: Vec<Condition>,
    limit: Option<u64>,
}

impl ProgramOffer {
    pub fn new(wanted: Wanted, scan: &Scan) -> Self {
        let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
        ProgramOffer { wanted, places, filters: vec![], limit: None }
    }
}

impl Wanted {
    pub fn ask(&self, filters: &[Condition], piece: Piece) -> Verdict {
        let offer = cobble_serve::Offer { table: self.table.clone(), filters: filters.to_vec(), piece };
        match self.program.offer(offer) {
            Ok(Answer::Pushed { note }) => Verdict::Pushed { note },
            Ok(Answer::Prunes { note }) => Verdict::Prunes { note },
            Ok(Answer::Kept { note }) => Verdict::Kept { reason: KeptReason::NoSuchAbility, note },
            // Without an answer the engine does it itself; if the program is gone, reading says so.
            Err(error) => {
                Verdict::kept(KeptReason::NoSuchAbility, format!("the program gave no answer: {}", error.message))
            }
        }
    }

    /// The expression in the protocol's words, or what has none.
    pub fn condition(&self, expr: &Expr, places: &HashMap<ColumnId, usize>) -> std::result::Result<Condition, String> {
        let each =
            |all: &[&Expr]| all.iter().map(|e| self.condition(e, places)).collect::<std::result::Result<Vec<_>, _>>();
        let call = |name: &str, arguments: Vec<Condition>| Condition::Call { call: name.to_owned(), arguments };
        let negated = |inner: Condition, negated: bool| if negated { call("not", vec![inner]) } else { inner };
        Ok(match expr {
            Expr::Column(column) => {
                let place = places.get(&column.id).ok_or_else(|| format!("{column} is not a column of the table"))?;
                Condition::Column { column: self.columns[*place].name.clone() }
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
            Expr::Negate(_) | Expr::Case { .. } | Expr::Script { .. } | Expr::Field { .. } | Expr::Subscript { .. } => {
                return Err("such an expression is not in the protocol".into());
            }
        })
    }
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

impl Offer for ProgramOffer {
    fn filter(&mut self, conjunct: &Expr) -> Verdict {
        if conjunct.is_volatile() {
            return Verdict::kept(KeptReason::Volatile, "its value changes from row to row");
        }
        let condition = match self.wanted.condition(conjunct, &self.places) {
            Ok(condition) => condition,
            Err(why) => return Verdict::kept(KeptReason::FunctionDiffers, why),
        };
        let verdict = self.wanted.ask(&self.filters, Piece::Filter(condition.clone()));
        if matches!(verdict, Verdict::Pushed { .. } | Verdict::Prunes { .. }) {
            self.filters.push(condition);
        }
        verdict
    }

    fn project(&mut self, columns: &[(Column, Expr)]) -> Verdict {
        pass_through(&mut self.places, columns)
    }

    fn limit(&mut self, limit: Option<u64>, offset: u64) -> Verdict {
        let Some(limit) = limit else { return Verdict::kept(KeptReason::NoSuchAbility, "rows are not counted off") };
        let wanted = limit.saturating_add(offset);
        match self.wanted.ask(&self.filters, Piece::Limit(wanted)) {
            // Each portion counts for itself.
            Verdict::Pushed { note } | Verdict::Prunes { note } => {
                self.limit = Some(self.limit.map_or(wanted, |known| known.min(wanted)));
                Verdict::Prunes { note: note.or_else(|| Some(format!("no portion gives more than {wanted} rows"))) }
            }
            kept @ Verdict::Kept { .. } => kept,
        }
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn finish(&self, columns: &[Column]) -> Result<Arc<dyn GateScan>> {
        let places = places_of(&self.places, columns)?;
        Ok(Arc::new(ProgramScan {
            wanted: self.wanted.clone(),
            places,
            filters: self.filters.clone(),
            limit: self.limit,
        }))
    }
}
