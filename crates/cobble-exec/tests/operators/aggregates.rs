use std::collections::BTreeMap;
use std::sync::Arc;

use cobble_plan::physical::{Operator, PhysicalNode};
use cobble_plan::{AggregateCall, AggregateFunction, BinaryOp, Column, Expr};
use cobble_types::SqlType;

use crate::support::{Dice, Row, column, integer, of, run, table};

fn call(function: AggregateFunction, argument: Option<Expr>) -> AggregateCall {
    AggregateCall::plain(function, argument.into_iter().collect()).expect("it takes integers")
}

fn grouped(columns: &[Column; 2], rows: &[Row], keyed: bool, calls: Vec<AggregateCall>) -> Arc<PhysicalNode> {
    let groups = if keyed { vec![(column(10, "k"), of(&columns[0]))] } else { vec![] };
    let aggregates: Vec<(Column, AggregateCall)> = calls
        .into_iter()
        .enumerate()
        .map(|(i, call)| (Column { sql_type: call.sql_type.clone(), ..column(20 + i as u32, "x") }, call))
        .collect();
    let out = groups.iter().map(|(c, _)| c.clone()).chain(aggregates.iter().map(|(c, _)| c.clone())).collect();
    Arc::new(PhysicalNode {
        step: 2,
        operator: Operator::Aggregate { groups, aggregates },
        columns: out,
        inputs: vec![table(1, columns, rows)],
    })
}

#[tokio::test]
async fn groups_are_what_plain_code_finds() {
    let columns = [column(1, "k"), column(2, "v")];
    let value = || Some(of(&columns[1]));
    let mut dice = Dice(11);
    for (count, most) in [(0, 3), (1, 3), (50, 5), (400, 300), (3000, 2)] {
        let rows = dice.rows(count, 2, most);
        let large = Expr::compare(BinaryOp::Gt, of(&columns[1]), integer(1));
        let calls = vec![
            call(AggregateFunction::Count, None),
            call(AggregateFunction::Count, value()),
            call(AggregateFunction::Sum, value()),
            call(AggregateFunction::Min, value()),
            call(AggregateFunction::Max, value()),
            AggregateCall { distinct: true, ..call(AggregateFunction::Count, value()) },
            AggregateCall { distinct: true, ..call(AggregateFunction::Sum, value()) },
            AggregateCall { filter: Some(large), ..call(AggregateFunction::Count, None) },
        ];
        for keyed in [true, false] {
            let mut by_key: BTreeMap<Option<i32>, Vec<Option<i32>>> = BTreeMap::new();
            for row in &rows {
                by_key.entry(if keyed { row[0] } else { None }).or_default().push(row[1]);
            }
            if !keyed {
                // Without keys there is one group, even of nothing.
                by_key.entry(None).or_default();
            }
            let mut expected: Vec<Vec<String>> = by_key
                .into_iter()
                .map(|(key, values)| {
                    let some: Vec<i32> = values.iter().flatten().copied().collect();
                    let mut distinct = some.clone();
                    distinct.sort_unstable();
                    distinct.dedup();
                    let text = |v: Option<i64>| v.map_or_else(|| "∅".to_owned(), |v| v.to_string());
                    let sum = |all: &[i32]| text((!all.is_empty()).then(|| all.iter().map(|v| i64::from(*v)).sum()));
                    let mut out = if keyed { vec![text(key.map(i64::from))] } else { vec![] };
                    out.extend([
                        values.len().to_string(),
                        some.len().to_string(),
                        sum(&some),
                        text(some.iter().min().map(|v| i64::from(*v))),
                        text(some.iter().max().map(|v| i64::from(*v))),
                        distinct.len().to_string(),
                        sum(&distinct),
                        some.iter().filter(|v| **v > 1).count().to_string(),
                    ]);
                    out
                })
                .collect();
            let mut got = run(grouped(&columns, &rows, keyed, calls.clone())).await.unwrap();
            got.sort();
            expected.sort();
            assert_eq!(got, expected, "{count} rows, keyed {keyed}");
        }
    }
}

#[tokio::test]
async fn an_overflowing_sum_is_an_error() {
    let columns = [column(1, "k"), column(2, "v")];
    let big = Expr::Literal { value: cobble_types::Value::BigInt(i64::MAX), sql_type: SqlType::BigInt };
    let rows: Vec<Row> = vec![vec![Some(1), Some(1)]; 3];
    // A sum of bigint is numeric, so it does not overflow; its average stays exact.
    let calls = vec![call(AggregateFunction::Sum, Some(big.clone())), call(AggregateFunction::Avg, Some(big))];
    let got = run(grouped(&columns, &rows, false, calls)).await.unwrap();
    assert_eq!(got[0], ["27670116110564327421", "9223372036854775807.0000000000000000"]);
}

#[tokio::test]
async fn groups_that_do_not_fit_go_to_disk_and_come_back() {
    let columns = [column(1, "k"), column(2, "v")];
    let value = || Some(of(&columns[1]));
    let rows = Dice(5).rows(120_000, 2, 60_000);
    let calls = vec![
        call(AggregateFunction::Count, None),
        call(AggregateFunction::Sum, value()),
        call(AggregateFunction::Max, value()),
        AggregateCall { distinct: true, ..call(AggregateFunction::Count, value()) },
        call(AggregateFunction::VarPop, value()),
        call(AggregateFunction::ArrayAgg, value()),
    ];
    let node = grouped(&columns, &rows, true, calls);
    let mut roomy = run(node.clone()).await.unwrap();
    let (mut tight, spilled) = crate::support::run_within(node, "6MB").await.unwrap();
    assert!(spilled > 0, "it should have needed the disk");
    // The order of an array's items is not defined.
    for row in roomy.iter_mut().chain(&mut tight) {
        let mut items: Vec<&str> = row[6].trim_matches(['{', '}']).split(',').collect();
        items.sort_unstable();
        row[6] = items.join(",");
    }
    roomy.sort();
    tight.sort();
    assert!(roomy == tight, "{} and {} groups", roomy.len(), tight.len());
}
