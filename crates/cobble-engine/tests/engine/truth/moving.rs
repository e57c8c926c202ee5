//! A large table among whose rows money moves while it is read in portions: each reading must see one state of it.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use cobble_engine::{Engine, Session};

use super::answer;

pub const ROWS: i64 = 300_000;
const COINS: i64 = 100;

/// Readings of `purses (id, coins, note)`, filled with so many rows of 100 coins, while `moves` takes five coins from the purse of one id
/// to that of another, again and again.
pub async fn check(session: impl Fn() -> Session, mut moves: impl FnMut(i64, i64) + Send + 'static) {
    let stop = Arc::new(AtomicBool::new(false));
    let stopped = stop.clone();
    let mover = std::thread::spawn(move || {
        for n in 0i64.. {
            if stopped.load(Ordering::Relaxed) {
                return n;
            }
            moves(n * 7919 % ROWS + 1, ROWS - n * 104_729 % ROWS);
            // Now many at once, now some time without any.
            if n % 400 == 0 {
                std::thread::sleep(std::time::Duration::from_millis(60));
            }
        }
        0
    });
    let all = format!("{ROWS}|{}|{ROWS}", ROWS * COINS);
    let statements = [
        "SELECT count(*), sum(coins), count(DISTINCT id) FROM purses",
        // With bound values, and with more than one reading of the table.
        "SELECT count(*), sum(coins), count(DISTINCT id) FROM purses WHERE note LIKE 'x%' AND id > 0",
        "SELECT count(*), sum(a.coins), count(DISTINCT b.id) FROM purses a JOIN purses b ON a.id = b.id",
    ];
    for sql in statements.iter().cycle().take(9) {
        let mut session = session();
        // Every row is to cross the gate.
        session.set("planner.off", "offer-aggregates, split-aggregates, offer-joins").unwrap();
        let (rows, plan) = answer(&mut session, sql).await.unwrap();
        assert_eq!(rows, [all.as_str()], "{sql}");
        for gate in &plan.unwrap().gates {
            assert!(gate.parts.iter().any(|part| part.parts == "ranges" && part.total >= 3), "{:?}", gate.parts);
        }
    }
    stop.store(true, Ordering::Relaxed);
    assert!(mover.join().unwrap() > 20, "hardly anything moved while it was read");
}

/// The same rows come of a query in the database's own language in portions, called and stored.
pub async fn check_native(engine: &Arc<Engine>, catalog: &str, table: &str) {
    let text = format!("SELECT id, coins, note FROM {table} WHERE id > 7");
    let call = |arguments: &str| format!("native_query('{catalog}', $${text}$${arguments})");
    for (arguments, ranges) in [("", 0), (", split_on => 'id', split_into => 5", 5)] {
        let mut session = engine.session();
        session.set("planner.off", "offer-aggregates, split-aggregates").unwrap();
        let sql = format!("SELECT count(*), sum(coins), min(id) FROM {} q WHERE coins > 0", call(arguments));
        let (rows, plan) = answer(&mut session, &sql).await.unwrap();
        assert_eq!(rows, [format!("{}|{}|8", ROWS - 7, (ROWS - 7) * COINS)], "{sql}");
        let parts = &plan.unwrap().gates[0].parts;
        assert_eq!(parts.first().map_or(0, |part| part.total), ranges, "{sql}: {parts:?}");
    }
    for (arguments, fault) in [
        (", split_on => 'id'", "split_on and split_into go together"),
        (", split_on => 'id', split_into => 1", "it cannot be split into so many portions"),
        (", split_on => 'ident', split_into => 4", "no column named \"ident\""),
        (", split_on => 'note', split_into => 4", "note is text, and no query is split by it"),
        (", split_on => 4, split_into => 4", "split_on of native_query() cannot be 4"),
        (", split_by => 'id'", "no argument named \"split_by\""),
    ] {
        let sql = format!("SELECT count(*) FROM {} q", call(arguments));
        let error = answer(&mut engine.session(), &sql).await.unwrap_err().to_string();
        assert!(error.contains(fault), "{arguments}: {error}");
    }
}
