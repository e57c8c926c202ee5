//! Portions of a table or a query by ranges of a column of whole numbers, which several connections read at the same time in one
//! state of the data.

use cobble_types::{Code, Error, Result, SqlType};

use super::Database;

/// Conditions on the column, exactly one of them true for each row: ranges of about the same width between its least and its
/// greatest value. The first and the last one are open, and the last one has the nulls where there may be some.
pub fn ranges(column: &str, (least, greatest): (i64, i64), portions: u32, nullable: bool) -> Vec<String> {
    let portions = i128::from(portions);
    let (least, width) = (i128::from(least), i128::from(greatest) - i128::from(least) + 1);
    let mut bounds: Vec<i128> = (1..portions).map(|n| least + width * n / portions).collect();
    bounds.retain(|bound| *bound > least);
    bounds.dedup();
    if bounds.is_empty() {
        return vec![];
    }
    let range = |place: usize| {
        let from = place.checked_sub(1).map(|before| format!("{column} >= {}", bounds[before]));
        match (from, bounds.get(place)) {
            (Some(from), Some(to)) => format!("{from} AND {column} < {to}"),
            (None, Some(to)) => format!("{column} < {to}"),
            (Some(from), None) if nullable => format!("{from} OR {column} IS NULL"),
            (from, None) => from.unwrap_or_else(|| format!("{column} IS NULL OR {column} IS NOT NULL")),
        }
    };
    (0..=bounds.len()).map(range).collect()
}

/// Fewer rows than these are not worth a portion of their own, and more portions than this are of no use.
const LEAST_ROWS: f64 = 50_000.0;
const MOST_PORTIONS: u32 = 16;

/// Portions that a table of so many rows is read in, if it is in any.
pub fn portions_of(rows: f64) -> Option<u32> {
    let portions = (rows / LEAST_ROWS).floor().clamp(0.0, f64::from(MOST_PORTIONS)) as u32;
    (portions > 1).then_some(portions)
}

/// The portions of a query whose column is of this type. `name` is the column's, `from` the query as a table `t1`.
pub async fn of_query(
    database: &dyn Database,
    (name, sql_type): (&str, &SqlType),
    from: &str,
    portions: u32,
) -> Result<Vec<String>> {
    let connection = database.connection();
    if !sql_type.is_integer() {
        let what = format!("connection {connection}: {name} is {sql_type}, and no query is split by it");
        return Err(Error::new(Code::Unsupported, what).hint("split it by a column of whole numbers"));
    }
    database.shares_snapshots()?;
    let column = format!("t1.{}", database.dialect().quoted(name));
    let found = database.whole_numbers(&format!("SELECT min({column}), max({column}) FROM {from}")).await?;
    let [Some(least), Some(greatest)] = found[..] else { return Ok(vec![]) };
    Ok(ranges(&column, (least, greatest), portions, true))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The ranges that contain a number.
    fn holding(ranges: &[String], number: i64) -> usize {
        let holds = |range: &&String| {
            range.split(" AND ").all(|part| {
                match part.trim_end_matches(" OR n IS NULL").split(' ').collect::<Vec<_>>()[..] {
                    ["n", ">=", bound] => i128::from(number) >= bound.parse().unwrap(),
                    ["n", "<", bound] => i128::from(number) < bound.parse().unwrap(),
                    _ => panic!("{range}"),
                }
            })
        };
        ranges.iter().filter(holds).count()
    }

    #[test]
    fn each_number_is_in_one_range() {
        for (least, greatest, portions, made) in
            [(1, 100, 4, 4), (-7, 3, 3, 3), (i64::MIN, i64::MAX, 16, 16), (5, 6, 8, 2)]
        {
            let ranges = ranges("n", (least, greatest), portions, true);
            assert_eq!(ranges.len(), made, "{ranges:?}");
            for number in [i64::MIN, least, least / 2 + greatest / 2, greatest, i64::MAX, 0] {
                assert_eq!(holding(&ranges, number), 1, "{number} {ranges:?}");
            }
        }
        assert!(ranges("n", (5, 5), 8, true).is_empty());
        assert!(ranges("n", (1, 9), 2, true)[1].ends_with("OR n IS NULL"));
        assert_eq!((portions_of(99_000.0), portions_of(200_000.0), portions_of(1e9)), (None, Some(4), Some(16)));
    }
}
