//! What a join learns of its build side's keys for the scans of its probe side: how many there are, their range, all of them
//! when they are few, and a test that says no only where there is no partner. Whole numbers and days close together are
//! tested by a bit each; anything else by a Bloom filter of two bits in one word (Putze, Sanders and Singler,
//! "Cache-, Hash- and Space-Efficient Bloom Filters", 2007).

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};

use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, RecordBatch};
use arrow::compute::{SortOptions, cast, filter, is_not_null, sort, sort_to_indices};
use arrow::datatypes::{DataType, Int64Type};
use cobble_plan::key_pass::{KeyPass, LearnedKeys, MOST_LISTED};
use cobble_plan::scan::BatchPredicate;
use cobble_types::{Result, Value};

use crate::expression::Compiled;
use crate::groups::GroupIndex;
use cobble_functions::keys::KeyEncoder;
use cobble_functions::operators::compare::comparable;

/// Set when the build side is complete; stays empty when nothing useful was learned.
pub type KeySlot = Arc<OnceLock<LearnedKeys>>;

/// Learns one key for one gate.
pub struct Learner {
    pub pass: KeyPass,
    pub slot: KeySlot,
}

/// Distinct keys are counted up to this many rows.
const MOST_COUNTED: usize = 1 << 18;
/// Bits of the widest range that gets a bit for each value: 4 MiB.
const WIDEST_BITS: i64 = 1 << 25;
/// A range up to this one gets its bits however few its keys are: 1 MiB.
const CHEAP_BITS: i64 = 1 << 23;
/// Bloom filters have this many bits for each key, rounded up to a power of two.
const BITS_PER_KEY: usize = 12;
/// After so many rows a test that lets most of them through is given up.
const TRIED_ROWS: u64 = 65_536;

impl Learner {
    pub fn learn(&self, keys: &[Compiled], build: &RecordBatch) -> Result<()> {
        let mut values = keys[self.pass.key].array(build)?;
        if values.null_count() > 0 {
            values = filter(&values, &is_not_null(&values)?)?;
        }
        let (mut count, mut listed) = (values.len(), None);
        if values.len() <= MOST_COUNTED {
            let encoder = Arc::new(KeyEncoder::new(vec![values.data_type().clone()])?);
            let mut index = GroupIndex::new(encoder);
            index.assign(&[comparable(&values)], values.len(), &mut Vec::new())?;
            count = index.len();
            if count <= MOST_LISTED && is_plain(values.data_type()) {
                let sorted = sort(&index.keys()?[0], None)?;
                listed = (0..sorted.len()).map(|row| Value::from_array(sorted.as_ref(), row)).collect();
            }
        }
        let test = Arc::new(KeyTest::new(&values)?);
        let range = if is_plain(values.data_type()) { range(&values)? } else { None };
        let learned = LearnedKeys { pass: self.pass.clone(), count, range, listed, test };
        // A second build of the same join would be an error of its own.
        let _ = self.slot.set(learned);
        Ok(())
    }
}

/// Types whose values compare alike everywhere.
fn is_plain(data_type: &DataType) -> bool {
    data_type.is_integer()
        || matches!(
            data_type,
            DataType::Date32 | DataType::Timestamp(..) | DataType::Decimal128(..) | DataType::Utf8View
        )
}

fn range(values: &ArrayRef) -> Result<Option<(Value, Value)>> {
    let end = |descending| {
        let options = SortOptions { descending, nulls_first: false };
        let place = sort_to_indices(values, Some(options), Some(1))?;
        Ok::<_, cobble_types::Error>(place.iter().next().flatten().and_then(|i| Value::from_array(values, i as usize)))
    };
    Ok(end(false)?.zip(end(true)?))
}

struct KeyTest {
    encoder: KeyEncoder,
    form: Form,
    tested: AtomicU64,
    passed: AtomicU64,
    given_up: AtomicBool,
}

enum Form {
    Bits { least: i64, words: Vec<u64> },
    Bloom { words: Vec<u64> },
}

/// Whole numbers and days as 64-bit numbers.
fn as_numbers(values: &ArrayRef) -> Result<Option<ArrayRef>> {
    Ok(match values.data_type() {
        DataType::Int64 => Some(values.clone()),
        DataType::Int16 | DataType::Int32 => Some(cast(values, &DataType::Int64)?),
        DataType::Date32 => Some(cast(&cast(values, &DataType::Int32)?, &DataType::Int64)?),
        _ => None,
    })
}

/// The word of a hash, and its two bits in it.
fn bloom_place(hash: u64, words: usize) -> (usize, u64) {
    ((hash >> 16) as usize & (words - 1), (1 << (hash & 63)) | (1 << ((hash >> 6) & 63)))
}

