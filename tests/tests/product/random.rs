//! Statements that nobody thought of: made at random from a grammar, with the same seed every time, and judged by PostgreSQL.

use std::time::Instant;

use cobble_tests::{for_judge, in_engine, judge, judged, language_judge, ours, over_http};

use super::judged::{told, too_slow};

const RELATIONS: &str = "WITH a(k, v, t) AS (VALUES (1, 10, 'x'), (1, 20, 'y'), (2, null, 'x'), (null, 30, null), (3, 40, ''), (null, null, 'z')), \
    b(k, v, t) AS (VALUES (1, 15, 'x'), (1, 25, null), (2, null, 'y'), (4, 40, 'x'), (null, 9, 'z')), \
    c(k, v, t) AS (VALUES (1, 1, 'x'), (2, 2, 'x'), (2, null, 'y'), (5, 3, null), (1, 1, 'x')) ";

/// The same names over the demo's sources: tables of two sources, with nulls, skew and keys of all kinds.
const FERRY: &str = "WITH a(k, v, t) AS (SELECT home_port, capacity, name FROM fleet.public.vessels WHERE id < 25), \
    b(k, v, t) AS (SELECT holder_id, route_id, channel FROM drop.public.boardings WHERE id % 1999 = 3), \
    c(k, v, t) AS (SELECT from_port, id, CASE WHEN active THEN name END FROM fleet.public.routes WHERE nautical_miles > 3) ";

/// A linear congruential generator (Knuth's MMIX constants).
pub struct Dice(u64);

impl Dice {
    pub fn new(seed: u64) -> Dice {
        Dice(seed)
    }

