//! The rows of each table, as record batches.

use std::ops::Range;
use std::sync::Arc;

use arrow::array::*;
use arrow::datatypes::{DataType, Field, Schema};

/// First day of the data, 2023-01-01, in days since 1970-01-01.
pub(crate) const FIRST_DAY: i32 = 19_358;
pub(crate) const DAY: i64 = 86_400_000_000;
/// The tariff change, 2025-01-01.
pub(crate) const TARIFF_CHANGE_DAY: i32 = 20_089;
const DAYS_IN_MONTH: [i32; 36] = [
    31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31, 31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31, 31, 28, 31, 30, 31,
    30, 31, 31, 30, 31, 30, 31,
];
/// Summer is the season.
const SEASON: [u64; 12] = [4, 4, 5, 7, 9, 12, 15, 15, 10, 7, 5, 5];

#[derive(Debug, Clone, Copy)]
pub struct Ferry {
    pub seed: u64,
    pub scale: f64,
}

/// One of the 36 months of the data.
#[derive(Debug, Clone, Copy)]
pub struct Month {
    pub number: usize,
    first_day: i32,
    days: i32,
}

impl Month {
    pub fn all() -> Vec<Month> {
        let mut first_day = FIRST_DAY;
        DAYS_IN_MONTH
            .iter()
            .enumerate()
            .map(|(number, days)| {
                let month = Month { number, first_day, days: *days };
                first_day += days;
                month
            })
            .collect()
    }

    /// `YYYY-MM`.
    pub fn name(self) -> String {
        format!("{}-{:02}", 2023 + self.number / 12, self.number % 12 + 1)
    }
}

/// A source of numbers for one row: the seed, the table and the row's number mixed (splitmix64, Steele et al. 2014).
pub(crate) struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// In [0, 1).
    fn unit(&mut self) -> f64 {
        (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }

    pub(crate) fn below(&mut self, n: u64) -> u64 {
        self.next() % n.max(1)
    }

    pub(crate) fn pick<T: Copy>(&mut self, of: &[T]) -> T {
        of[self.below(of.len() as u64) as usize]
    }

    /// Small numbers far more often than large ones.
    pub(crate) fn skewed(&mut self, n: u64, power: i32) -> u64 {
        ((self.unit().powi(power)) * n as f64) as u64
    }
}

const ISLES: &[&str] =
    &["Brent", "Marram", "Teal", "Wrack", "Samphire", "Plover", "Curlew", "Sallow", "Dunlin", "Sedge"];
const QUAYS: &[&str] = &["Quay", "Harbour", "Landing", "Steps"];
const FIRST: &[&str] = &[
    "Ada", "Bram", "Cleo", "Dag", "Edda", "Finn", "Greta", "Hal", "Ines", "Joss", "Kit", "Lena", "Miro", "Nell",
    "Otto", "Pia",
];
const LAST: &[&str] = &[
    "Alder", "Barge", "Creek", "Drift", "Eyot", "Fenn", "Gull", "Heron", "Isle", "Jetty", "Keel", "Lock", "Moor",
    "Oar", "Pier", "Reed",
];
const VESSELS: &[&str] = &[
    "Grey Heron",
    "Salt Lark",
    "Morning Tide",
    "Lady Marsh",
    "Spindrift",
    "Windrow",
    "Ebb Star",
    "Long Reach",
    "Saltern",
    "Cordgrass",
];
const ROLES: &[&str] = &["captain", "mate", "engineer", "deckhand", "deckhand", "steward"];

pub(crate) fn batch(columns: Vec<(&str, ArrayRef)>) -> RecordBatch {
    let fields: Vec<Field> =
        columns.iter().map(|(name, a)| Field::new(*name, a.data_type().clone(), a.is_nullable())).collect();
    RecordBatch::try_new(Arc::new(Schema::new(fields)), columns.into_iter().map(|(_, a)| a).collect())
        .expect("columns of one length that fit their fields")
}

pub(crate) fn texts(values: Vec<String>) -> ArrayRef {
    Arc::new(StringArray::from(values))
}

