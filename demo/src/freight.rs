//! The freight desk: consignments that shippers send, what is in them, and who stocks it. Wide tables with long texts, keys of two columns,
//! gaps in numbers, skew, and columns that go together.

use std::ops::Range;
use std::sync::Arc;

use arrow::array::{ArrayRef, AsArray, Date32Array, Int32Array, Int64Array, RecordBatch, StringBuilder};

use crate::rows::{Dice, FIRST_DAY, Ferry, TARIFF_CHANGE_DAY, batch, decimals, texts};

const TRADES: &[&str] = &["fish", "timber", "salt", "post", "household"];
const URGENCY: &[&str] = &["1-at once", "2-today", "3-this week", "4-any time", "5-unsaid"];
const HANDLING: &[&str] = &["hand over", "keep dry", "leave at quay", "none"];
const CARRIAGE: &[&str] = &["deck", "hold", "van", "crate", "pallet", "post bag", "tow"];
const BOXES: &[&str] = &["small box", "large box", "small sack", "large drum", "jar", "wrap", "tin", "bale"];
const MAKES: &[&str] = &["oak", "steel", "reed", "brass", "pine"];
const FORMS: &[&str] = &["stout", "plain", "fine", "coarse", "light", "double"];
const THINGS: &[&str] = &["rope", "net", "crate", "lamp", "float"];
const WORDS: &[&str] = &[
    "amber", "bay", "coral", "dune", "ebb", "fern", "gorse", "haze", "iron", "jade", "kelp", "lime", "moss", "navy",
    "ochre", "pearl", "quartz", "rust", "sand", "teal", "umber", "violet", "wheat", "yew",
];
const PHRASES: &[&str] = &[
    "waits at the quay",
    "came late with the tide",
    "was weighed twice",
    "goes on by van",
    "asks for a receipt",
    "rests under canvas",
    "leans on the rail",
    "was counted again",
    "sails before noon",
    "needs two hands",
];

fn note(d: &mut Dice, into: &mut StringBuilder) {
    let parts = 2 + d.below(3);
    let said: Vec<String> =
        (0..parts).map(|_| format!("the {} {} {}", d.pick(WORDS), d.pick(THINGS), d.pick(PHRASES))).collect();
    into.append_value(said.join("; "));
}

fn numbers(values: impl Iterator<Item = i64>) -> ArrayRef {
    Arc::new(Int64Array::from_iter_values(values))
}

fn small(values: impl Iterator<Item = i32>) -> ArrayRef {
    Arc::new(Int32Array::from_iter_values(values))
}

/// Each depot keeps many goods, each of the goods lies in four depots.
const DEPOTS_OF_GOODS: u64 = 4;

/// Numbers of consignments have gaps: of 32 the first eight are given.
fn consignment_number(i: u64) -> i64 {
    (i / 8 * 32 + i % 8 + 1) as i64
}

impl Ferry {
    pub fn shipper_count(&self) -> u64 {
        self.scaled(100_000)
    }

    pub fn depot_count(&self) -> u64 {
        self.scaled(8_000)
    }

    pub fn goods_count(&self) -> u64 {
        self.scaled(150_000)
    }

    pub fn rate_count(&self) -> u64 {
        self.goods_count() * DEPOTS_OF_GOODS
    }

    pub fn consignment_count(&self) -> u64 {
        self.scaled(1_200_000)
    }

    pub fn islands(&self) -> RecordBatch {
        let ports = self.ports();
        let names = ports.column(2).as_string::<i32>();
        batch(vec![
            ("id", small(1..11)),
            ("name", texts((0..10).map(|i| names.value(i).to_owned()).collect())),
            ("bank", texts((0..10).map(|i| ["north", "south", "outer"][i % 3].to_owned()).collect())),
        ])
    }

