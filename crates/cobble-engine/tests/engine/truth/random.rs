//! Fragments made at random from a grammar of expressions: whatever a source takes over of them must not change an answer. The same seed
//! gives the same fragments, so that a difference can be looked at again.

use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};

/// Columns of one table by their types.
pub struct Columns {
    pub table: &'static str,
    pub whole: &'static [&'static str],
    pub text: &'static [&'static str],
    pub decimal: &'static [&'static str],
    pub date: &'static [&'static str],
    pub moment: &'static [&'static str],
    pub flag: &'static [&'static str],
}

struct Maker<'a> {
    random: StdRng,
    columns: &'a Columns,
}

impl Maker<'_> {
    fn one<'t>(&mut self, of: &[&'t str]) -> &'t str {
        of.choose(&mut self.random).copied().unwrap_or("null")
    }

    fn number(&mut self, below: usize) -> usize {
        self.random.random_range(0..below)
    }

    fn whole(&mut self, depth: usize) -> String {
        let column = self.one(self.columns.whole).to_owned();
        if depth == 0 {
            return match self.number(3) {
                0 => ["0", "1", "2", "-1", "3", "7"][self.number(6)].to_owned(),
                _ => column,
            };
        }
        let next = depth - 1;
        match self.number(11) {
            0 => format!("({} + {})", self.whole(next), self.whole(next)),
            1 => format!("({} - {})", self.whole(next), self.whole(next)),
            2 => format!("({} * {})", self.whole(next), self.whole(0)),
            3 => format!("(- {})", self.whole(next)),
            4 => format!("abs({})", self.whole(next)),
            5 => format!("({} % {})", self.whole(next), self.one(&["2", "3", "7", "-4"])),
            6 => format!("({} / {})", self.whole(next), self.one(&["2", "3", "-5"])),
            7 => format!("length({})", self.text(next)),
            8 => format!("strpos({}, {})", self.text(next), self.text(0)),
            9 => format!("CASE WHEN {} THEN {} ELSE {} END", self.truth(next), self.whole(next), self.whole(0)),
            _ => format!("coalesce({}, {})", self.whole(next), self.whole(0)),
        }
    }

    fn text(&mut self, depth: usize) -> String {
        let column = self.one(self.columns.text).to_owned();
        if depth == 0 {
            return match self.number(3) {
                0 => ["'hull'", "'a'", "''", "'A '", "'é'", "'%'"][self.number(6)].to_owned(),
                _ => column,
            };
        }
        let next = depth - 1;
        let count = ["0", "1", "2", "5"][self.number(4)];
        match self.number(12) {
            0 => format!("({} || {})", self.text(next), self.text(0)),
            1 => format!("left({}, {count})", self.text(next)),
            2 => format!("right({}, {count})", self.text(next)),
            3 => format!("substring({} from {} for {count})", self.text(next), self.one(&["1", "2", "3"])),
            4 => format!("btrim({})", self.text(next)),
            5 => format!("replace({}, 'l', '')", self.text(next)),
            6 => format!("reverse({})", self.text(next)),
            7 => format!("lpad({}, {count}, 'xy')", self.text(next)),
            8 => format!("upper({})", self.text(next)),
            9 => format!("CASE WHEN {} THEN {} ELSE {} END", self.truth(next), self.text(next), self.text(0)),
            10 => format!("nullif({}, {})", self.text(next), self.text(0)),
            _ => format!("coalesce({}, {})", self.text(next), self.text(0)),
        }
    }

    fn decimal(&mut self, depth: usize) -> String {
        let column = self.one(self.columns.decimal).to_owned();
        if depth == 0 {
            return if self.number(3) == 0 { self.one(&["2.80", "0.01", "-1.5", "3.0"]).to_owned() } else { column };
        }
        let next = depth - 1;
        match self.number(7) {
            0 => format!("({} + {})", self.decimal(next), self.decimal(0)),
            1 => format!("({} - {})", self.decimal(next), self.whole(0)),
            2 => format!("({} * {})", self.decimal(next), self.one(&["2", "0.5", "-3"])),
            3 => format!("round({}, {})", self.decimal(next), self.one(&["0", "1", "2"])),
            4 => format!("floor({})", self.decimal(next)),
            5 => format!("ceil({})", self.decimal(next)),
            _ => format!("abs({})", self.decimal(next)),
        }
    }

    fn date(&mut self, depth: usize) -> String {
        let column = self.one(self.columns.date).to_owned();
        match self.number(4) {
            0 => ["date '2025-07-01'", "date '2024-02-29'", "date '0001-01-01'"][self.number(3)].to_owned(),
            1 if depth > 0 => format!("coalesce({}, {})", self.date(depth - 1), self.date(0)),
            2 if depth > 0 && !self.columns.moment.is_empty() => {
                format!("{}::date", self.one(self.columns.moment))
            }
            _ => column,
        }
    }

    fn truth(&mut self, depth: usize) -> String {
        let compare = self.one(&["=", "<>", "<", "<=", ">", ">=", "IS DISTINCT FROM", "IS NOT DISTINCT FROM"]);
        if depth == 0 {
            return match self.number(3) {
                0 if !self.columns.flag.is_empty() => self.one(self.columns.flag).to_owned(),
                1 => format!("{} IS NULL", self.one(self.columns.text)),
                _ => format!("{} {compare} {}", self.whole(0), self.whole(0)),
            };
        }
        let next = depth - 1;
        match self.number(12) {
            0 => format!("({} AND {})", self.truth(next), self.truth(next)),
            1 => format!("({} OR {})", self.truth(next), self.truth(next)),
            2 => format!("(NOT {})", self.truth(next)),
            3 | 4 => format!("({} {compare} {})", self.whole(next), self.whole(next)),
            5 | 6 => format!("({} {compare} {})", self.text(next), self.text(next)),
            7 if !self.columns.decimal.is_empty() => format!("({} {compare} {})", self.decimal(next), self.decimal(0)),
            8 => format!("({} {compare} {})", self.date(next), self.date(0)),
            9 => {
                let part = self.one(&["year", "month", "day", "dow", "doy", "quarter", "week"]);
                format!("(extract({part} from {}) {compare} {})", self.date(next), self.whole(0))
            }
            10 => format!("({} LIKE {})", self.text(next), self.one(&["'h%'", "'%l_'", "'\\%%'", "''"])),
            _ => format!(
                "({} IN ({}, {}, {}))",
                self.whole(next),
                self.whole(0),
                self.whole(0),
                self.one(&["1", "null"])
            ),
        }
    }

    fn statement(&mut self) -> String {
        let (table, depth) = (self.columns.table, 1 + self.number(3));
        match self.number(6) {
            0 => format!(
                "SELECT id, {}, {} FROM {table} WHERE {}",
                self.whole(depth),
                self.text(depth),
                self.truth(depth)
            ),
            1 => format!("SELECT {}, count(*), max({}) FROM {table} GROUP BY 1", self.text(depth), self.whole(1)),
            2 => {
                let (key, of) = (self.whole(depth), self.text(1));
                format!(
                    "SELECT {key}, count(DISTINCT {of}), min({}) FROM {table} WHERE {} GROUP BY 1",
                    self.text(1),
                    self.truth(1)
                )
            }
            3 => {
                format!("SELECT id FROM {table} WHERE {} ORDER BY {}, id LIMIT 3", self.truth(depth), self.text(depth))
            }
            4 => {
                format!("SELECT count(*) FILTER (WHERE {}), max({}) FROM {table}", self.truth(depth), self.text(depth))
            }
            _ => format!("SELECT id FROM {table} WHERE {}", self.truth(depth + 1)),
        }
    }
}

pub fn statements(seed: u64, count: usize, columns: &Columns) -> Vec<String> {
    let mut maker = Maker { random: StdRng::seed_from_u64(seed), columns };
    (0..count).map(|_| maker.statement()).collect()
}