pub(crate) fn decimals(values: Vec<i128>, precision: u8, scale: i8) -> ArrayRef {
    Arc::new(Decimal128Array::from(values).with_data_type(DataType::Decimal128(precision, scale)))
}

/// Fare in cents for so many hundredths of a mile, a class and a day.
fn fare_of(miles: i128, class: usize, day: i32) -> i128 {
    let base = 180 + miles * 45 / 100;
    let classed = base * [100, 160, 60][class] / 100;
    if day >= TARIFF_CHANGE_DAY { classed * 108 / 100 } else { classed }
}

struct Sailing {
    id: i64,
    route: i32,
    vessel: i32,
    departed: i64,
    minutes: i64,
    delay: i32,
    cancelled: bool,
}

impl Ferry {
    pub fn new(scale: f64) -> Ferry {
        Ferry { seed: 2025, scale }
    }

    pub(crate) fn dice(&self, table: u64, row: u64) -> Dice {
        let mut dice =
            Dice(self.seed ^ table.wrapping_mul(0xd6e8_feb8_6659_fd93) ^ row.wrapping_mul(0xa076_1d64_78bd_642f));
        dice.next();
        dice
    }

    pub(crate) fn scaled(&self, at_one: u64) -> u64 {
        ((at_one as f64 * self.scale).round() as u64).max(36)
    }

    pub fn pass_holder_count(&self) -> u64 {
        self.scaled(200_000)
    }

    pub fn crew_count(&self) -> u64 {
        480
    }

    fn of_month(total: u64, month: Month) -> u64 {
        let all: u64 = SEASON.iter().sum::<u64>() * 3;
        total * SEASON[month.number % 12] / all
    }

    pub fn sailings_in(&self, month: Month) -> u64 {
        Self::of_month(self.scaled(400_000), month)
    }

    pub fn boardings_in(&self, month: Month) -> u64 {
        Self::of_month(self.scaled(6_000_000), month)
    }

    pub fn sailing_count(&self) -> u64 {
        Month::all().into_iter().map(|month| self.sailings_in(month)).sum()
    }

    pub fn boarding_count(&self) -> u64 {
        Month::all().into_iter().map(|month| self.boardings_in(month)).sum()
    }

    pub fn incident_count(&self) -> u64 {
        self.scaled(4_000).max(400)
    }

    pub fn reading_count(&self) -> u64 {
        self.scaled(3_000_000)
    }

    pub fn ports(&self) -> RecordBatch {
        let rows = 0..40usize;
        batch(vec![
            ("id", Arc::new(Int32Array::from_iter_values(rows.clone().map(|i| i as i32 + 1)))),
            ("name", texts(rows.clone().map(|i| format!("{} {}", ISLES[i % 10], QUAYS[i / 10])).collect())),
            ("island", texts(rows.clone().map(|i| format!("{} Isle", ISLES[i % 10])).collect())),
            (
                "opened",
                Arc::new(Date32Array::from_iter_values(rows.clone().map(|i| FIRST_DAY - 4000 - 137 * i as i32))),
            ),
            ("depth_m", Arc::new(Float64Array::from_iter_values(rows.map(|i| 2.5 + (i * 7 % 40) as f64 / 4.0)))),
        ])
    }

    fn route_miles(&self, route: i32) -> i128 {
        // In hundredths of a mile.
        250 + i128::from(self.dice(2, route as u64).below(2400))
    }

    pub fn routes(&self) -> RecordBatch {
        let ids = 1..=120i32;
        let port = |n: i32| n % 40 + 1;
        let name = |n: i32| format!("{} {}", ISLES[(n % 10) as usize], QUAYS[(n / 10) as usize]);
        let (from, to) = (|r: i32| port(r * 7), |r: i32| port(r * 7 + 1 + r % 11));
        batch(vec![
            ("id", Arc::new(Int32Array::from_iter_values(ids.clone()))),
            ("name", texts(ids.clone().map(|r| format!("{} – {}", name(from(r) - 1), name(to(r) - 1))).collect())),
            ("from_port", Arc::new(Int32Array::from_iter_values(ids.clone().map(from)))),
            ("to_port", Arc::new(Int32Array::from_iter_values(ids.clone().map(to)))),
            ("nautical_miles", decimals(ids.clone().map(|r| self.route_miles(r)).collect(), 6, 2)),
            ("active", Arc::new(BooleanArray::from_iter(ids.clone().map(|r| Some(r % 9 != 4))))),
            ("opened", Arc::new(Date32Array::from_iter_values(ids.map(|r| FIRST_DAY - 3000 + 31 * (r % 90))))),
        ])
    }

