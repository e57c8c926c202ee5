use std::sync::Arc;

use cobble_plan::physical::{Operator, PhysicalNode, Side};
use cobble_plan::{BinaryOp, Column, Expr, JoinKind};

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
    let operator = if keyed {
        Operator::HashJoin { kind, on: vec![(of(&l[0]), of(&r[0]))], residual, build }
    } else {
        Operator::NestedLoopJoin { kind, residual, build }
    };
    let columns = if kind.left_only() { l.to_vec() } else { l.iter().chain(&r).cloned().collect() };
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
