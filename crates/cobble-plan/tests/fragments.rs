//! Fragments made at random, answered by a draft that refuses pieces at random: every answer holds together, and no piece is done above
//! one that was kept.

use std::collections::BTreeSet;
use std::sync::Arc;

use cobble_plan::draft::{Draft, answer};
use cobble_plan::fragment::{Answer, Asked, Fragment, Piece};
use cobble_plan::logical::{Join, JoinKind, LogicalPlan, Origin, Scan, Table, TableColumn, TableKind, UnionInput};
use cobble_plan::offer::{Agreed, KeptReason, Request, Verdict};
use cobble_plan::scan::ScanSpec;
use cobble_plan::{BinaryOp, Column, Expr, TableStatistics};
use cobble_types::{ColumnId, ObjectName, Result, SqlType, Value};
use futures::executor::block_on;

/// A generator of numbers (Steele et al., "Fast Splittable Pseudorandom Number Generators", 2014).
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (z ^ (z >> 31)) % most
    }
}

fn column(id: u32) -> Column {
    Column { id: ColumnId(id), qualifier: None, name: format!("c{id}"), sql_type: SqlType::Integer }
}

fn scan(id: u32) -> LogicalPlan {
    let own = |place: u32| TableColumn {
        name: format!("n{place}"),
        sql_type: SqlType::Integer,
        nullable: true,
        partition: false,
        comment: None,
    };
    let table = Table {
        name: ObjectName::new("fleet", "public", format!("t{id}")),
        columns: vec![own(0), own(1)],
        statistics: TableStatistics::default(),
        primary_key: vec![],
        kind: TableKind::Table,
        origin: Origin::new("fleet_db", "paper", None),
    };
    LogicalPlan::Scan(Scan { table: table.into(), columns: vec![(column(id), 0), (column(id + 1), 1)] })
}

/// Puts pieces on top of each other as the planner does.
#[derive(Default)]
struct Maker {
    pieces: Vec<Piece>,
    next: u32,
}

impl Maker {
    fn add(&mut self, plan: LogicalPlan, condition: usize, inputs: Vec<usize>, columns: Vec<Column>) -> usize {
        let needed: BTreeSet<ColumnId> = columns.iter().map(|column| column.id).collect();
        self.pieces.push(Piece { plan: plan.into(), condition, inputs, columns, needed, withheld: None });
        self.pieces.len() - 1
    }

    fn plan(&self, piece: usize) -> Arc<LogicalPlan> {
        self.pieces[piece].plan.clone()
    }

    fn random(&mut self, dice: &mut Dice, depth: u64) -> usize {
        if depth == 0 || dice.below(5) == 0 {
            self.next += 2;
            let plan = scan(self.next);
            let columns = plan.columns();
            return self.add(plan, 0, vec![], columns);
        }
        let input = self.random(dice, depth - 1);
        let columns = self.pieces[input].columns.clone();
        match dice.below(6) {
            0 | 1 => {
                let literal = |n: i32| Expr::Literal { value: Value::Integer(n), sql_type: SqlType::Integer };
                let condition = |n| Expr::compare(BinaryOp::Gt, Expr::Column(columns[0].clone()), literal(n));
                let conjuncts: Vec<Expr> = (0..=dice.below(3) as i32).map(condition).collect();
                let mut top = input;
                for place in 0..conjuncts.len() {
                    let plan = LogicalPlan::Filter { input: self.plan(input), conjuncts: conjuncts.clone() };
                    top = self.add(plan, place, vec![top], columns.clone());
                }
                top
            }
            2 => {
                let passed = columns.iter().map(|column| (column.clone(), Expr::Column(column.clone()))).collect();
                let plan = LogicalPlan::Project { input: self.plan(input), columns: passed };
                self.add(plan, 0, vec![input], columns)
            }
            3 => {
                let plan = LogicalPlan::Limit { input: self.plan(input), limit: Some(3), offset: 0 };
                self.add(plan, 0, vec![input], columns)
            }
            4 => {
                let other = self.random(dice, depth - 1);
                let (left, right) = (self.plan(input), self.plan(other));
                let kind = JoinKind::Inner;
                let join = Join { left, right, kind, on: vec![], residual: vec![], mark: None };
                let columns = columns.into_iter().chain(self.pieces[other].columns.clone()).collect();
                self.add(LogicalPlan::Join(join), 0, vec![input, other], columns)
            }
            _ => {
                let other = self.random(dice, depth - 1);
                let united: Vec<Column> = (0..2).map(|place| column(10_000 + self.next + place)).collect();
                self.next += 2;
                let part = |piece: usize, maker: &Maker| UnionInput {
                    plan: maker.plan(piece),
                    columns: maker.pieces[piece].columns[..2].to_vec(),
                };
                let inputs = vec![part(input, self), part(other, self)];
                let plan = LogicalPlan::Union { inputs, columns: united.clone() };
                self.add(plan, 0, vec![input, other], united)
            }
        }
    }
}