    pub fn vessels(&self) -> RecordBatch {
        let ids = 1..=60i32;
        batch(vec![
            ("id", Arc::new(Int32Array::from_iter_values(ids.clone()))),
            (
                "name",
                texts(
                    ids.clone()
                        .map(|v| {
                            let n = (v - 1) as usize;
                            if n < 10 {
                                VESSELS[n].to_owned()
                            } else {
                                format!("{} {}", VESSELS[n % 10], ["II", "III", "IV", "V", "VI"][n / 10 - 1])
                            }
                        })
                        .collect(),
                ),
            ),
            (
                "capacity",
                Arc::new(Int32Array::from_iter_values(
                    ids.clone().map(|v| 40 + self.dice(3, v as u64).below(36) as i32 * 10),
                )),
            ),
            ("built", Arc::new(Int16Array::from_iter_values(ids.clone().map(|v| 1978 + (v * 11 % 45) as i16)))),
            ("home_port", Arc::new(Int32Array::from_iter_values(ids.clone().map(|v| v * 3 % 40 + 1)))),
            ("tonnage", decimals(ids.map(|v| 900 + i128::from(self.dice(4, v as u64).below(9000))).collect(), 8, 1)),
        ])
    }

    pub fn crew(&self) -> RecordBatch {
        let rows = 0..self.crew_count();
        let each =
            |f: &dyn Fn(&mut Dice, u64) -> i64| rows.clone().map(|i| f(&mut self.dice(5, i), i)).collect::<Vec<i64>>();
        batch(vec![
            ("id", Arc::new(Int32Array::from_iter_values(rows.clone().map(|i| i as i32 + 1)))),
            (
                "vessel_id",
                Arc::new(Int32Array::from_iter_values(
                    each(&|d, _| d.skewed(60, 2) as i64 + 1).into_iter().map(|v| v as i32),
                )),
            ),
            (
                "name",
                texts(
                    rows.clone()
                        .map(|i| {
                            let mut d = self.dice(6, i);
                            format!("{} {}", d.pick(FIRST), d.pick(LAST))
                        })
                        .collect(),
                ),
            ),
            ("role", texts(rows.clone().map(|i| ROLES[(i % 6) as usize].to_owned()).collect())),
            (
                "hired",
                Arc::new(Date32Array::from_iter_values(
                    each(&|d, _| {
                        d.next();
                        i64::from(FIRST_DAY) - 2000 + d.below(3000) as i64
                    })
                    .into_iter()
                    .map(|v| v as i32),
                )),
            ),
            (
                "salary",
                decimals(
                    each(&|d, i| 2_400_000 + (6 - (i % 6) as i64) * 350_000 + d.below(400_000) as i64)
                        .into_iter()
                        .map(i128::from)
                        .collect(),
                    9,
                    2,
                ),
            ),
        ])
    }

