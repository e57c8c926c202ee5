//! UPDATE, DELETE and MERGE of a lake's tables, made at random and judged by PostgreSQL: after each statement both have the same rows, and both
//! say that it was about as many.

use std::sync::Arc;

use cobble_engine::{CatalogDefinition, ConnectionDefinition, Engine};
use cobble_tests::{in_session, judged, language_judge};
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use tokio_postgres::SimpleQueryMessage;

const COLUMNS: &str = "id integer, port text, berths integer, fare numeric(10,2), opened date, note text";
const PORTS: [&str; 4] = ["Sørhavn", "Kvinesund", "Rauøy", "Lia"];

fn pick<'a>(random: &mut StdRng, all: &[&'a str]) -> &'a str {
    all[random.random_range(0..all.len())]
}

/// A condition on the columns of this table.
fn condition(random: &mut StdRng, table: &str, depth: u32) -> String {
    let n = random.random_range(0..120);
    let own = match random.random_range(0..12) {
        0 => format!("{table}.id % {} = 0", random.random_range(2..7)),
        1 => format!("{table}.id BETWEEN {n} AND {}", n + random.random_range(0..40)),
        2 => format!("{table}.port = '{}'", pick(random, &PORTS)),
        3 => format!("{table}.port IS NULL"),
        4 => format!("{table}.fare > {n}.5"),
        5 => format!("{table}.berths IN ({}, {})", random.random_range(0..8), random.random_range(0..8)),
        6 => format!("{table}.opened >= date '2023-01-01' + {n}"),
        7 => format!("coalesce({table}.fare, 0) < {n}"),
        8 => format!("{table}.port LIKE '%ø%'"),
        9 => format!("{table}.opened < date '2023-02-01' + {n}"),
        10 => format!("{table}.id = {n}"),
        _ => format!("{table}.berths > {table}.id % 8"),
    };
    match random.random_range(0..6) {
        0 if depth > 0 => format!("({own} AND {})", condition(random, table, depth - 1)),
        1 if depth > 0 => format!("({own} OR {})", condition(random, table, depth - 1)),
        2 if depth > 0 => format!("NOT ({own})"),
        _ => own,
    }
}

/// `SET` of some columns; `from` is another table whose columns may be used.
fn set(random: &mut StdRng, from: Option<&str>) -> String {
    let mut all = vec![
        "note = coalesce(kept.note, '') || '+'".to_owned(),
        format!("berths = kept.berths + {}", random.random_range(1..4)),
        "fare = NULL".to_owned(),
        "fare = kept.fare * 1.1".to_owned(),
        format!("port = '{}'", pick(random, &PORTS)),
        format!("opened = date '2023-01-15' + {}", random.random_range(0..90)),
        "port = upper(kept.port)".to_owned(),
    ];
    if let Some(from) = from {
        all.push(format!("fare = {from}.fare + kept.berths"));
        all.push(format!("port = {from}.port"));
        all.push(format!("berths = {from}.berths"));
    }
    let mut chosen: Vec<String> = Vec::new();
    for _ in 0..random.random_range(1..4) {
        let next = all.swap_remove(random.random_range(0..all.len()));
        let column = next.split(' ').next().unwrap_or_default().to_owned();
        if !chosen.iter().any(|own| own.starts_with(&format!("{column} "))) {
            chosen.push(next);
        }
    }
    chosen.join(", ")
}

fn merge(random: &mut StdRng) -> String {
    let source = match random.random_range(0..3) {
        0 => "news AS s".to_owned(),
        1 => format!("(SELECT * FROM news AS n WHERE {}) AS s", condition(random, "n", 1)),
        _ => format!("(SELECT id + {} AS id, port, berths, fare FROM news) AS s", random.random_range(0..60)),
    };
    let mut arms = String::new();
    for _ in 0..random.random_range(1..4) {
        let and = match random.random_range(0..3) {
            0 => String::new(),
            1 => format!(" AND {}", condition(random, "kept", 1)),
            _ => " AND s.berths > 3".to_owned(),
        };
        let effect = match random.random_range(0..5) {
            0 => "DELETE".to_owned(),
            1 => "DO NOTHING".to_owned(),
            _ => format!("UPDATE SET {}", set(random, Some("s"))),
        };
        arms.push_str(&format!(" WHEN MATCHED{and} THEN {effect}"));
        if and.is_empty() {
            break;
        }
    }
    if random.random_bool(0.7) {
        let and = if random.random_bool(0.5) { " AND s.fare > 20" } else { "" };
        let effect = pick(
            random,
            &[
                "INSERT (id, port, note) VALUES (s.id, s.port, 'new')",
                "INSERT VALUES (s.id, s.port, s.berths, s.fare, date '2023-03-03', NULL)",
                "INSERT (fare, id) VALUES (s.fare * 2, s.id)",
                "DO NOTHING",
            ],
        );
        arms.push_str(&format!(" WHEN NOT MATCHED{and} THEN {effect}"));
    }
    let on = if random.random_bool(0.2) { " AND kept.port = s.port" } else { "" };
    format!("MERGE INTO kept USING {source} ON kept.id = s.id{on}{arms}")
}

