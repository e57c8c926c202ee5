use std::sync::Arc;

use cobble_plan::logical::Mark;
use cobble_plan::physical::{JoinWork, Operator, PhysicalNode, Side};
use cobble_plan::{BinaryOp, Column, Expr, JoinKey, JoinKind};
use cobble_types::SqlType;

use crate::support::{Dice, Row, column, of, run, shown, table};

const KINDS: [JoinKind; 6] =
    [JoinKind::Inner, JoinKind::Left, JoinKind::Right, JoinKind::Full, JoinKind::Semi, JoinKind::Anti];

/// What a join means, row by row: the keys are equal and not null, and the second columns are in order when that is asked.
fn meaning(kind: JoinKind, left: &[Row], right: &[Row], keyed: bool, ordered: bool) -> Vec<Vec<String>> {
    let matches = |l: &Row, r: &Row| {
        let keys = !keyed || (l[0].is_some() && l[0] == r[0]);
        let residual = !ordered || matches!((l[1], r[1]), (Some(a), Some(b)) if a < b);
        keys && residual
    };
    let mut out = Vec::new();
    for l in left {
        let partners: Vec<&Row> = right.iter().filter(|r| matches(l, r)).collect();
        match kind {
            JoinKind::Semi if !partners.is_empty() => out.push(shown(l)),
            JoinKind::Anti if partners.is_empty() => out.push(shown(l)),
            JoinKind::Semi | JoinKind::Anti => {}
            _ => {
                out.extend(partners.iter().map(|r| shown(&[l.as_slice(), r].concat())));
                if partners.is_empty() && matches!(kind, JoinKind::Left | JoinKind::Full) {
                    out.push(shown(&[l.as_slice(), &[None, None]].concat()));
                }
            }
        }
    }
    if matches!(kind, JoinKind::Right | JoinKind::Full) {
        for r in right.iter().filter(|r| !left.iter().any(|l| matches(l, r))) {
            out.push(shown(&[&[None, None], r.as_slice()].concat()));
        }
    }
    out.sort();
    out
}

struct Sides {
    left: [Column; 2],
    right: [Column; 2],
}

fn sides() -> Sides {
    Sides { left: [column(1, "a"), column(2, "b")], right: [column(3, "c"), column(4, "d")] }
}

fn joined(kind: JoinKind, build: Side, left: &[Row], right: &[Row], keyed: bool, ordered: bool) -> Arc<PhysicalNode> {
    let Sides { left: l, right: r } = sides();
    let residual = if ordered { vec![Expr::compare(BinaryOp::Lt, of(&l[1]), of(&r[1]))] } else { vec![] };
    let on = if keyed { vec![JoinKey::plain(of(&l[0]), of(&r[0]))] } else { vec![] };
    node(JoinWork { kind, on, residual, mark: None, build }, left, right)
}

fn node(work: JoinWork, left: &[Row], right: &[Row]) -> Arc<PhysicalNode> {
    let Sides { left: l, right: r } = sides();
    let mut columns = l.to_vec();
    if !work.kind.left_only() {
        columns.extend(r.clone());
    }
    columns.extend(work.mark.iter().map(|mark| mark.column.clone()));
    let operator = if work.on.is_empty() { Operator::NestedLoopJoin(work) } else { Operator::HashJoin(work) };
    Arc::new(PhysicalNode { step: 3, operator, columns, inputs: vec![table(1, &l, left), table(2, &r, right)] })
}

#[tokio::test]
async fn every_kind_from_either_side_with_and_without_conditions() {
    let mut dice = Dice(7);
    for (left_rows, right_rows, most) in [(0, 5, 3), (5, 0, 3), (1, 1, 0), (40, 30, 9), (7, 200, 4), (300, 20, 50)] {
        let (left, right) = (dice.rows(left_rows, 2, most), dice.rows(right_rows, 2, most));
        for kind in KINDS {
            for build in [Side::Left, Side::Right] {
                for (keyed, ordered) in [(true, false), (true, true), (false, true), (false, false)] {
                    let mut got = run(joined(kind, build, &left, &right, keyed, ordered)).await.unwrap();
                    got.sort();
                    let expected = meaning(kind, &left, &right, keyed, ordered);
                    assert_eq!(got, expected, "{kind:?} build {build:?} keyed {keyed} ordered {ordered}");
                }
            }
        }
    }
}

#[tokio::test]
async fn not_in_knows_about_nulls() {
    let some = |values: &[Option<i32>]| -> Vec<Row> { values.iter().map(|v| vec![*v, Some(0)]).collect() };
    for (left, right, expected) in [
        (&[Some(1), Some(2), None][..], &[Some(2)][..], &["1"][..]),
        // A null among the values: nothing is certain any more.
        (&[Some(1), Some(2), None], &[Some(2), None], &[]),
        // Nothing to compare with: everything is certain, even of a null.
        (&[Some(1), None], &[], &["1", "∅"]),
        (&[], &[Some(1)], &[]),
    ] {
        let join = joined(JoinKind::NullAwareAnti, Side::Right, &some(left), &some(right), true, false);
        let got: Vec<String> = run(join).await.unwrap().into_iter().map(|row| row[0].clone()).collect();
        assert_eq!(got, expected, "{left:?} not in {right:?}");
    }
}