    pub fn pass_holders(&self, rows: Range<u64>) -> RecordBatch {
        let people: Vec<(String, String)> = rows
            .clone()
            .map(|i| {
                let mut d = self.dice(7, i);
                (d.pick(FIRST).to_owned(), d.pick(LAST).to_owned())
            })
            .collect();
        batch(vec![
            ("id", Arc::new(Int32Array::from_iter_values(rows.clone().map(|i| i as i32 + 1)))),
            ("name", texts(people.iter().map(|(a, b)| format!("{a} {b}")).collect())),
            (
                "email",
                texts(
                    people
                        .iter()
                        .zip(rows.clone())
                        .map(|((a, b), i)| format!("{}.{}{i}@example.test", a.to_lowercase(), b.to_lowercase()))
                        .collect(),
                ),
            ),
            (
                "phone",
                Arc::new(
                    rows.clone()
                        .map(|i| {
                            let mut d = self.dice(8, i);
                            (d.below(8) > 0).then(|| format!("+00 555 {:07}", d.below(10_000_000)))
                        })
                        .collect::<StringArray>(),
                ),
            ),
            (
                "home_port",
                Arc::new(Int32Array::from_iter_values(rows.clone().map(|i| self.dice(9, i).skewed(40, 2) as i32 + 1))),
            ),
            (
                "joined",
                Arc::new(Date32Array::from_iter_values(
                    rows.clone().map(|i| FIRST_DAY - 1500 + self.dice(10, i).below(2500) as i32),
                )),
            ),
            (
                "kind",
                texts(
                    rows.map(|i| {
                        self.dice(11, i).pick(&["resident", "resident", "commuter", "senior", "student"]).to_owned()
                    })
                    .collect(),
                ),
            ),
        ])
    }

    fn sailing(&self, month: Month, k: u64) -> Sailing {
        let before: u64 = Month::all()[..month.number].iter().map(|m| self.sailings_in(*m)).sum();
        self.sailing_after(month, k, before)
    }

    /// The k-th sailing of a month, `before` of them having sailed in earlier months.
    fn sailing_after(&self, month: Month, k: u64, before: u64) -> Sailing {
        let count = self.sailings_in(month).max(1);
        let mut d = self.dice(12, before + k);
        let at = (k as f64 + d.unit() * 0.8) / count as f64 * f64::from(month.days);
        // Ferries sail from six in the morning to ten at night.
        let (day, in_day) = (at.floor(), at.fract());
        let minutes = (in_day * 16.0 * 60.0) as i64 + 360;
        let departed = (i64::from(month.first_day) + day as i64) * DAY + minutes * 60_000_000;
        let route = d.skewed(120, 2) as i32 + 1;
        let length = 8 + (self.route_miles(route) / 20) as i64;
        let winter = !(3..10).contains(&(month.number % 12));
        let delay = if d.below(4) == 0 { d.skewed(if winter { 90 } else { 40 }, 3) as i32 } else { 0 };
        Sailing {
            id: (before + k) as i64 + 1,
            route,
            vessel: ((route * 13) % 60 + (d.below(3) as i32)) % 60 + 1,
            departed,
            minutes: length,
            delay,
            cancelled: d.below(if winter { 40 } else { 150 }) == 0,
        }
    }

    pub fn sailings(&self, month: Month, rows: Range<u64>) -> RecordBatch {
        let first = self.sailing(month, 0).id as u64 - 1;
        let all: Vec<Sailing> = rows.map(|k| self.sailing_after(month, k, first)).collect();
        let stamp = |f: &dyn Fn(&Sailing) -> Option<i64>| {
            Arc::new(TimestampMicrosecondArray::from_iter(all.iter().map(f))) as ArrayRef
        };
        batch(vec![
            ("id", Arc::new(Int64Array::from_iter_values(all.iter().map(|s| s.id)))),
            ("route_id", Arc::new(Int32Array::from_iter_values(all.iter().map(|s| s.route)))),
            ("vessel_id", Arc::new(Int32Array::from_iter_values(all.iter().map(|s| s.vessel)))),
            ("departed_at", stamp(&|s| Some(s.departed))),
            (
                "arrived_at",
                stamp(&|s| (!s.cancelled).then(|| s.departed + (s.minutes + i64::from(s.delay)) * 60_000_000)),
            ),
            ("delay_minutes", Arc::new(Int32Array::from_iter_values(all.iter().map(|s| s.delay)))),
            ("cancelled", Arc::new(BooleanArray::from_iter(all.iter().map(|s| Some(s.cancelled))))),
        ])
    }