impl KeyTest {
    fn new(values: &ArrayRef) -> Result<KeyTest> {
        let encoder = KeyEncoder::new(vec![values.data_type().clone()])?;
        let mut form = None;
        if let Some(numbers) = as_numbers(values)? {
            let numbers = numbers.as_primitive::<Int64Type>();
            let (least, greatest) = (arrow::compute::min(numbers), arrow::compute::max(numbers));
            if let (Some(least), Some(greatest)) = (least, greatest)
                && let Some(width) = greatest.checked_sub(least).filter(|w| *w < WIDEST_BITS)
                && width <= CHEAP_BITS.max(values.len() as i64 * 64)
            {
                let mut words = vec![0u64; (width / 64 + 1) as usize];
                for value in numbers.values() {
                    let bit = (value - least) as usize;
                    words[bit / 64] |= 1 << (bit % 64);
                }
                form = Some(Form::Bits { least, words });
            }
        }
        let form = match form {
            Some(form) => form,
            None => {
                let encoded = encoder.encode(&[comparable(values)], values.len())?;
                let mut words = vec![0u64; (values.len() * BITS_PER_KEY / 64 + 1).next_power_of_two()];
                let count = words.len();
                for row in 0..values.len() {
                    let (word, bits) = bloom_place(encoded.hash(row), count);
                    words[word] |= bits;
                }
                Form::Bloom { words }
            }
        };
        let (tested, passed) = (AtomicU64::new(0), AtomicU64::new(0));
        Ok(KeyTest { encoder, form, tested, passed, given_up: AtomicBool::new(false) })
    }
}

impl BatchPredicate for KeyTest {
    fn evaluate(&self, batch: &RecordBatch) -> Result<BooleanArray> {
        let values = batch.column(0);
        if self.given_up.load(Ordering::Relaxed) {
            return Ok(BooleanArray::new(arrow::buffer::BooleanBuffer::new_set(values.len()), None));
        }
        let found: BooleanArray = match &self.form {
            Form::Bits { least, words } => {
                let Some(numbers) = as_numbers(values)? else { return Ok(is_not_null(values)?) };
                let numbers = numbers.as_primitive::<Int64Type>();
                let has = |value: i64| {
                    let bit = value.wrapping_sub(*least) as u64;
                    words.get((bit / 64) as usize).is_some_and(|word| word >> (bit % 64) & 1 == 1)
                };
                let bits = numbers.values().iter().map(|value| has(*value)).collect();
                BooleanArray::new(bits, None)
            }
            Form::Bloom { words } => {
                let encoded = self.encoder.encode(&[comparable(values)], values.len())?;
                let has = |row| {
                    let (word, bits) = bloom_place(encoded.hash(row), words.len());
                    words[word] & bits == bits
                };
                BooleanArray::new((0..values.len()).map(has).collect(), None)
            }
        };
        let found = match values.nulls() {
            Some(nulls) => BooleanArray::new(found.values() & nulls.inner(), None),
            None => found,
        };
        let tested = self.tested.fetch_add(values.len() as u64, Ordering::Relaxed) + values.len() as u64;
        let passed = found.true_count() as u64;
        let passed = self.passed.fetch_add(passed, Ordering::Relaxed) + passed;
        if tested >= TRIED_ROWS && passed * 5 > tested * 4 {
            self.given_up.store(true, Ordering::Relaxed);
        }
        Ok(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Int32Array, StringViewArray};
    use arrow::datatypes::{Field, Schema};

    fn batch(values: ArrayRef) -> RecordBatch {
        let field = Field::new("key", values.data_type().clone(), true);
        RecordBatch::try_new(Arc::new(Schema::new(vec![field])), vec![values]).unwrap()
    }

    #[test]
    fn numbers_close_together_are_tested_exactly_and_nulls_never_pass() {
        let keys: ArrayRef = Arc::new(Int32Array::from(vec![-3, 7, 1000]));
        let test = KeyTest::new(&keys).unwrap();
        let asked: ArrayRef = Arc::new(Int32Array::from(vec![
            Some(-4),
            Some(-3),
            None,
            Some(7),
            Some(i32::MAX),
            Some(1000),
            Some(i32::MIN),
        ]));
        let found = test.evaluate(&batch(asked)).unwrap();
        assert_eq!(found, BooleanArray::from(vec![false, true, false, true, false, true, false]));
    }

    #[test]
    fn a_filter_of_texts_passes_every_key_and_few_others() {
        let keys: ArrayRef = Arc::new((0..5000).map(|i| Some(format!("vessel {i}"))).collect::<StringViewArray>());
        let test = KeyTest::new(&keys).unwrap();
        assert_eq!(test.evaluate(&batch(keys)).unwrap().true_count(), 5000);
        let test = KeyTest::new(
            &(Arc::new((0..5000).map(|i| Some(format!("vessel {i}"))).collect::<StringViewArray>()) as ArrayRef),
        )
        .unwrap();
        let others: ArrayRef = Arc::new((0..5000).map(|i| Some(format!("port {i}"))).collect::<StringViewArray>());
        let wrong = test.evaluate(&batch(others)).unwrap().true_count();
        assert!(wrong < 500, "{wrong} of 5000 passed without being keys");
    }

    #[test]
    fn a_test_that_lets_most_rows_through_is_given_up() {
        let keys: ArrayRef = Arc::new(Int32Array::from_iter_values(0..100));
        let test = KeyTest::new(&keys).unwrap();
        let all: ArrayRef = Arc::new(Int32Array::from_iter_values((0..70_000).map(|i| i % 100)));
        assert_eq!(test.evaluate(&batch(all)).unwrap().true_count(), 70_000);
        let other: ArrayRef = Arc::new(Int32Array::from(vec![500]));
        assert!(test.evaluate(&batch(other)).unwrap().value(0), "no longer tested");
    }
}
