//! Sorting of rows by their encoded keys (Arrow's row format, whose byte order is the order of the rows). The first sixteen
//! bytes of each key are compared as one number, which is nearly always enough; the rest only breaks ties.

use std::cmp::Ordering;

use arrow::row::Rows;

/// Bytes of memory that sorting takes for each row, beside the encoded keys.
pub const BYTES_PER_ROW: usize = 32 + 4;

const PREFIX: usize = 16;

/// Places of the rows in order, at most `fetch` of them. Equal rows keep their order.
pub fn sorted_places(rows: &Rows, fetch: Option<usize>) -> Vec<u32> {
    let (mut shortest, mut longest) = (usize::MAX, 0);
    let mut keys: Vec<(u128, u32)> = Vec::with_capacity(rows.num_rows());
    for (place, row) in rows.iter().enumerate() {
        let bytes: &[u8] = row.as_ref();
        (shortest, longest) = (shortest.min(bytes.len()), longest.max(bytes.len()));
        let mut prefix = [0; PREFIX];
        let known = bytes.len().min(PREFIX);
        prefix[..known].copy_from_slice(&bytes[..known]);
        keys.push((u128::from_be_bytes(prefix), place as u32));
    }
    if shortest == longest && longest <= PREFIX {
        sort(&mut keys, fetch, Ord::cmp);
    } else {
        sort(&mut keys, fetch, |a, b| {
            a.0.cmp(&b.0).then_with(|| rows.row(a.1 as usize).cmp(&rows.row(b.1 as usize))).then_with(|| a.1.cmp(&b.1))
        });
    }
    keys.into_iter().map(|(_, place)| place).collect()
}

fn sort(
    keys: &mut Vec<(u128, u32)>,
    fetch: Option<usize>,
    compare: impl Fn(&(u128, u32), &(u128, u32)) -> Ordering + Copy,
) {
    match fetch {
        Some(0) => keys.clear(),
        Some(count) if count < keys.len() => {
            keys.select_nth_unstable_by(count - 1, compare);
            keys.truncate(count);
        }
        _ => {}
    }
    keys.sort_unstable_by(compare);
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;

    use arrow::array::{ArrayRef, Int64Array, StringViewArray};
    use arrow::row::{RowConverter, SortField};

    fn rows(column: &ArrayRef) -> Rows {
        let fields = vec![SortField::new(column.data_type().clone())];
        RowConverter::new(fields).unwrap().convert_columns(std::slice::from_ref(column)).unwrap()
    }

    #[test]
    fn short_and_long_keys_are_sorted_with_ties_in_place() {
        let numbers: ArrayRef = Arc::new(Int64Array::from(vec![Some(3), None, Some(-1), Some(3), Some(i64::MIN)]));
        assert_eq!(sorted_places(&rows(&numbers), None), [1, 4, 2, 0, 3]);
        assert_eq!(sorted_places(&rows(&numbers), Some(2)), [1, 4]);
        assert!(sorted_places(&rows(&numbers), Some(0)).is_empty());
        let texts =
            ["the same beginning, b", "the same beginning, a", "", "the same beginning", "the same beginning, a"];
        let texts: ArrayRef = Arc::new(StringViewArray::from(texts.to_vec()));
        assert_eq!(sorted_places(&rows(&texts), None), [2, 3, 1, 4, 0]);
        assert_eq!(sorted_places(&rows(&texts), Some(3)), [2, 3, 1]);
    }
}