    pub fn boardings(&self, month: Month, rows: Range<u64>) -> RecordBatch {
        let months = &Month::all()[..month.number];
        let boardings_before: u64 = months.iter().map(|m| self.boardings_in(*m)).sum();
        let sailings_before: u64 = months.iter().map(|m| self.sailings_in(*m)).sum();
        let (boardings, sailings) = (self.boardings_in(month).max(1), self.sailings_in(month).max(1));
        let holders = self.pass_holder_count();
        let n = (rows.end - rows.start) as usize;
        let (mut id, mut sailing, mut route) = (Vec::with_capacity(n), Vec::with_capacity(n), Vec::with_capacity(n));
        let (mut holder, mut fare, mut scanned) = (Vec::with_capacity(n), Vec::with_capacity(n), Vec::with_capacity(n));
        let (mut channel, mut class) = (StringBuilder::new(), StringBuilder::new());
        // Boardings of one sailing follow each other.
        let mut known: Option<(u64, Sailing, i128)> = None;
        for j in rows {
            let mut d = self.dice(13, boardings_before + j);
            let k = j * sailings / boardings;
            let (s, miles) = match &known {
                Some((at, s, miles)) if *at == k => (s, *miles),
                _ => {
                    let s = self.sailing_after(month, k, sailings_before);
                    let miles = self.route_miles(s.route);
                    let (_, s, miles) = known.insert((k, s, miles));
                    (&*s, *miles)
                }
            };
            let seat = match d.below(20) {
                0..=13 => 0,
                14..=15 => 1,
                _ => 2,
            };
            let at = s.departed - d.below(1500) as i64 * 1_000_000 - d.below(1_000_000) as i64;
            id.push((boardings_before + j) as i64 + 1);
            sailing.push(s.id);
            route.push(s.route);
            let with_pass = d.below(100) < 65;
            let person = d.skewed(holders, 2) as i32 + 1;
            holder.push(with_pass.then_some(person));
            let price = fare_of(miles, seat, at.div_euclid(DAY) as i32);
            fare.push(if with_pass { price * 80 / 100 } else { price });
            scanned.push(at);
            channel.append_value(if with_pass {
                d.pick(&["pass", "pass", "app"])
            } else {
                d.pick(&["app", "web", "kiosk", "gangway"])
            });
            class.append_value(["saloon", "lounge", "deck"][seat]);
        }
        batch(vec![
            ("id", Arc::new(Int64Array::from(id))),
            ("sailing_id", Arc::new(Int64Array::from(sailing))),
            ("route_id", Arc::new(Int32Array::from(route))),
            ("holder_id", Arc::new(Int32Array::from(holder))),
            ("fare", decimals(fare, 8, 2)),
            ("channel", Arc::new(channel.finish())),
            ("scanned_at", Arc::new(TimestampMicrosecondArray::from(scanned))),
            ("seat_class", Arc::new(class.finish())),
        ])
    }

    pub fn tariffs(&self) -> RecordBatch {
        let rows: Vec<(i32, usize, bool)> =
            (1..=120).flat_map(|r| (0..3).flat_map(move |c| [(r, c, false), (r, c, true)])).collect();
        let from = |new: bool| if new { TARIFF_CHANGE_DAY } else { FIRST_DAY };
        batch(vec![
            ("route_id", Arc::new(Int64Array::from_iter_values(rows.iter().map(|(r, ..)| i64::from(*r))))),
            ("seat_class", texts(rows.iter().map(|(_, c, _)| ["saloon", "lounge", "deck"][*c].to_owned()).collect())),
            ("valid_from", Arc::new(Date32Array::from_iter_values(rows.iter().map(|(_, _, new)| from(*new))))),
            (
                "fare",
                decimals(rows.iter().map(|(r, c, new)| fare_of(self.route_miles(*r), *c, from(*new))).collect(), 18, 2),
            ),
        ])
    }