    pub fn below(&mut self, n: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.0 >> 33) % n as u64) as usize
    }

    pub fn chance(&mut self, one_in: usize) -> bool {
        self.below(one_in) == 0
    }

    pub fn one<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[self.below(of.len())]
    }

    /// A number over the aliases in reach.
    fn number(&mut self, aliases: &[String], depth: usize) -> String {
        let column = |dice: &mut Self| format!("{}.{}", aliases[dice.below(aliases.len())], dice.one(&["k", "v"]));
        if depth == 0 {
            return if self.chance(4) { self.below(5).to_string() } else { column(self) };
        }
        match self.below(8) {
            0 => format!(
                "({} {} {})",
                self.number(aliases, depth - 1),
                self.one(&["+", "-", "*"]),
                self.number(aliases, depth - 1)
            ),
            1 => format!("coalesce({}, {})", self.number(aliases, depth - 1), self.below(9)),
            2 => format!(
                "CASE WHEN {} THEN {} ELSE {} END",
                self.condition(aliases, depth - 1),
                self.number(aliases, depth - 1),
                self.number(aliases, depth - 1)
            ),
            3 => format!("length({}.t)", aliases[self.below(aliases.len())]),
            4 => {
                let (relation, alias) = (self.one(&["a", "b", "c"]), format!("s{}", self.below(1000)));
                let aggregate = self.one(&["max", "min", "sum", "count"]);
                let condition = self.correlated(&alias, aliases, depth - 1);
                format!("(SELECT {aggregate}({alias}.v) FROM {relation} {alias} WHERE {condition})")
            }
            5 => format!("nullif({}, {})", self.number(aliases, depth - 1), self.below(3)),
            _ => column(self),
        }
    }

    /// A condition of a subquery that may use what is around it.
    fn correlated(&mut self, own: &str, outer: &[String], depth: usize) -> String {
        let around = &outer[self.below(outer.len())];
        let link = match self.below(4) {
            0 => format!("{own}.k = {around}.k"),
            1 => format!("{own}.v > {around}.v"),
            2 => format!("{own}.k = {around}.k AND {own}.v <> {around}.v"),
            _ => format!("{own}.k IS NOT DISTINCT FROM {around}.k"),
        };
        if self.chance(2) { link } else { format!("{link} AND {}", self.condition(&[own.to_owned()], depth)) }
    }

    fn condition(&mut self, aliases: &[String], depth: usize) -> String {
        let plain = |dice: &mut Self| {
            let op = dice.one(&["=", "<>", "<", "<=", ">", ">="]);
            format!("{} {op} {}", dice.number(aliases, 0), dice.number(aliases, 0))
        };
        if depth == 0 {
            return plain(self);
        }
        match self.below(10) {
            0 => format!("({} AND {})", self.condition(aliases, depth - 1), self.condition(aliases, depth - 1)),
            1 => format!("({} OR {})", self.condition(aliases, depth - 1), self.condition(aliases, depth - 1)),
            2 => format!("NOT ({})", self.condition(aliases, depth - 1)),
            3 => format!("{} IS {}NULL", self.number(aliases, depth - 1), self.one(&["", "NOT "])),
            4 => format!(
                "{}.t {} '{}'",
                aliases[self.below(aliases.len())],
                self.one(&["LIKE", "NOT LIKE", "=", "<"]),
                self.one(&["x", "%", "y%"])
            ),
            5 | 6 => {
                let (relation, alias) = (self.one(&["a", "b", "c"]), format!("q{}", self.below(1000)));
                let condition = self.correlated(&alias, aliases, depth - 1);
                match self.below(3) {
                    0 => format!(
                        "{}EXISTS (SELECT 1 FROM {relation} {alias} WHERE {condition})",
                        self.one(&["", "NOT "])
                    ),
                    1 => format!(
                        "{} {}IN (SELECT {alias}.k FROM {relation} {alias})",
                        self.number(aliases, 0),
                        self.one(&["", "NOT "])
                    ),
                    _ => format!(
                        "{} {} ANY (SELECT {alias}.v FROM {relation} {alias} WHERE {condition})",
                        self.number(aliases, 0),
                        self.one(&["=", "<", ">="])
                    ),
                }
            }
            7 => format!("{} BETWEEN {} AND {}", self.number(aliases, depth - 1), self.below(4), self.below(40)),
            8 => format!("{} IN ({}, {}, null)", self.number(aliases, 0), self.below(5), self.below(40)),
            _ => plain(self),
        }
    }

    /// A statement with its relations: constants, or tables of the demo.
    pub fn whole_statement(&mut self) -> String {
        let relations = if self.chance(2) { FERRY } else { RELATIONS };
        format!("{relations}{}", self.statement())
    }

    fn statement(&mut self) -> String {
        let mut aliases = vec!["p".to_owned()];
        let mut from = format!("{} p", self.one(&["a", "b", "c"]));
        for alias in ["q", "r"].iter().take(self.below(3)) {
            let kind = self.one(&["JOIN", "LEFT JOIN", "RIGHT JOIN", "FULL JOIN", "CROSS JOIN"]);
            let relation = self.one(&["a", "b", "c"]);
            let before = aliases[self.below(aliases.len())].clone();
            aliases.push((*alias).to_owned());
            from = match kind {
                "CROSS JOIN" => format!("{from} CROSS JOIN {relation} {alias}"),
                // PostgreSQL does full joins only by equalities.
                "FULL JOIN" => format!("{from} FULL JOIN {relation} {alias} ON {before}.k = {alias}.k"),
                _ if self.chance(3) => {
                    format!("{from} {kind} {relation} {alias} ON {before}.k = {alias}.k AND {before}.v < {alias}.v")
                }
                _ => format!("{from} {kind} {relation} {alias} ON {before}.k = {alias}.k"),
            };
        }
        let selection = if self.chance(3) { String::new() } else { format!(" WHERE {}", self.condition(&aliases, 2)) };
        match self.below(9) {
            4 => {
                let sets = self.one(&[
                    "ROLLUP (p.k, p.t)",
                    "CUBE (p.k, p.t)",
                    "GROUPING SETS ((p.k), (p.t), ())",
                    "p.k, ROLLUP (p.t)",
                ]);
                format!(
                    "SELECT p.k, p.t, grouping(p.k, p.t), count(*), max({}) FROM {from}{selection} GROUP BY {sets}",
                    self.number(&aliases, 1)
                )
            }
            5 => {
                let (take, ties) = (self.below(4), self.one(&["ONLY", "WITH TIES"]));
                let order = self.one(&["p.k, p.v, p.t", "p.k DESC NULLS LAST, p.v, p.t", "p.t NULLS FIRST, p.v, p.k"]);
                // All that is shown is sorted by, so that equal rows are the same rows.
                format!(
                    "SELECT p.k, p.v, p.t FROM {from}{selection} ORDER BY {order} OFFSET {} ROWS FETCH FIRST {take} ROWS {ties}",
                    self.below(3)
                )
            }
            6 => {
                let (from, aliases) = (format!("{} p", self.one(&["a", "b", "c"])), ["p".to_owned()]);
                let selection = format!(" WHERE {}", self.condition(&aliases, 1));
                let x = self.number(&aliases, 1);
                let relation = self.one(&["a", "b", "c"]);
                let inner = self.correlated("l", &aliases, 1);
                let kind = self.one(&["CROSS JOIN LATERAL", "LEFT JOIN LATERAL"]);
                let on = if kind.starts_with("LEFT") { " ON true" } else { "" };
                format!(
                    "SELECT {x}, n.c, n.m FROM {from} {kind} (SELECT count(*) AS c, min(l.v) AS m FROM {relation} l WHERE {inner}) n{on}{selection}"
                )
            }
            7 => {
                let (x, y) = (self.number(&aliases, 0), self.number(&aliases, 0));
                let (op, many) = (self.one(&["=", "<>", "<", ">="]), self.one(&["ANY", "ALL"]));
                let relation = self.one(&["a", "b", "c"]);
                format!(
                    "SELECT DISTINCT ON (p.k) p.k, p.v, p.t FROM {from} WHERE {x} {op} {many} (SELECT v FROM {relation}) OR ROW({x}, {y}) {op} ROW({y}, {x}) ORDER BY p.k, p.v, p.t"
                )
            }
            8 => {
                let (from, aliases) = (format!("{} p", self.one(&["a", "b", "c"])), ["p".to_owned()]);
                let selection = format!(" WHERE {}", self.condition(&aliases, 1));
                let x = self.number(&aliases, 0);
                let end = self.below(6);
                let (step, clause, carried) = match self.below(4) {
                    0 => ("n + 1", " SEARCH DEPTH FIRST BY n SET o", "o::text"),
                    1 => ("n + 1", " SEARCH BREADTH FIRST BY n SET o", "o::text"),
                    // This one goes on for ever unless its cycle is seen.
                    2 => ("(n + 1) % 4", " CYCLE n SET o USING p", "o::text || p::text"),
                    _ => ("n + 1", "", "''"),
                };
                let end = if clause.contains("CYCLE") { 9 } else { end };
                format!(
                    "SELECT e.n, e.o, count({x}), string_agg(({x})::text, ',' ORDER BY {x}) FROM {from}, (WITH RECURSIVE r(n) AS (SELECT 0 UNION ALL SELECT {step} FROM r WHERE n < {end}){clause} SELECT n, {carried} AS o FROM r) e{selection} GROUP BY e.n, e.o"
                )
            }
            0 => {
                let key = self.number(&aliases, 0);
                let key = if key.contains('.') { key } else { "p.k".to_owned() };
                let having =
                    if self.chance(3) { format!(" HAVING count(*) > {}", self.below(3)) } else { String::new() };
                format!(
                    "SELECT {key}, count(*), sum({}), min({}), count(DISTINCT {}) FROM {from}{selection} GROUP BY {key}{having}",
                    self.number(&aliases, 1),
                    self.number(&aliases, 0),
                    self.number(&aliases, 0)
                )
            }
            1 => {
                let (x, y) = (self.number(&aliases, 0), self.number(&aliases, 0));
                let frame = self.one(&["", " ROWS BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW", " GROUPS 1 PRECEDING"]);
                // Only what does not depend on the order of equal rows.
                let call = if frame.contains("ROWS") { "max(0)".to_owned() } else { format!("sum({y})") };
                format!(
                    "SELECT {x}, {call} OVER (PARTITION BY {y} ORDER BY {x}, p.k{frame}), rank() OVER (ORDER BY {x}) FROM {from}{selection}"
                )
            }
            2 => {
                let (x, y) = (self.number(&aliases, 1), self.number(&aliases, 1));
                let set = self.one(&["UNION", "UNION ALL", "INTERSECT", "EXCEPT", "EXCEPT ALL", "INTERSECT ALL"]);
                format!("SELECT {x}, {y} FROM {from}{selection} {set} SELECT k, v FROM {}", self.one(&["a", "b", "c"]))
            }
            _ => format!(
                "SELECT {}{}, {}, {} IS TRUE FROM {from}{selection}",
                self.one(&["", "", "DISTINCT "]),
                self.number(&aliases, 2),
                self.number(&aliases, 1),
                self.condition(&aliases, 2)
            ),
        }
    }
}