    pub fn shippers(&self, rows: Range<u64>) -> RecordBatch {
        let (mut port, mut credit) = (Vec::new(), Vec::new());
        let (mut name, mut trade, mut phone, mut notes) =
            (StringBuilder::new(), StringBuilder::new(), StringBuilder::new(), StringBuilder::new());
        for i in rows.clone() {
            let mut d = self.dice(70, i);
            let home = d.skewed(40, 2) as i32 + 1;
            port.push(home);
            name.append_value(format!("Shipper {:09}", i + 1));
            // Each port has a trade of its own.
            trade.append_value(if d.below(2) == 0 { TRADES[home as usize % 5] } else { d.pick(TRADES) });
            credit.push(i128::from(d.below(1_100_000)) - 100_000);
            phone.append_value(format!("{}-555-{:03}-{:04}", 10 + home, d.below(1000), d.below(10_000)));
            note(&mut d, &mut notes);
        }
        batch(vec![
            ("id", numbers(rows.map(|i| i as i64 + 1))),
            ("name", Arc::new(name.finish())),
            ("port_id", small(port.into_iter())),
            ("trade", Arc::new(trade.finish())),
            ("credit", decimals(credit, 12, 2)),
            ("phone", Arc::new(phone.finish())),
            ("note", Arc::new(notes.finish())),
        ])
    }

    pub fn depots(&self, rows: Range<u64>) -> RecordBatch {
        let (mut port, mut balance) = (Vec::new(), Vec::new());
        let (mut name, mut notes) = (StringBuilder::new(), StringBuilder::new());
        for i in rows.clone() {
            let mut d = self.dice(71, i);
            port.push(d.skewed(40, 2) as i32 + 1);
            name.append_value(format!("Depot {:06}", i + 1));
            balance.push(i128::from(d.below(1_100_000)) - 100_000);
            match d.below(200) {
                0 => notes.append_value("shippers of this quay speak of complaints"),
                _ => note(&mut d, &mut notes),
            }
        }
        batch(vec![
            ("id", numbers(rows.map(|i| i as i64 + 1))),
            ("name", Arc::new(name.finish())),
            ("port_id", small(port.into_iter())),
            ("balance", decimals(balance, 12, 2)),
            ("note", Arc::new(notes.finish())),
        ])
    }

    fn price_of_goods(goods: u64) -> i128 {
        90_000 + i128::from(goods / 10 % 20_001) + 100 * i128::from(goods % 1000)
    }

    pub fn goods(&self, rows: Range<u64>) -> RecordBatch {
        let (mut size, mut price) = (Vec::new(), Vec::new());
        let (mut name, mut class, mut brand, mut packing) =
            (StringBuilder::new(), StringBuilder::new(), StringBuilder::new(), StringBuilder::new());
        for i in rows.clone() {
            let mut d = self.dice(72, i);
            let words: Vec<&str> = (0..5).map(|_| d.pick(WORDS)).collect();
            name.append_value(words.join(" "));
            let maker = d.below(5);
            class.append_value(format!("{} {} {}", d.pick(FORMS), d.pick(MAKES), d.pick(THINGS)));
            // A brand belongs to a maker.
            brand.append_value(format!("Mark {}{}", maker + 1, d.below(5) + 1));
            size.push(d.below(50) as i32 + 1);
            packing.append_value(format!("{} {}", d.pick(MAKES), d.pick(BOXES)));
            price.push(Self::price_of_goods(i + 1));
        }
        batch(vec![
            ("id", numbers(rows.map(|i| i as i64 + 1))),
            ("name", Arc::new(name.finish())),
            ("class", Arc::new(class.finish())),
            ("brand", Arc::new(brand.finish())),
            ("size", small(size.into_iter())),
            ("packing", Arc::new(packing.finish())),
            ("price", decimals(price, 12, 2)),
        ])
    }

    /// The depot that has the goods, of its four.
    fn depot_of(&self, goods: u64, which: u64) -> i64 {
        let depots = self.depot_count();
        ((goods * 7 + which * (depots / DEPOTS_OF_GOODS)) % depots) as i64 + 1
    }

