use std::cmp::Ordering;
use std::sync::Arc;

use cobble_plan::SortKey;
use cobble_plan::physical::{Operator, PhysicalNode};

use crate::support::{Dice, Row, column, of, run, shown, table};

#[tokio::test]
async fn rows_come_in_order_with_nulls_where_they_were_asked_for() {
    let columns = [column(1, "a"), column(2, "b"), column(3, "n")];
    let mut dice = Dice(3);
    for count in [0, 1, 60, 2000] {
        let mut rows: Vec<Row> = dice.rows(count, 2, 20);
        // The place of each row makes every order unambiguous.
        rows.iter_mut().enumerate().for_each(|(i, row)| row.push(Some(i as i32)));
        for (descending, nulls_first) in [(false, false), (false, true), (true, false), (true, true)] {
            for fetch in [None, Some(0), Some(5), Some(100_000)] {
                let keys = vec![
                    SortKey { expr: of(&columns[0]), descending, nulls_first },
                    SortKey { expr: of(&columns[2]), descending: false, nulls_first: false },
                ];
                let node = PhysicalNode {
                    step: 2,
                    operator: Operator::Sort { keys, fetch },
                    columns: columns.to_vec(),
                    inputs: vec![table(1, &columns, &rows)],
                };
                let mut expected = rows.clone();
                expected.sort_by(|x, y| {
                    let first = match (x[0], y[0]) {
                        (None, None) => Ordering::Equal,
                        (None, _) => {
                            if nulls_first {
                                Ordering::Less
                            } else {
                                Ordering::Greater
                            }
                        }
                        (_, None) => {
                            if nulls_first {
                                Ordering::Greater
                            } else {
                                Ordering::Less
                            }
                        }
                        (a, b) if descending => b.cmp(&a),
                        (a, b) => a.cmp(&b),
                    };
                    first.then(x[2].cmp(&y[2]))
                });
                expected.truncate(fetch.unwrap_or(u64::MAX).min(1 << 20) as usize);
                let got = run(Arc::new(node)).await.unwrap();
                assert_eq!(got, expected.iter().map(|r| shown(r)).collect::<Vec<_>>(), "{count} rows, fetch {fetch:?}");
            }
        }
    }
}

#[tokio::test]
async fn limits_skip_and_stop() {
    let columns = [column(1, "a")];
    let rows: Vec<Row> = (0..50).map(|i| vec![Some(i)]).collect();
    for (limit, offset, expected) in
        [(Some(3), 0, 0..3), (Some(3), 48, 48..50), (None, 45, 45..50), (Some(0), 0, 0..0), (Some(9), 60, 0..0)]
    {
        let node = PhysicalNode {
            step: 2,
            operator: Operator::Limit { limit, offset },
            columns: columns.to_vec(),
            inputs: vec![table(1, &columns, &rows)],
        };
        let got: Vec<String> = run(Arc::new(node)).await.unwrap().into_iter().map(|row| row[0].clone()).collect();
        assert_eq!(got, expected.map(|i: i32| i.to_string()).collect::<Vec<_>>(), "{limit:?} after {offset}");
    }
}

#[tokio::test]
async fn rows_that_do_not_fit_are_sorted_on_disk() {
    let columns = [column(1, "a"), column(2, "b")];
    let rows = Dice(9).rows(150_000, 2, 1_000_000);
    let keys = columns.iter().map(|c| SortKey { expr: of(c), descending: false, nulls_first: false }).collect();
    let node = Arc::new(PhysicalNode {
        step: 2,
        operator: Operator::Sort { keys, fetch: None },
        columns: columns.to_vec(),
        inputs: vec![table(1, &columns, &rows)],
    });
    let (tight, spilled) = crate::support::run_within(node.clone(), "4MB").await.unwrap();
    assert!(spilled > 0, "it should have needed the disk");
    assert!(tight == run(node).await.unwrap());
}