/// Where statements are asked: of constants in the engine as a library, or of the demo's sources through the service.
#[derive(Clone, Copy)]
enum Place {
    Constants,
    Ferry,
}

impl Place {
    async fn judge(self) -> tokio_postgres::Client {
        match self {
            Place::Constants => language_judge().await,
            Place::Ferry => judge().await,
        }
    }

    async fn answers(self, judge: &tokio_postgres::Client, statement: &str) -> (Answer, Answer) {
        let begun = Instant::now();
        let (sql, got) = match self {
            Place::Constants => {
                let sql = format!("{RELATIONS}{statement}");
                let got = in_engine(&sql).await.map_err(|e| format!("{} {e}", e.code.sqlstate()));
                (sql, got)
            }
            Place::Ferry => {
                let sql = format!("{FERRY}{statement}");
                let told = |e: serde_json::Value| format!("{} {e}", e["sqlstate"].as_str().unwrap_or_default());
                let got = over_http(&sql).await.map(|rows| ours(&rows)).map_err(told);
                (for_judge(&sql), got)
            }
        };
        let own = begun.elapsed();
        let begun = Instant::now();
        let wanted = judged(judge, &sql).await;
        let of_judge = begun.elapsed();
        let mut slow = too_slow(own, of_judge);
        // A busy machine makes anything slow now and then: what is slow is slow again.
        for _ in 0..2 {
            if slow.is_some() {
                let begun = Instant::now();
                match self {
                    Place::Constants => drop(in_engine(&format!("{RELATIONS}{statement}")).await),
                    Place::Ferry => drop(over_http(&format!("{FERRY}{statement}")).await),
                }
                slow = too_slow(begun.elapsed(), of_judge);
            }
        }
        let got = match slow {
            Some(slow) => Err(format!("slow {slow}")),
            None => got,
        };
        let wanted = wanted.map_err(|error| {
            let (class, message) = told(error);
            format!("{class} {message}")
        });
        let sorted = |answer: Result<Vec<String>, String>| {
            answer.map(|mut rows| {
                rows.sort();
                rows
            })
        };
        (sorted(wanted), sorted(got))
    }

