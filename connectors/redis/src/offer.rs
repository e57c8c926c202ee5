//! What a key-value store takes over: the keys that are asked for, the fields that are wanted, and a limit.

use std::any::Any;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use cobble_plan::BinaryOp;
use cobble_plan::expr::{Column, Expr};
use cobble_plan::key_pass::MOST_LISTED;
use cobble_plan::logical::Scan;
use cobble_plan::offer::{Agreed, KeptReason, Offer, Source, Verdict, pass_through, places_of};
use cobble_plan::scan::ScanSpec;
use cobble_types::{ColumnId, ObjectName, Result, Value};

use super::describe::Keyed;
use super::scan::{FORM, Work};
use super::{KIND, Store};

#[derive(Debug)]
pub struct KeyedSource {
    pub store: Arc<Store>,
    pub keyed: Arc<Keyed>,
}

impl Source for KeyedSource {
    fn begin(&self, scan: &Scan) -> Box<dyn Offer> {
        let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
        let (store, table, name) = (self.store.clone(), self.keyed.clone(), scan.table.name.clone());
        Box::new(KeyedOffer { store, name, table, places, keys: None, limit: None })
    }
}

#[derive(Debug)]
struct KeyedOffer {
    store: Arc<Store>,
    name: ObjectName,
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

    fn key_pass(&self, column: &Column, keys: f64) -> Verdict {
        if self.places.get(&column.id) != Some(&0) {
            return Verdict::kept(KeptReason::NoSuchAbility, "values are found by whole keys alone");
        }
        if keys > MOST_LISTED as f64 {
            return Verdict::kept(KeptReason::NotWorthIt, "too many keys to ask for one by one");
        }
        Verdict::Prunes { note: Some("only these keys are asked for".into()) }
    }

    fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let places = places_of(&self.places, columns)?;
        let work = Work { table: self.table.as_ref().clone(), places, keys: self.keys.clone(), limit: self.limit };
        let spec = ScanSpec::new((&self.store.connection, KIND.kind), &self.name, FORM, &work)?;
        let columns_read = work.places.iter().map(|place| work.name(*place).to_owned()).collect();
        Ok(Agreed { most_rows: work.most_rows(), ..Agreed::new(spec, work.request(), columns_read) })
    }
}