    /// Typed in by hand over the years: severities in any case, lost minutes that say n/a, vessels that are missing.
    pub fn incidents(&self) -> RecordBatch {
        let rows = 0..self.incident_count();
        let dice = |i: u64, field: u64| self.dice(20 + field, i);
        batch(vec![
            ("id", Arc::new(Int64Array::from_iter_values(rows.clone().map(|i| i as i64 + 1)))),
            (
                "reported_on",
                Arc::new(Date32Array::from_iter_values(
                    rows.clone().map(|i| FIRST_DAY + dice(i, 0).below(1096) as i32),
                )),
            ),
            (
                "vessel_id",
                Arc::new(
                    rows.clone()
                        .map(|i| {
                            let mut d = dice(i, 1);
                            (d.below(12) > 0).then(|| d.skewed(60, 2) as i64 + 1)
                        })
                        .collect::<Int64Array>(),
                ),
            ),
            (
                "severity",
                texts(
                    rows.clone()
                        .map(|i| {
                            dice(i, 2).pick(&["minor", "minor", "Minor", "serious", "SERIOUS", "moderate"]).to_owned()
                        })
                        .collect(),
                ),
            ),
            (
                "minutes_lost",
                texts(
                    rows.clone()
                        .map(|i| {
                            let mut d = dice(i, 3);
                            if d.below(9) == 0 { "n/a".to_owned() } else { d.skewed(240, 2).to_string() }
                        })
                        .collect(),
                ),
            ),
            (
                "note",
                Arc::new(
                    rows.map(|i| {
                        let mut d = dice(i, 4);
                        match d.below(5) {
                            0 => None,
                            1 => Some("fog, speed reduced".to_owned()),
                            2 => Some("engine \"cough\" off the bar".to_owned()),
                            3 => Some(format!("late crew change at {} {}", d.pick(ISLES), d.pick(QUAYS))),
                            _ => Some("rope in the propeller".to_owned()),
                        }
                    })
                    .collect::<StringArray>(),
                ),
            ),
        ])
    }

    pub fn kiosk_sale_count(&self) -> u64 {
        self.scaled(100_000)
    }

    /// What the kiosks at the quays sell, in order of time: mostly in summer and at the busy ports.
    pub fn kiosk_sales(&self, rows: Range<u64>) -> RecordBatch {
        const ARTICLES: &[(&str, i128)] = &[
            ("day ticket", 1450),
            ("tide table", 350),
            ("Coffee", 280),
            ("coffee", 280),
            ("sandwich", 590),
            ("rain cape", 1200),
            ("postcard", 120),
            ("map of the estuary", 890),
        ];
        let total = self.kiosk_sale_count();
        let (mut port, mut at, mut day) = (Vec::new(), Vec::new(), Vec::new());
        let (mut quantity, mut price, mut card) = (Vec::new(), Vec::new(), Vec::new());
        let (mut article, mut note) = (StringBuilder::new(), StringBuilder::new());
        for i in rows.clone() {
            let mut d = self.dice(40, i);
            let sold_on = FIRST_DAY + (i * 1096 / total) as i32;
            day.push(sold_on);
            at.push(i64::from(sold_on) * DAY + (7 * 3600 + d.below(12 * 3600) as i64) * 1_000_000);
            port.push(d.skewed(40, 2) as i32 + 1);
            let (name, cents) = ARTICLES[d.skewed(ARTICLES.len() as u64, 1) as usize];
            article.append_value(name);
            quantity.push(d.skewed(6, 3) as i32 + 1);
            // Now and then a seller rounds.
            price.push(if d.below(25) == 0 { cents / 50 * 50 } else { cents });
            card.push(d.below(10) < 7);
            match d.below(40) {
                0 => note.append_value("returned"),
                1 => note.append_value("50% off, last of the day"),
                2 => note.append_value("for the crew "),
                _ => note.append_null(),
            }
        }
        batch(vec![
            ("id", Arc::new(Int64Array::from_iter_values(rows.map(|i| i as i64 + 1)))),
            ("port_id", Arc::new(Int32Array::from(port))),
            ("sold_at", Arc::new(TimestampMicrosecondArray::from(at))),
            ("sold_on", Arc::new(Date32Array::from(day))),
            ("article", Arc::new(article.finish())),
            ("quantity", Arc::new(Int32Array::from(quantity))),
            ("price", decimals(price, 6, 2)),
            ("by_card", Arc::new(BooleanArray::from(card))),
            ("note", Arc::new(note.finish())),
        ])
    }