    /// What differs, as its kind and in words.
    async fn difference(self, judge: &tokio_postgres::Client, statement: &str) -> Option<(String, String)> {
        let (wanted, got) = self.answers(judge, statement).await;
        if alike(&wanted, &got) {
            return None;
        }
        let kind = match (&got, &wanted) {
            (Ok(_), Ok(_)) => "rows".to_owned(),
            (Ok(_), Err(_)) => "accepted".to_owned(),
            // The error without the place and the names in it.
            (Err(error), _) => error.chars().filter(|c| !c.is_ascii_digit()).take(60).collect(),
        };
        Some((kind, format!("got    {got:?}\n  wanted {wanted:?}")))
    }

    /// A statement as small as can be found that still differs: parts are left out as long as it does (Zeller and Hildebrandt,
    /// "Simplifying and Isolating Failure-Inducing Input", 2002).
    async fn shrunk(self, judge: &tokio_postgres::Client, statement: &str) -> String {
        let Some((kind, _)) = self.difference(judge, statement).await else { return statement.to_owned() };
        let mut words: Vec<String> = words(statement);
        let mut size = words.len() / 2;
        while size > 0 {
            let mut at = 0;
            while at + size <= words.len() {
                let mut shorter = words.clone();
                shorter.drain(at..at + size);
                if self.difference(judge, &shorter.join(" ")).await.is_some_and(|(own, _)| own == kind) {
                    words = shorter;
                } else {
                    at += 1;
                }
            }
            size /= 2;
        }
        words.join(" ")
    }
}