/// Takes what chance lets it take, and knows the tables that it holds.
struct Moody<'a> {
    dice: &'a std::sync::Mutex<Dice>,
    tables: Vec<String>,
}

impl Moody<'_> {
    fn verdict(&self) -> Verdict {
        match self.dice.lock().unwrap().below(4) {
            0 => Verdict::kept(KeptReason::NoSuchAbility, "not today"),
            1 => Verdict::Prunes { note: None },
            _ => Verdict::pushed(),
        }
    }
}

impl Draft for Moody<'_> {
    async fn take(&mut self, _: Asked<'_>) -> Verdict {
        self.verdict()
    }

    fn join(&mut self, right: &Self, _: &Join) -> Verdict {
        let verdict = self.verdict();
        if verdict.is_pushed() {
            self.tables.extend(right.tables.iter().cloned());
        }
        verdict
    }

    fn union(&mut self, _: &[Column], others: &[(&Self, &[Column])], _: &[Column]) -> Verdict {
        let verdict = self.verdict();
        if verdict.is_pushed() {
            others.iter().for_each(|(other, _)| self.tables.extend(other.tables.iter().cloned()));
        }
        verdict
    }

    async fn finish(&self, columns: &[Column]) -> Result<Agreed> {
        let spec = ScanSpec::new(("fleet_db", "paper"), &ObjectName::new("a", "b", "c"), 1, &self.tables)?;
        Ok(Agreed::new(spec, Request::default(), columns.iter().map(|column| column.name.clone()).collect()))
    }
}

fn made(seed: u64) -> (Fragment, Answer) {
    let mut dice = Dice(seed);
    let mut maker = Maker::default();
    let depth = 1 + dice.below(6);
    maker.random(&mut dice, depth);
    let fragment = Fragment { pieces: maker.pieces };
    let dice = std::sync::Mutex::new(dice);
    let begin = |scan: &Scan| Ok(Moody { dice: &dice, tables: vec![scan.table.name.table.clone()] });
    let answer = block_on(answer(&fragment, begin)).unwrap();
    (fragment, answer)
}

#[test]
fn answers_hold_together() {
    for seed in 0..3_000 {
        let (fragment, answer) = made(seed);
        answer.check(&fragment).unwrap_or_else(|e| panic!("seed {seed}: {e}"));
        // Every table is read by exactly one part.
        let mut read: Vec<String> =
            answer.parts.iter().flat_map(|part| part.agreed.spec.unpack::<Vec<String>>(1).unwrap()).collect();
        let mut all: Vec<String> =
            fragment.pieces.iter().filter_map(|piece| Some(piece.scan()?.table.name.table.clone())).collect();
        read.sort();
        all.sort();
        assert_eq!(read, all, "seed {seed}");
        for (place, piece) in fragment.pieces.iter().enumerate().filter(|(_, piece)| piece.scan().is_none()) {
            // What was kept, but for a condition on the same rows, is followed by nothing that the source does.
            let below = |input: &usize| answer.is_pushed(*input) || fragment.pieces[*input].is_filter();
            let follows = piece.inputs.iter().all(below);
            let above_kept = piece.inputs.iter().any(|input| !answer.is_pushed(*input));
            let pushed = answer.is_pushed(place);
            assert!(!pushed || (follows && (!above_kept || piece.is_filter())), "seed {seed}, piece {place}");
        }
        for part in &answer.parts {
            let names: Vec<String> = part.columns.iter().map(|column| column.name.clone()).collect();
            assert_eq!(part.agreed.columns_read, names, "seed {seed}");
            assert!(part.columns.iter().all(|column| fragment.pieces[part.top].columns.contains(column)));
        }
    }
}

