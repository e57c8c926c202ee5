//! Answers a fragment by a draft of the request, which grows from the tables up, piece by piece. Connectors that build a request in this
//! way implement [`Draft`]; the walk decides what may still be asked for.

use std::future::Future;

use cobble_types::{Error, Result};

use crate::expr::{Column, Expr};
use crate::fragment::{Answer, Asked, Fragment, Part};
use crate::logical::{Join, LogicalPlan, Scan};
use crate::offer::{Agreed, KeptReason, Verdict};

/// Work that a source has taken so far.
pub trait Draft: Sized + Send + Sync {
    /// Takes one more piece, or says why not, and is then as it was before. A piece counts as done only when it is `Pushed`. After
    /// a refusal nothing but further conditions on the same rows is asked for.
    fn take(&mut self, piece: Asked<'_>) -> impl Future<Output = Verdict> + Send;
    /// Joins with another draft, which this one then includes.
    fn join(&mut self, right: &Self, join: &Join) -> Verdict {
        let _ = (right, join);
        Verdict::kept(KeptReason::NoSuchAbility, "the source does not join")
    }
    /// All rows of this and of other drafts, each with the columns that correspond to those of the result.
    fn union(&mut self, own: &[Column], others: &[(&Self, &[Column])], columns: &[Column]) -> Verdict {
        let _ = (own, others, columns);
        Verdict::kept(KeptReason::NoSuchAbility, "the source does not put rows together")
    }
    /// The agreed work as data, with what is known of it. Its columns come out in this order.
    fn finish(&self, columns: &[Column]) -> impl Future<Output = Result<Agreed>> + Send;
}

/// A draft with the conditions on its rows that it did not take.
struct Open<D> {
    draft: D,
    kept: Vec<usize>,
}

impl<D: Draft> Open<D> {
    /// Ends the draft with what is needed above this piece.
    async fn closed(&self, fragment: &Fragment, top: usize) -> Result<Part> {
        let conditions = self.kept.iter().filter_map(|kept| match fragment.pieces[*kept].asked() {
            Some(Asked::Filter(condition)) => Some(condition),
            _ => None,
        });
        let conditions: Vec<&Expr> = conditions.collect();
        let columns = fragment.pieces[top].columns_with(conditions);
        Ok(Part { top, agreed: self.draft.finish(&columns).await?, columns })
    }

    fn is_whole(&self) -> bool {
        self.kept.is_empty()
    }
}

/// What of the fragment is taken by drafts that begin with its tables.
pub async fn answer<D: Draft>(fragment: &Fragment, begin: impl Fn(&Scan) -> Result<D> + Send + Sync) -> Result<Answer> {
    // Drafts by the piece that they have reached; a piece that was kept has none.
    let mut drafts: Vec<Option<Open<D>>> = Vec::with_capacity(fragment.pieces.len());
    let mut answer = Answer { verdicts: Vec::with_capacity(fragment.pieces.len()), parts: Vec::new() };
    for piece in &fragment.pieces {
        if let Some(scan) = piece.scan() {
            drafts.push(Some(Open { draft: begin(scan)?, kept: vec![] }));
            answer.verdicts.push(None);
            continue;
        }
        let mut inputs: Vec<Option<Open<D>>> = Vec::with_capacity(piece.inputs.len());
        for input in &piece.inputs {
            inputs
                .push(drafts.get_mut(*input).ok_or_else(|| Error::internal("a piece stands before its input"))?.take());
        }
        if let (true, [Some(open)]) = (piece.is_filter(), inputs.as_mut_slice()) {
            let verdict = match (&piece.withheld, piece.asked()) {
                (Some(verdict), _) => verdict.clone(),
                (None, Some(asked)) => open.draft.take(asked).await,
                (None, None) => return Err(Error::internal("a filter lost its condition")),
            };
            if !verdict.is_pushed() {
                open.kept.push(answer.verdicts.len());
            }
            answer.verdicts.push(Some(verdict));
            drafts.push(inputs.pop().flatten());
            continue;
        }
        let verdict = if inputs.iter().all(|input| input.as_ref().is_some_and(Open::is_whole)) {
            match &piece.withheld {
                Some(verdict) => verdict.clone(),
                None => ask(piece.plan.as_ref(), piece.asked(), &mut inputs).await?,
            }
        } else {
            let note = match piece.plan.as_ref() {
                LogicalPlan::Join(_) => Some("the other side is computed in the engine".to_owned()),
                LogicalPlan::Union { .. } => Some("another input is computed in the engine".to_owned()),
                _ => None,
            };
            Verdict::Kept { reason: KeptReason::BelowKept, note }
        };
        if verdict.is_pushed() {
            drafts.push(inputs.into_iter().next().flatten());
        } else {
            for (open, top) in inputs.iter().zip(&piece.inputs) {
                if let Some(open) = open {
                    answer.parts.push(open.closed(fragment, *top).await?);
                }
            }
            drafts.push(None);
        }
        answer.verdicts.push(Some(verdict));
    }
    if let Some(open) = drafts.pop().flatten() {
        answer.parts.push(open.closed(fragment, fragment.pieces.len() - 1).await?);
    }
    Ok(answer)
}

/// Asks for a piece over whole drafts; the first one takes it.
async fn ask<D: Draft>(
    plan: &LogicalPlan,
    asked: Option<Asked<'_>>,
    inputs: &mut [Option<Open<D>>],
) -> Result<Verdict> {
    let mut drafts = inputs.iter_mut().flatten().map(|open| &mut open.draft);
    let Some(first) = drafts.next() else { return Err(Error::internal("a piece without an input")) };
    Ok(match (plan, asked) {
        (LogicalPlan::Join(join), _) => match drafts.next() {
            Some(right) => first.join(right, join),
            None => return Err(Error::internal("a join of one side")),
        },
        (LogicalPlan::Union { inputs: all, columns }, _) => {
            let Some((own, others)) = all.split_first() else { return Err(Error::internal("a union of nothing")) };
            let others: Vec<(&D, &[Column])> =
                drafts.zip(others).map(|(draft, input)| (&*draft, input.columns.as_slice())).collect();
            first.union(&own.columns, &others, columns)
        }
        (_, Some(asked)) => first.take(asked).await,
        (other, None) => return Err(Error::internal(format!("{} is no work for a source", other.line()))),
    })
}