/// Rows, or an error that begins with the class of its SQLSTATE.
type Answer = Result<Vec<String>, String>;

/// The same rows, or errors of one class.
fn alike(wanted: &Answer, got: &Answer) -> bool {
    match (wanted, got) {
        (Ok(wanted), Ok(got)) => wanted == got,
        (Err(wanted), Err(got)) => wanted.get(..2) == got.get(..2),
        _ => false,
    }
}

/// Words and signs, so that any run of them can be left out.
fn words(statement: &str) -> Vec<String> {
    let spaced: String =
        statement.chars().flat_map(|c| if "(),".contains(c) { vec![' ', c, ' '] } else { vec![c] }).collect();
    spaced.split_whitespace().map(str::to_owned).collect()
}

async fn compare(place: Place, seed: u64, number: usize) {
    let judge = place.judge().await;
    let mut dice = Dice::new(seed);
    let (mut report, mut refused) = (Vec::new(), 0);
    for done in 0..number {
        let statement = dice.statement();
        let (wanted, got) = place.answers(&judge, &statement).await;
        refused += usize::from(wanted.is_err());
        if alike(&wanted, &got) {
            continue;
        }
        let first = format!("got    {got:?}\n  wanted {wanted:?}");
        let small = place.shrunk(&judge, &statement).await;
        let how = match place.difference(&judge, &small).await {
            Some((_, how)) => how,
            None => format!("not a second time; the first time it was\n  {first}"),
        };
        report.push(format!(
            "{small}\n  {how}\n  made from the statement {done} of seed {seed}, with {} rows",
            wanted.as_ref().map_or(0, Vec::len)
        ));
        if report.len() >= 10 {
            break;
        }
    }
    assert!(report.is_empty(), "{} differ\n\n{}", report.len(), report.join("\n\n"));
    assert!(refused * 5 < number, "the judge refused {refused} of {number}: the grammar is wrong");
}

#[tokio::test(flavor = "multi_thread")]
async fn statements_made_at_random() {
    compare(Place::Constants, 20_260_101, 500).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn statements_over_the_ferries_made_at_random() {
    compare(Place::Ferry, 7, 100).await;
}

/// `make fuzz`: as many as are asked for, with a new seed at each hundred.
#[tokio::test(flavor = "multi_thread")]
#[ignore = "takes long"]
async fn fuzz() {
    let number: u64 = std::env::var("COBBLE_FUZZ").ok().and_then(|n| n.parse().ok()).unwrap_or(20_000);
    let first: u64 = std::env::var("COBBLE_SEED").ok().and_then(|n| n.parse().ok()).unwrap_or(1);
    for hundred in 0..number.div_ceil(100) {
        // One in ten goes to the sources.
        let place = if hundred % 10 == 9 { Place::Ferry } else { Place::Constants };
        compare(place, first * 1_000_003 + hundred, 100).await;
        eprint!("\r{} of {number}", (hundred + 1) * 100);
    }
    eprintln!();
}
