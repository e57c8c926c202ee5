//! The fragment: the largest part of a plan that lies in one connection, offered to it as a whole, and the answer.

use std::collections::BTreeSet;
use std::sync::Arc;

use cobble_types::{ColumnId, Error, Result};

use crate::aggregate::AggregateCall;
use crate::expr::{Column, Expr};
use crate::logical::{self, LogicalPlan, Scan, SortKey};
use crate::offer::{Agreed, KeptReason, Verdict};
use crate::window::WindowCall;

/// The part of a plan over tables of one connection, as a list of pieces.
#[derive(Debug, Clone)]
pub struct Fragment {
    /// Inputs stand before the pieces that read them; the last piece is the top.
    pub pieces: Vec<Piece>,
}

/// One operator of a fragment; of a filter, one of its conditions.
#[derive(Debug, Clone)]
pub struct Piece {
    pub plan: Arc<LogicalPlan>,
    /// Which of a filter's conditions this is.
    pub condition: usize,
    /// The pieces that it reads.
    pub inputs: Vec<usize>,
    /// The columns that come out, and those of them that are used above.
    pub columns: Vec<Column>,
    pub needed: BTreeSet<ColumnId>,
    /// What the planner has decided: a piece that is withheld is not asked for.
    pub withheld: Option<Verdict>,
}

/// A piece over one input, as a source is asked for it.
#[derive(Debug, Clone, Copy)]
pub enum Asked<'a> {
    Filter(&'a Expr),
    Project(&'a [(Column, Expr)]),
    Aggregate { groups: &'a [(Column, Expr)], aggregates: &'a [(Column, AggregateCall)] },
    Sort { keys: &'a [SortKey], fetch: Option<u64> },
    Limit { limit: Option<u64>, offset: u64 },
    Window { partition: &'a [Expr], order: &'a [SortKey], calls: &'a [(Column, WindowCall)] },
}

impl Asked<'_> {
    /// For a source without this ability.
    pub fn kept(&self) -> Verdict {
        let note = match self {
            Asked::Filter(_) => "the source does not look for rows",
            Asked::Project(_) => "the source does not compute",
            Asked::Aggregate { .. } => "the source does not group",
            Asked::Sort { .. } => "the source does not sort",
            Asked::Limit { .. } => "rows are not counted off",
            Asked::Window { .. } => "the source does not look at neighbours",
        };
        Verdict::kept(KeptReason::NoSuchAbility, note)
    }
}

impl Piece {
    /// What is asked for a piece over one input; none for a table, a join and a union.
    pub fn asked(&self) -> Option<Asked<'_>> {
        Some(match self.plan.as_ref() {
            LogicalPlan::Filter { conjuncts, .. } => Asked::Filter(conjuncts.get(self.condition)?),
            LogicalPlan::Project { columns, .. } => Asked::Project(columns),
            LogicalPlan::Aggregate { groups, aggregates, .. } => Asked::Aggregate { groups, aggregates },
            LogicalPlan::Sort { keys, fetch, .. } => Asked::Sort { keys, fetch: *fetch },
            LogicalPlan::Limit { limit, offset, .. } => Asked::Limit { limit: *limit, offset: *offset },
            LogicalPlan::Window { partition, order, calls, .. } => Asked::Window { partition, order, calls },
            _ => return None,
        })
    }

    pub fn scan(&self) -> Option<&Scan> {
        match self.plan.as_ref() {
            LogicalPlan::Scan(scan) => Some(scan),
            _ => None,
        }
    }

    pub fn is_filter(&self) -> bool {
        matches!(self.plan.as_ref(), LogicalPlan::Filter { .. })
    }

    /// The columns that come out when these conditions on them stay to be checked.
    pub fn columns_with<'a>(&self, conditions: impl IntoIterator<Item = &'a Expr>) -> Vec<Column> {
        let mut wanted = self.needed.clone();
        conditions.into_iter().for_each(|condition| condition.collect_columns(&mut wanted));
        self.columns.iter().filter(|column| wanted.contains(&column.id)).cloned().collect()
    }

    /// What it is called at a gate, and what it does. Columns that are only passed on are not worth a word.
    pub fn words(&self) -> Option<(&'static str, String)> {
        let name = match self.plan.as_ref() {
            LogicalPlan::Filter { conjuncts, .. } => {
                return Some(("filter", conjuncts.get(self.condition)?.to_string()));
            }
            LogicalPlan::Project { columns, .. } => {
                let passes = columns.iter().all(|(_, expr)| matches!(expr, Expr::Column(_)));
                return (!passes).then(|| ("projection", logical::project_text(columns)));
            }
            LogicalPlan::Join(_) => "join",
            LogicalPlan::Aggregate { .. } => "aggregate",
            LogicalPlan::Sort { fetch: Some(_), .. } => "top-n",
            LogicalPlan::Sort { .. } => "sort",
            LogicalPlan::Limit { .. } => "limit",
            LogicalPlan::Window { .. } => "window",
            LogicalPlan::Union { .. } => "union",
            _ => return None,
        };
        Some((name, self.plan.line()))
    }
}

/// The connection's answer to a fragment.
#[derive(Debug, Clone)]
pub struct Answer {
    /// One for each piece; none for a table, which is read in any case.
    pub verdicts: Vec<Option<Verdict>>,
    /// The parts that are done at the source, each by one request. Every table of the fragment is in one of them.
    pub parts: Vec<Part>,
}

/// A part of a fragment that becomes a gate. Conditions inside of it that were not pushed are checked right above it.
#[derive(Debug, Clone)]
pub struct Part {
    /// Its last piece.
    pub top: usize,
    pub columns: Vec<Column>,
    pub agreed: Agreed,
}

impl Answer {
    pub fn is_pushed(&self, piece: usize) -> bool {
        self.verdicts[piece].as_ref().is_none_or(Verdict::is_pushed)
    }

    /// The part that ends with this piece.
    pub fn part(&self, top: usize) -> Option<&Part> {
        self.parts.iter().find(|part| part.top == top)
    }

    /// The same, taken out of the answer.
    pub fn take_part(&mut self, top: usize) -> Option<Part> {
        let place = self.parts.iter().position(|part| part.top == top)?;
        Some(self.parts.swap_remove(place))
    }

    /// Refuses an answer that leaves a piece out or does one twice, or that takes what lies above work it has kept.
    pub fn check(&self, fragment: &Fragment) -> Result<()> {
        let wrong = |what: &str| Err(Error::internal(format!("the answer to an offer {what}")));
        let mut seen = vec![false; fragment.pieces.len()];
        if self.verdicts.len() != seen.len() {
            return wrong("has not one verdict for each piece");
        }
        for part in &self.parts {
            let mut open = vec![part.top];
            while let Some(piece) = open.pop() {
                match seen.get_mut(piece) {
                    Some(seen) if !*seen => *seen = true,
                    _ => return wrong("does a piece twice"),
                }
                if !self.is_pushed(piece) && !fragment.pieces[piece].is_filter() {
                    return wrong("does a piece that it keeps");
                }
                open.extend(&fragment.pieces[piece].inputs);
            }
        }
        let left_out =
            |(piece, seen): (usize, &bool)| !seen && (fragment.pieces[piece].scan().is_some() || self.is_pushed(piece));
        if seen.iter().enumerate().any(left_out) {
            return wrong("leaves a piece out");
        }
        Ok(())
    }
}