    /// What goods cost at a depot; the two are the key.
    pub fn rates(&self, rows: Range<u64>) -> RecordBatch {
        let (mut stock, mut cost, mut notes) = (Vec::new(), Vec::new(), StringBuilder::new());
        for i in rows.clone() {
            let mut d = self.dice(73, i);
            stock.push(d.below(10_000) as i32);
            cost.push(100 + i128::from(d.below(100_000)));
            note(&mut d, &mut notes);
        }
        batch(vec![
            ("goods_id", numbers(rows.clone().map(|i| (i / DEPOTS_OF_GOODS) as i64 + 1))),
            ("depot_id", numbers(rows.map(|i| self.depot_of(i / DEPOTS_OF_GOODS, i % DEPOTS_OF_GOODS)))),
            ("stock", small(stock.into_iter())),
            ("cost", decimals(cost, 12, 2)),
            ("note", Arc::new(notes.finish())),
        ])
    }

    /// Consignments, and in the second batch the lines of each.
    pub fn consignments(&self, rows: Range<u64>) -> (RecordBatch, RecordBatch) {
        let (mut heads, mut lines) = (Heads::default(), Lines::default());
        for i in rows {
            self.consignment(i, &mut heads, &mut lines);
        }
        (heads.finish(), lines.finish())
    }

    fn consignment(&self, i: u64, heads: &mut Heads, lines: &mut Lines) {
        let mut d = self.dice(74, i);
        let number = consignment_number(i);
        // Every third shipper sends nothing, and a few send most.
        let shipper = d.skewed(self.shipper_count() / 3, 2) * 3 + d.below(2) + 1;
        let booked = FIRST_DAY + d.below(1096 - 130) as i32;
        let (mut total, mut open, count) = (0, 0, 1 + d.below(7));
        for line in 0..count {
            let goods = d.skewed(self.goods_count(), 2) + 1;
            let depot = self.depot_of(goods - 1, d.below(DEPOTS_OF_GOODS));
            let quantity = i128::from(d.below(50) + 1);
            let (rebate, duty) = (i128::from(d.below(11)), i128::from(d.below(9)));
            let amount = quantity * Self::price_of_goods(goods);
            let shipped = booked + 1 + d.below(121) as i32;
            let promised = booked + 30 + d.below(61) as i32;
            let received = shipped + 1 + d.below(30) as i32;
            // What came before the tariff changed is settled.
            let is_settled = received <= TARIFF_CHANGE_DAY;
            let returned = if is_settled { d.pick(&["back", "lost"]) } else { "no" };
            let is_open = shipped > TARIFF_CHANGE_DAY;
            open += u64::from(is_open);
            total += amount * (100 - rebate) * (100 + duty) / 10_000;
            lines.consignment.push(number);
            lines.line.push(line as i32 + 1);
            lines.goods.push(goods as i64);
            lines.depot.push(depot);
            lines.quantity.push(quantity * 100);
            lines.amount.push(amount);
            lines.rebate.push(rebate);
            lines.duty.push(duty);
            lines.returned.append_value(returned);
            lines.state.append_value(if is_open { "O" } else { "F" });
            lines.shipped.push(shipped);
            lines.promised.push(promised);
            lines.received.push(received);
            lines.handling.append_value(d.pick(HANDLING));
            // A depot sends most of its goods in one way.
            let own = CARRIAGE[depot as usize % CARRIAGE.len()];
            lines.carriage.append_value(if d.below(2) == 0 { own } else { d.pick(CARRIAGE) });
            note(&mut d, &mut lines.note);
        }
        heads.id.push(number);
        heads.shipper.push(shipper as i64);
        heads.state.append_value(match open {
            0 => "F",
            all if all == count => "O",
            _ => "P",
        });
        heads.total.push(total);
        heads.booked.push(booked);
        heads.urgency.append_value(d.pick(URGENCY));
        heads.clerk.append_value(format!("Clerk {:06}", d.below(self.scaled(1_000)) + 1));
        match d.below(100) {
            0 => heads.note.append_value("special care, then many requests of the shipper"),
            _ => note(&mut d, &mut heads.note),
        }
    }
}

