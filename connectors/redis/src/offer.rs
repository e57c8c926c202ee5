//! What a key-value store takes over: the keys that are asked for, the fields that are wanted, and a limit.

use std::any::Any;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use cobble_plan::BinaryOp;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::logical::Scan;
use cobble_plan::offer::{GateScan, KeptReason, Offer, Source, Verdict, pass_through, places_of};
use cobble_types::{ColumnId, Result, Value};

use super::describe::Keyed;
use super::scan::KeyedScan;

#[derive(Debug)]
pub struct KeyedSource(pub Arc<Keyed>);

impl Source for KeyedSource {
    fn connection(&self) -> &str {
        &self.0.store.connection
    }

    fn kind(&self) -> &str {
        "redis"
    }

    fn region(&self) -> Option<&str> {
        self.0.store.region.as_deref()
    }

    fn begin(&self, scan: &Scan) -> Box<dyn Offer> {
        let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
        Box::new(KeyedOffer { table: self.0.clone(), places, keys: None, limit: None })
    }
}

#[derive(Debug)]
struct KeyedOffer {
    table: Arc<Keyed>,
    /// Place zero is the key.
    places: HashMap<ColumnId, usize>,
    /// The only keys that can satisfy the conditions, when they say so.
    keys: Option<BTreeSet<String>>,
    limit: Option<u64>,
}

/// The keys that satisfy a condition on the key column alone, exactly.
pub fn keys_of(condition: &Expr, is_key: &dyn Fn(ColumnId) -> bool) -> Option<BTreeSet<String>> {
    let text = |expr: &Expr| match expr {
        Expr::Literal { value: Value::Text(text), .. } => Some(Some(text.clone())),
        Expr::Literal { value: Value::Null, .. } => Some(None),
        _ => None,
    };
    match condition {
        Expr::Literal { value: Value::Boolean(false) | Value::Null, .. } => Some(BTreeSet::new()),
        Expr::Binary { op: BinaryOp::Eq, left, right, .. } => match (left.as_ref(), right.as_ref()) {
            (Expr::Column(column), other) | (other, Expr::Column(column)) if is_key(column.id) => {
                Some(text(other)?.into_iter().collect())
            }
            _ => None,
        },
        Expr::Binary { op: BinaryOp::Or, left, right, .. } => {
            Some(keys_of(left, is_key)?.union(&keys_of(right, is_key)?).cloned().collect())
        }
        Expr::InList { operand, list, negated: false } => match operand.as_ref() {
            Expr::Column(column) if is_key(column.id) => {
                Some(list.iter().map(text).collect::<Option<Vec<_>>>()?.into_iter().flatten().collect())
            }
            _ => None,
        },
        _ => None,
    }
}

impl Offer for KeyedOffer {
    fn filter(&mut self, conjunct: &Expr) -> Verdict {
        match keys_of(conjunct, &|id| self.places.get(&id) == Some(&0)) {
            Some(found) => {
                self.keys = Some(match self.keys.take() {
                    Some(before) => before.intersection(&found).cloned().collect(),
                    None => found,
                });
                Verdict::pushed_with("only these keys are asked for")
            }
            None => Verdict::kept(KeptReason::NoSuchAbility, "values are found by whole keys alone"),
        }
    }

    fn project(&mut self, columns: &[(Column, Expr)]) -> Verdict {
        pass_through(&mut self.places, columns)
    }

    fn limit(&mut self, limit: Option<u64>, offset: u64) -> Verdict {
        let Some(limit) = limit else { return Verdict::kept(KeptReason::NoSuchAbility, "rows are not counted off") };
        let wanted = limit.saturating_add(offset);
        self.limit = Some(self.limit.map_or(wanted, |known| known.min(wanted)));
        Verdict::Prunes { note: Some(format!("no more than {wanted} rows are read")) }
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn finish(&self, columns: &[Column]) -> Result<Arc<dyn GateScan>> {
        let places = places_of(&self.places, columns)?;
        Ok(Arc::new(KeyedScan { table: self.table.clone(), places, keys: self.keys.clone(), limit: self.limit }))
    }
}