#[tokio::test]
async fn many_partners_come_out_in_several_batches() {
    // One key on both sides: 300 times 300 pairs, far more than a batch.
    let same: Vec<Row> = (0..300).map(|i| vec![Some(1), Some(i)]).collect();
    let out = run(joined(JoinKind::Inner, Side::Right, &same, &same, true, false)).await.unwrap();
    assert_eq!(out.len(), 90_000);
    let below = run(joined(JoinKind::Inner, Side::Left, &same, &same, true, true)).await.unwrap();
    assert_eq!(below.len(), 300 * 299 / 2);
}

#[tokio::test]
async fn null_safe_keys_let_nulls_meet() {
    let Sides { left: l, right: r } = sides();
    let left: Vec<Row> = vec![vec![None, Some(1)], vec![Some(7), Some(2)]];
    let right: Vec<Row> = vec![vec![None, Some(3)], vec![Some(7), Some(4)], vec![None, Some(5)]];
    let on = vec![JoinKey::null_safe(of(&l[0]), of(&r[0]))];
    let work = JoinWork { kind: JoinKind::Inner, on, residual: vec![], mark: None, build: Side::Right };
    let mut got = run(node(work, &left, &right)).await.unwrap();
    got.sort();
    assert_eq!(got, [["7", "2", "7", "4"], ["∅", "1", "∅", "3"], ["∅", "1", "∅", "5"]]);
}

#[tokio::test]
async fn a_value_has_one_row() {
    let Sides { left: l, right: r } = sides();
    let left: Vec<Row> = vec![vec![Some(1), Some(1)], vec![Some(2), Some(1)]];
    for (right, expected) in [
        (vec![vec![Some(1), Some(9)]], Ok(vec!["1|1|1|9", "2|1|∅|∅"])),
        (vec![], Ok(vec!["1|1|∅|∅", "2|1|∅|∅"])),
        (vec![vec![Some(1), Some(9)], vec![Some(1), Some(8)]], Err("21000")),
        (vec![vec![Some(3), Some(9)], vec![Some(3), Some(8)]], Ok(vec!["1|1|∅|∅", "2|1|∅|∅"])),
    ] {
        let on = vec![JoinKey::plain(of(&l[0]), of(&r[0]))];
        let work = JoinWork { kind: JoinKind::Single, on, residual: vec![], mark: None, build: Side::Right };
        match (run(node(work, &left, &right)).await, expected) {
            (Ok(mut rows), Ok(wanted)) => {
                rows.sort();
                assert_eq!(rows.iter().map(|r| r.join("|")).collect::<Vec<_>>(), wanted);
            }
            (Err(error), Err(code)) => assert_eq!(error.code.sqlstate(), code),
            (got, expected) => panic!("{got:?}, not {expected:?}"),
        }
    }
}

#[tokio::test]
async fn a_mark_has_three_values() {
    let Sides { left: l, right: r } = sides();
    let column = Column { sql_type: SqlType::Boolean, ..column(9, "mark") };
    let left: Vec<Row> = vec![vec![Some(1), None], vec![Some(2), None], vec![None, None]];
    let some = |values: &[Option<i32>]| -> Vec<Row> { values.iter().map(|v| vec![*v, None]).collect() };
    for (right, expected) in [
        (some(&[Some(1)]), ["true", "false", "∅"]),
        (some(&[Some(1), None]), ["true", "∅", "∅"]),
        (some(&[]), ["false", "false", "false"]),
    ] {
        let equal = JoinKey::plain(of(&l[0]), of(&r[0]));
        // By the key, and by comparing every pair.
        let by_key = (vec![equal.clone()], Mark { column: column.clone(), compare: vec![], of_key: true });
        let by_pair = (vec![], Mark { column: column.clone(), compare: vec![equal.as_condition()], of_key: false });
        for (on, mark) in [by_key, by_pair] {
            let work = JoinWork { kind: JoinKind::Mark, on, residual: vec![], mark: Some(mark), build: Side::Right };
            let got = run(node(work, &left, &right)).await.unwrap();
            assert_eq!(got.iter().map(|row| row[2].as_str()).collect::<Vec<_>>(), expected);
        }
    }
}

#[tokio::test]
async fn a_side_that_does_not_fit_goes_to_disk() {
    let mut dice = Dice(13);
    let (left, right) = (dice.rows(60_000, 2, 40_000), dice.rows(90_000, 2, 40_000));
    for kind in KINDS {
        for build in [Side::Left, Side::Right] {
            let join = joined(kind, build, &left, &right, true, true);
            let (mut tight, spilled) = crate::support::run_within(join.clone(), "2MB").await.unwrap();
            assert!(spilled > 0, "{kind:?} build {build:?} should have needed the disk");
            let (mut roomy, _) = crate::support::run_within(join, "1GB").await.unwrap();
            tight.sort();
            roomy.sort();
            assert!(tight == roomy, "{kind:?} build {build:?}: {} and {} rows", tight.len(), roomy.len());
        }
    }
}
