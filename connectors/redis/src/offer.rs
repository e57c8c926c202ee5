//! What a key-value store takes over: the keys that are asked for, the fields that are wanted, and a limit.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use async_trait::async_trait;
use cobble_plan::BinaryOp;
use cobble_plan::draft::{Draft, answer};
use cobble_plan::expr::{Column, Expr};
use cobble_plan::fragment::{Answer, Asked, Fragment};
use cobble_plan::key_pass::MOST_LISTED;
use cobble_plan::offer::{Agreed, KeptReason, Source, Sources, Verdict, at_most, pass_through, places_of};
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

#[async_trait]
impl Source for KeyedSource {
    async fn answer(&self, fragment: &Fragment, _: &Sources) -> Result<Answer> {
        answer(fragment, |scan| {
            let places = scan.columns.iter().map(|(column, place)| (column.id, *place)).collect();
            let (store, table, name) = (self.store.clone(), self.keyed.clone(), scan.table.name.clone());
            Ok(KeyedDraft { store, name, table, places, keys: None, limit: None })
        })
        .await
    }

    async fn takes_keys(&self, spec: &ScanSpec, place: usize, _: &Column, keys: f64) -> Result<Verdict> {
        let work: Work = spec.unpack(FORM)?;
        if work.places.get(place) != Some(&0) {
            return Ok(Verdict::kept(KeptReason::NoSuchAbility, "values are found by whole keys alone"));
        }
        if keys > MOST_LISTED as f64 {
            return Ok(Verdict::kept(KeptReason::NotWorthIt, "too many keys to ask for one by one"));
        }
        Ok(Verdict::Prunes { note: Some("only these keys are asked for".into()) })
    }
}

#[derive(Debug)]
struct KeyedDraft {
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

impl Draft for KeyedDraft {
    async fn take(&mut self, piece: Asked<'_>) -> Verdict {
        match piece {
            Asked::Filter(conjunct) => match keys_of(conjunct, &|id| self.places.get(&id) == Some(&0)) {
                Some(found) => {
                    self.keys = Some(match self.keys.take() {
                        Some(before) => before.intersection(&found).cloned().collect(),
                        None => found,
                    });
                    Verdict::pushed_with("only these keys are asked for")
                }
                None => Verdict::kept(KeptReason::NoSuchAbility, "values are found by whole keys alone"),
            },
            Asked::Project(columns) => pass_through(&mut self.places, columns),
            Asked::Limit { limit: Some(limit), offset } => {
                let wanted = at_most(&mut self.limit, limit, offset);
                Verdict::Prunes { note: Some(format!("no more than {wanted} rows are read")) }
            }
            other => other.kept(),
        }
    }

    async fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let places = places_of(&self.places, columns)?;
        let work = Work { table: self.table.as_ref().clone(), places, keys: self.keys.clone(), limit: self.limit };
        let spec = ScanSpec::new((&self.store.connection, KIND.kind), &self.name, FORM, &work)?;
        let columns_read = work.places.iter().map(|place| work.name(*place).to_owned()).collect();
        Ok(Agreed { most_rows: work.most_rows(), ..Agreed::new(spec, work.request(), columns_read) })
    }
}
