//! How sources are asked: all at the same time, until the run is cancelled, and with answers that are not believed unseen.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::task::Poll;

use async_trait::async_trait;
use cobble_optimize::{Goal, Settings, planner};
use cobble_plan::fragment::{Answer, Fragment};
use cobble_plan::offer::{DescribedTable, Source, Sources};
use cobble_plan::physical::PhysicalPlan;
use cobble_types::{Code, Error, Result};
use futures::executor::block_on;
use futures::future::join;
use tokio_util::sync::CancellationToken;

use crate::support::{bind, described};

const TWO_SOURCES: &str = "SELECT v.name FROM vessels v JOIN boardings b ON b.route_id = v.id WHERE v.seats > 100";

/// A source that does something else before or after it answers as its table's own source would.
#[derive(Debug)]
struct Odd {
    own: Arc<dyn Source>,
    how: How,
}

#[derive(Debug, Clone)]
enum How {
    /// Answers when so many have been asked.
    Together(Arc<AtomicUsize>, usize),
    Never,
    Fails,
    /// Forgets what it was asked.
    Forgets,
}

#[async_trait]
impl Source for Odd {
    fn reads_together(&self) -> bool {
        self.own.reads_together()
    }

    async fn answer(&self, fragment: &Fragment, sources: &Sources) -> Result<Answer> {
        let answer = self.own.answer(fragment, sources).await?;
        match &self.how {
            How::Together(asked, all) => {
                asked.fetch_add(1, Ordering::Relaxed);
                futures::future::poll_fn(|context| match asked.load(Ordering::Relaxed) >= *all {
                    true => Poll::Ready(Ok(answer.clone())),
                    false => {
                        context.waker().wake_by_ref();
                        Poll::Pending
                    }
                })
                .await
            }
            How::Never => std::future::pending().await,
            How::Fails => Err(Error::new(Code::SourceUnreachable, "connection quay: nobody is there")),
            How::Forgets => Ok(Answer { parts: vec![], ..answer }),
        }
    }
}

fn planned(sql: &str, how: &How, cancel: &CancellationToken) -> Result<PhysicalPlan> {
    let mut sources = Sources::default();
    for DescribedTable { table, source } in described() {
        sources.add(&DescribedTable { table, source: Arc::new(Odd { own: source, how: how.clone() }) });
    }
    let (plan, settings) = (bind(sql).unwrap().plan, Settings::default());
    block_on(planner::plan(plan, &sources, &settings, Goal::Here, &|_| None, cancel))
}

#[test]
fn sources_are_asked_at_the_same_time() {
    let asked = Arc::new(AtomicUsize::new(0));
    let plan = planned(TWO_SOURCES, &How::Together(asked, 2), &CancellationToken::new()).unwrap();
    assert_eq!(plan.gates.len(), 2);
    // All shapes of one fragment, too.
    let asked = Arc::new(AtomicUsize::new(0));
    let product = "SELECT a.name, b.name FROM vessels a, vessels b";
    planned(product, &How::Together(asked.clone(), 2), &CancellationToken::new()).unwrap();
    assert_eq!(asked.load(Ordering::Relaxed), 2);
}

#[test]
fn a_source_that_never_answers_is_given_up() {
    let cancel = CancellationToken::new();
    let (plan, settings) = (bind(TWO_SOURCES).unwrap().plan, Settings::default());
    let mut sources = Sources::default();
    for DescribedTable { table, source } in described() {
        sources.add(&DescribedTable { table, source: Arc::new(Odd { own: source, how: How::Never }) });
    }
    let planning = planner::plan(plan, &sources, &settings, Goal::Here, &|_| None, &cancel);
    let (outcome, ()) = block_on(join(planning, async { cancel.cancel() }));
    assert_eq!(outcome.unwrap_err().code, Code::Cancelled);
}

#[test]
fn what_goes_wrong_at_a_source_is_an_error() {
    let cancel = CancellationToken::new();
    let error = planned(TWO_SOURCES, &How::Fails, &cancel).unwrap_err();
    assert_eq!(error.to_string(), "connection quay: nobody is there");
    let error = planned(TWO_SOURCES, &How::Forgets, &cancel).unwrap_err();
    assert!(error.to_string().contains("leaves a piece out"), "{error}");
}
