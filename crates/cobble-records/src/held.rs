//! One service for one database of records: two would each believe that what the other changes is as it was.

use cobble_types::{Code, Error, Result};
use diesel::pg::PgConnection;
use diesel::prelude::*;
use diesel::sql_types::{Bool, Nullable, Text};

use super::storage;

/// The number of the lock (PostgreSQL, "Advisory Locks"), which no other program is likely to use: "cobblane" in ASCII.
const LOCK: i64 = i64::from_be_bytes(*b"cobblane");

/// The records of a service that runs. They are free again when this is dropped, and when the process ends.
pub struct HeldRecords(#[expect(dead_code, reason = "the lock is the session's")] PgConnection);

impl std::fmt::Debug for HeldRecords {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("HeldRecords")
    }
}

#[derive(QueryableByName)]
struct Taken {
    #[diesel(sql_type = Bool)]
    taken: bool,
}

#[derive(QueryableByName)]
struct Holder {
    #[diesel(sql_type = Nullable<Text>)]
    since: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    address: Option<String>,
}

/// Takes the records for one service.
///
/// # Errors
/// Another service has them.
pub fn hold(url: &str) -> Result<HeldRecords> {
    let mut session = PgConnection::establish(url).map_err(storage)?;
    diesel::sql_query("SET application_name = 'cobble lane, holding its records'")
        .execute(&mut session)
        .map_err(storage)?;
    let taken: Taken = diesel::sql_query(format!("SELECT pg_try_advisory_lock({LOCK}) AS taken"))
        .get_result(&mut session)
        .map_err(storage)?;
    if taken.taken {
        return Ok(HeldRecords(session));
    }
    let who = format!(
        "SELECT to_char(a.backend_start, 'YYYY-MM-DD HH24:MI:SS TZ') AS since, host(a.client_addr) AS address
         FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
         WHERE l.locktype = 'advisory' AND l.granted AND l.objsubid = 1
           AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())
           AND (l.classid::bigint << 32) | l.objid::bigint = {LOCK} LIMIT 1"
    );
    let holder: Option<Holder> = diesel::sql_query(who).get_result(&mut session).optional().map_err(storage)?;
    let place = holder.as_ref().and_then(|holder| holder.address.as_deref()).unwrap_or("this machine");
    let since = holder.as_ref().and_then(|holder| holder.since.as_deref()).unwrap_or("some time");
    Err(Error::new(Code::InUse, format!("a service on {place} has had these records since {since}"))
        .hint("stop that one, or give this one a database of its own with --records"))
}