#[derive(Default)]
struct Heads {
    id: Vec<i64>,
    shipper: Vec<i64>,
    state: StringBuilder,
    total: Vec<i128>,
    booked: Vec<i32>,
    urgency: StringBuilder,
    clerk: StringBuilder,
    note: StringBuilder,
}

impl Heads {
    fn finish(mut self) -> RecordBatch {
        batch(vec![
            ("id", Arc::new(Int64Array::from(self.id))),
            ("shipper_id", Arc::new(Int64Array::from(self.shipper))),
            ("state", Arc::new(self.state.finish())),
            ("total", decimals(self.total, 12, 2)),
            ("booked_on", Arc::new(Date32Array::from(self.booked))),
            ("urgency", Arc::new(self.urgency.finish())),
            ("clerk", Arc::new(self.clerk.finish())),
            ("note", Arc::new(self.note.finish())),
        ])
    }
}

#[derive(Default)]
struct Lines {
    consignment: Vec<i64>,
    line: Vec<i32>,
    goods: Vec<i64>,
    depot: Vec<i64>,
    quantity: Vec<i128>,
    amount: Vec<i128>,
    rebate: Vec<i128>,
    duty: Vec<i128>,
    returned: StringBuilder,
    state: StringBuilder,
    shipped: Vec<i32>,
    promised: Vec<i32>,
    received: Vec<i32>,
    handling: StringBuilder,
    carriage: StringBuilder,
    note: StringBuilder,
}

impl Lines {
    fn finish(mut self) -> RecordBatch {
        let money = |values: Vec<i128>| decimals(values, 12, 2);
        batch(vec![
            ("consignment_id", Arc::new(Int64Array::from(self.consignment))),
            ("line", Arc::new(Int32Array::from(self.line))),
            ("goods_id", Arc::new(Int64Array::from(self.goods))),
            ("depot_id", Arc::new(Int64Array::from(self.depot))),
            ("quantity", money(self.quantity)),
            ("amount", money(self.amount)),
            ("rebate", money(self.rebate)),
            ("duty", money(self.duty)),
            ("returned", Arc::new(self.returned.finish())),
            ("state", Arc::new(self.state.finish())),
            ("shipped_on", Arc::new(Date32Array::from(self.shipped))),
            ("promised_on", Arc::new(Date32Array::from(self.promised))),
            ("received_on", Arc::new(Date32Array::from(self.received))),
            ("handling", Arc::new(self.handling.finish())),
            ("carriage", Arc::new(self.carriage.finish())),
            ("note", Arc::new(self.note.finish())),
        ])
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use arrow::datatypes::Int64Type;

    use super::*;

    fn pairs(batch: &RecordBatch, columns: [usize; 2]) -> Vec<(i64, i64)> {
        let [a, b] = columns.map(|place| batch.column(place).as_primitive::<Int64Type>());
        a.values().iter().copied().zip(b.values().iter().copied()).collect()
    }

    #[test]
    fn lines_are_of_goods_that_their_depot_keeps() {
        let ferry = Ferry::new(0.01);
        let rates = pairs(&ferry.rates(0..ferry.rate_count()), [0, 1]);
        let known: HashSet<(i64, i64)> = rates.iter().copied().collect();
        assert_eq!(known.len(), rates.len(), "the two are a key");
        let (heads, lines) = ferry.consignments(0..ferry.consignment_count());
        assert!(pairs(&lines, [2, 3]).iter().all(|pair| known.contains(pair)));
        let ids: HashSet<i64> = pairs(&heads, [0, 1]).into_iter().map(|(id, _)| id).collect();
        assert_eq!(ids.len(), heads.num_rows());
        assert!(pairs(&lines, [0, 2]).iter().all(|(id, _)| ids.contains(id)));
    }
}