fn statement(random: &mut StdRng) -> String {
    match random.random_range(0..8) {
        0 => format!("UPDATE kept SET {} WHERE {}", set(random, None), condition(random, "kept", 2)),
        1 => {
            let (set, rest) = (set(random, Some("s")), condition(random, "kept", 1));
            format!("UPDATE kept SET {set} FROM news AS s WHERE s.id = kept.id AND {rest}")
        }
        2 => {
            let (set, inner) = (set(random, None), condition(random, "news", 1));
            format!("UPDATE kept SET {set} WHERE kept.id IN (SELECT id FROM news WHERE {inner})")
        }
        3 => format!("DELETE FROM kept WHERE {}", condition(random, "kept", 2)),
        4 => {
            let inner = condition(random, "s", 1);
            format!("DELETE FROM kept USING news AS s WHERE s.id = kept.id AND {inner} AND kept.berths > 4")
        }
        5 => format!(
            "INSERT INTO kept SELECT id + 1000 * {}, port, berths, fare, opened, 'again' FROM kept WHERE {} AND id < 1000",
            random.random_range(1..9),
            condition(random, "kept", 1)
        ),
        _ => merge(random),
    }
}

/// The rows that the tables begin with.
fn filled(table: &str, first: u32, count: u32) -> String {
    let ports = PORTS.map(|port| format!("'{port}'")).join(", ");
    format!(
        "INSERT INTO {table} SELECT n, (ARRAY[{ports}, NULL])[1 + n % 5], n % 9, CASE WHEN n % 6 <> 0 THEN n * 1.25 END,
            date '2023-01-01' + n, CASE WHEN n % 4 = 0 THEN 'note ' || n END FROM generate_series({first}, {}) AS g(n)",
        first + count - 1
    )
}

async fn compared(seed: u64, count: usize, partition_by: &str, with: &str) {
    let folder = tempfile::tempdir().unwrap();
    let engine: Arc<Engine> = Engine::in_memory().unwrap();
    let mut lake = ConnectionDefinition::new("lake", "lake", "");
    lake.options.extend([("storage", "deep"), ("writable", "true")].map(|(name, value)| (name.into(), value.into())));
    for definition in [ConnectionDefinition::new("deep", "files", folder.path().display().to_string()), lake] {
        let name = definition.name.clone();
        engine.add_connection(definition).unwrap();
        engine.add_catalog(CatalogDefinition::new(&name, &name)).unwrap();
    }
    let mut session = engine.session();
    session.use_place("lake", Some("ops")).unwrap();
    let judge = language_judge().await;
    for table in ["kept", "news"] {
        let partitions = if table == "kept" { format!("{partition_by} {with}") } else { String::new() };
        in_session(&mut session, &format!("CREATE TABLE {table} ({COLUMNS}) {partitions}")).await.unwrap();
        judge.batch_execute(&format!("CREATE TEMP TABLE {table} ({COLUMNS})")).await.unwrap();
    }
    for fill in [filled("kept", 1, 60), filled("kept", 61, 40), filled("news", 70, 60)] {
        in_session(&mut session, &fill).await.unwrap();
        judge.batch_execute(&fill).await.unwrap();
    }
    let mut random = StdRng::seed_from_u64(seed);
    let mut done = Vec::new();
    for turn in 0..count {
        let sql = statement(&mut random);
        done.push(sql.clone());
        let wanted = judge.simple_query(&sql).await;
        let found = in_session(&mut session, &sql).await;
        let at = |what: &str| format!("seed {seed}, turn {turn}, {partition_by} {with}: {what}\n{}", done.join(";\n"));
        match (wanted, found) {
            (Ok(wanted), Ok(found)) => {
                let rows = wanted.iter().find_map(|message| match message {
                    SimpleQueryMessage::CommandComplete(rows) => Some(*rows),
                    _ => None,
                });
                let own = found[0].split('|').nth(1).and_then(|rows| rows.parse().ok());
                assert_eq!(own, rows, "{}", at(&found[0]));
            }
            (Err(_), Err(_)) => {}
            (wanted, found) => panic!("{}", at(&format!("{found:?}, and the judge {wanted:?}"))),
        }
        let all = "SELECT * FROM kept ORDER BY 1, 2, 3, 4, 5, 6";
        let (found, wanted) = (in_session(&mut session, all).await.unwrap(), judged(&judge, all).await.unwrap());
        let more: Vec<_> = found.iter().filter(|row| !wanted.contains(row)).take(3).collect();
        let less: Vec<_> = wanted.iter().filter(|row| !found.contains(row)).take(3).collect();
        assert!(found == wanted, "{}", at(&format!("not wanted {more:?}, missing {less:?}")));
        if found.len() > 700 || found.len() < 10 {
            for sql in ["DELETE FROM kept".to_owned(), filled("kept", 1, 100)] {
                in_session(&mut session, &sql).await.unwrap();
                judge.batch_execute(&sql).await.unwrap();
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_at_random_leave_the_rows_that_the_judge_has() {
    let number = |name: &str, other: u64| std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(other);
    let (count, seed) = (number("COBBLE_FUZZ", 25) as usize, number("COBBLE_SEED", 1));
    let told = ["delete", "update", "merge"].map(|word| format!("write.{word}.mode = 'merge-on-read'")).join(", ");
    let told = format!("WITH ({told})");
    for (place, (partition_by, with)) in [
        ("", ""),
        ("", told.as_str()),
        ("PARTITION BY (month(opened), truncate(2, port))", ""),
        ("PARTITION BY (bucket(4, id))", told.as_str()),
    ]
    .into_iter()
    .enumerate()
    {
        compared(seed + place as u64, count, partition_by, with).await;
    }
}