    /// Readings of all buoys, one buoy after the other: waves as a row, tags as an array.
    pub fn readings(&self, rows: Range<u64>) -> RecordBatch {
        let per_buoy = self.reading_count() / BUOYS;
        let (mut buoy, mut taken_at, mut wind) = (Vec::new(), Vec::new(), Vec::new());
        let (mut height, mut period) = (Vec::new(), Vec::new());
        let mut tags = ListBuilder::new(StringBuilder::new());
        for i in rows {
            // What is left over goes to the last buoy.
            let of = (i / per_buoy).min(BUOYS - 1);
            let (at, h, p, w, words) = self.reading(of, i - of * per_buoy, per_buoy);
            buoy.push(of as i64 + 1);
            taken_at.push(at);
            height.push(h);
            period.push(p);
            wind.push(w);
            words.iter().for_each(|word| tags.values().append_value(word));
            tags.append(true);
        }
        let wave = StructArray::from(vec![
            (
                Arc::new(Field::new("height_m", DataType::Float64, true)),
                Arc::new(Float64Array::from(height)) as ArrayRef,
            ),
            (
                Arc::new(Field::new("period_s", DataType::Float64, true)),
                Arc::new(Float64Array::from(period)) as ArrayRef,
            ),
        ]);
        batch(vec![
            ("buoy", Arc::new(Int64Array::from(buoy))),
            ("taken_at", Arc::new(TimestampMicrosecondArray::from(taken_at))),
            ("wave", Arc::new(wave)),
            ("wind_kn", Arc::new(Float64Array::from(wind))),
            ("tags", Arc::new(tags.finish())),
        ])
    }

    /// A reading of a buoy: its number, the time, waves and wind, and tags.
    /// Reading `k` of a buoy: moment, wave height and period, wind, tags.
    pub fn reading(&self, buoy: u64, k: u64, per_buoy: u64) -> (i64, f64, f64, f64, Vec<&'static str>) {
        let at = i64::from(FIRST_DAY) * DAY
            + (k as f64 / per_buoy as f64 * 1096.0 * DAY as f64) as i64 / 1_000_000 * 1_000_000;
        let day = (at.div_euclid(DAY) - i64::from(FIRST_DAY)) as f64;
        let mut d = self.dice(30 + buoy, k);
        // Weather lasts for days and is rougher in winter.
        let mut weather = self.dice(29, (day / 3.0) as u64);
        let winter = 1.0 + 0.8 * (day / 365.25 * std::f64::consts::TAU).cos();
        let height = ((0.2 + weather.unit().powi(2) * 1.9 * winter + d.unit() * 0.3) * 100.0).round() / 100.0;
        let period = ((3.0 + height * 1.7 + d.unit()) * 10.0).round() / 10.0;
        let wind = ((4.0 + height * 9.0 + d.unit() * 4.0) * 10.0).round() / 10.0;
        let mut tags = Vec::new();
        if height < 0.5 {
            tags.push("calm");
        }
        if wind > 22.0 {
            tags.push("gale");
        }
        (at, height, period, wind, tags)
    }
}

/// Buoys in the estuary; each writes a file of its own.
/// Buoys of the estuary, each with as many readings.
pub const BUOYS: u64 = 12;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_seed_gives_the_same_rows_in_any_order() {
        let ferry = Ferry::new(0.01);
        let month = Month::all()[30];
        let whole = ferry.boardings(month, 0..500);
        let part = ferry.boardings(month, 200..300);
        assert_eq!(whole.slice(200, 100), part);
        assert_eq!(month.name(), "2025-07");
    }

    #[test]
    fn boardings_refer_to_sailings_that_exist() {
        let ferry = Ferry::new(0.01);
        let month = Month::all()[18];
        let sailings = ferry.sailings(month, 0..ferry.sailings_in(month));
        let ids = sailings.column(0).as_primitive::<arrow::datatypes::Int64Type>();
        let (low, high) = (ids.value(0), ids.value(ids.len() - 1));
        let boardings = ferry.boardings(month, 0..ferry.boardings_in(month));
        assert!(
            boardings
                .column(1)
                .as_primitive::<arrow::datatypes::Int64Type>()
                .values()
                .iter()
                .all(|id| (low..=high).contains(id))
        );
    }
}