#[test]
fn what_is_withheld_is_not_asked_for() {
    for seed in 0..200 {
        let (mut fragment, _) = made(seed);
        let top = fragment.pieces.len() - 1;
        if fragment.pieces[top].scan().is_some() {
            continue;
        }
        fragment.pieces[top].withheld = Some(Verdict::kept(KeptReason::SwitchedOff, "it is off"));
        struct All;
        impl Draft for All {
            async fn take(&mut self, _: Asked<'_>) -> Verdict {
                Verdict::pushed()
            }
            fn join(&mut self, _: &Self, _: &Join) -> Verdict {
                Verdict::pushed()
            }
            fn union(&mut self, _: &[Column], _: &[(&Self, &[Column])], _: &[Column]) -> Verdict {
                Verdict::pushed()
            }
            async fn finish(&self, _: &[Column]) -> Result<Agreed> {
                let spec = ScanSpec::new(("fleet_db", "paper"), &ObjectName::new("a", "b", "c"), 1, &())?;
                Ok(Agreed::new(spec, Request::default(), vec![]))
            }
        }
        let answer = block_on(answer(&fragment, |_| Ok(All))).unwrap();
        answer.check(&fragment).unwrap();
        let kept = (0..=top).filter(|place| !answer.is_pushed(*place)).collect::<Vec<_>>();
        assert_eq!(kept, [top], "seed {seed}");
    }
}

/// Sources are other people's code: an answer that would lose rows or do work twice is refused.
#[test]
fn wrong_answers_are_refused() {
    let mut maker = Maker::default();
    let left = maker.random(&mut Dice(1), 0);
    let right = maker.random(&mut Dice(2), 0);
    let join = Join {
        left: maker.plan(left),
        right: maker.plan(right),
        kind: JoinKind::Inner,
        on: vec![],
        residual: vec![],
        mark: None,
    };
    let columns = [left, right].iter().flat_map(|piece| maker.pieces[*piece].columns.clone()).collect();
    maker.add(LogicalPlan::Join(join), 0, vec![left, right], columns);
    let fragment = Fragment { pieces: maker.pieces };
    let good = |kept: bool| {
        let dice = std::sync::Mutex::new(Dice(0));
        let begin = |_: &Scan| Ok(Moody { dice: &dice, tables: vec![] });
        let mut seen = block_on(answer(&fragment, begin)).unwrap();
        while seen.is_pushed(2) == kept {
            seen = block_on(answer(&fragment, begin)).unwrap();
        }
        seen
    };
    let (whole, apart) = (good(false), good(true));
    assert_eq!((whole.parts.len(), apart.parts.len()), (1, 2));
    let refused = |answer: Answer, why: &str| {
        let error = answer.check(&fragment).unwrap_err().to_string();
        assert!(error.contains(why), "{error}, not {why}");
    };
    refused(Answer { parts: vec![], ..whole.clone() }, "leaves a piece out");
    refused(Answer { parts: apart.parts[..1].to_vec(), ..apart.clone() }, "leaves a piece out");
    refused(Answer { parts: [apart.parts.clone(), apart.parts.clone()].concat(), ..apart.clone() }, "twice");
    refused(Answer { parts: whole.parts.clone(), ..apart.clone() }, "does a piece that it keeps");
    refused(Answer { verdicts: vec![None], ..whole.clone() }, "one verdict for each piece");
}
