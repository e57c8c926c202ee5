//! Forms of the language that the parser does not read. Each is found among the tokens of a statement and written in a form that the
//! parser does read, with names that begin with a control character, so that nobody can write them; the binder knows what they stand
//! for. One file for each form.

pub(crate) mod exclude;
mod explicit_table;
pub(crate) mod group_by_distinct;
pub(crate) mod join_alias;
pub(crate) mod rows_from;
pub(crate) mod search_cycle;
mod unicode_escape;
pub(crate) mod version;

use cobble_types::Result;
use sqlparser::keywords::Keyword;
use sqlparser::tokenizer::{Token, TokenWithSpan, Word};

/// The tokens of a statement as the parser reads them.
///
/// # Errors
/// Where a form begins and does not go on as it must.
pub(crate) fn reworded(tokens: &[TokenWithSpan]) -> Result<Vec<TokenWithSpan>> {
    let tokens = version::marked(unicode_escape::decoded(exclude::marked(tokens))?);
    let tokens = join_alias::marked(group_by_distinct::marked(rows_from::marked(tokens)));
    Ok(explicit_table::spelled_out(search_cycle::marked(tokens)?))
}

/// A quoted name.
fn name(value: impl Into<String>) -> Token {
    Token::Word(Word { value: value.into(), quote_style: Some('"'), keyword: Keyword::NoKeyword })
}

#[cfg(test)]
mod tests {
    use crate::parse_statements;

    /// The statement as the parser has read it, without the control characters of the names.
    fn read(sql: &str) -> String {
        match &parse_statements(sql).unwrap_or_else(|e| panic!("{sql}: {e}"))[0].statement {
            crate::Statement::Query(query) => query.to_string().replace('\u{1}', ""),
            other => panic!("{sql}: {other:?}"),
        }
    }

    #[test]
    fn each_form_becomes_one_that_is_read() {
        for (sql, wanted) in [
            ("TABLE trips", "SELECT * FROM trips"),
            ("SELECT U&'d!0061t' UESCAPE '!'", "SELECT 'dat'"),
            ("SELECT * FROM t FOR VERSION AS OF 12 x", "SELECT * FROM t x FOR SYSTEM_TIME AS OF \"version\"(12)"),
            (
                "SELECT 1 FROM a.t for version as of 'spring' AS x, u FOR SYSTEM_TIME AS OF now() - interval '1 day' WHERE true",
                "SELECT 1 FROM a.t AS x FOR SYSTEM_TIME AS OF \"version\"('spring'), u FOR SYSTEM_TIME AS OF now() - INTERVAL '1 day' WHERE true",
            ),
            ("SELECT 1 FROM t At JOIN u changes ON true", "SELECT 1 FROM t \"at\" JOIN u \"changes\" ON true"),
            ("SELECT n FROM ROWS FROM (f(1), g(2)) AS r(n)", "SELECT n FROM \"rows_from\"(f(1), g(2)) AS r (n)"),
            ("SELECT * FROM a JOIN b USING (x, y) AS J", "SELECT * FROM a JOIN b USING(x, y, \"as j\")"),
            ("SELECT x FROM t GROUP BY DISTINCT ROLLUP (x), y", "SELECT x FROM t GROUP BY \"distinct\", ROLLUP (x), y"),
            ("SELECT x FROM t GROUP BY ALL x, y", "SELECT x FROM t GROUP BY x, y"),
            (
                "WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n FROM t) SEARCH DEPTH FIRST BY n SET o SELECT 1",
                "WITH RECURSIVE t (n, \"SEARCH DEPTH FIRST BY n SET o\") AS (SELECT 1 UNION ALL SELECT n, t.\"o\" FROM t) SELECT 1",
            ),
            (
                "WITH RECURSIVE t AS NOT MATERIALIZED (SELECT 1 AS n UNION ALL SELECT n FROM t x) CYCLE n SET c TO 1 DEFAULT 0 USING p SELECT 1",
                "WITH RECURSIVE t (\"CYCLE n SET c TO 1 DEFAULT 0 USING p\") AS NOT MATERIALIZED (SELECT 1 AS n UNION ALL SELECT n, x.\"c\", x.\"p\" FROM t x) SELECT 1",
            ),
        ] {
            assert_eq!(read(sql), wanted, "{sql}");
        }
    }

    #[test]
    fn their_words_are_names_elsewhere() {
        for sql in [
            "SELECT rows FROM (SELECT 1 AS rows) AS t",
            "SELECT a, rows FROM (SELECT 1 AS a, 2 AS rows) AS t",
            "SELECT search, cycle FROM (SELECT 1 AS search, 2 AS cycle) AS t",
            "SELECT * FROM (SELECT 1) AS cycle",
            "SELECT uescape FROM t",
            "SELECT version FROM t AS version",
            "SELECT at FROM (SELECT now() AT TIME ZONE 'UTC' AS at) AS before",
            "SELECT count(*) FROM t GROUP BY all_of_it",
            "SELECT * FROM a JOIN b USING (x) JOIN c USING (y)",
        ] {
            assert!(!read(sql).contains("\"rows_from\"") && !read(sql).contains("BY n"), "{sql}");
        }
    }

    #[test]
    fn errors_stand_at_their_place() {
        for (sql, column, wanted) in [
            ("WITH RECURSIVE t(n) AS (SELECT 1) SEARCH DEPTH BY n SET o SELECT 1", 48, "expected first"),
            ("WITH RECURSIVE t(n) AS (SELECT 1) CYCLE n SET c SELECT 1", 49, "expected using"),
            ("WITH RECURSIVE t(n) AS (SELECT 1) CYCLE n SET a.b USING c SELECT 1", 47, "by its name alone"),
            (
                "WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL VALUES (2)) CYCLE n SET c USING p SELECT 1",
                56,
                "a step that is one SELECT",
            ),
            ("SELECT U&'a' UESCAPE 'ab'", 14, "one character"),
            ("SELECT U&'!00' UESCAPE '!'", 16, "is not XXXX"),
            // What stands behind a form that was reworded keeps its own place.
            ("SELECT * FROM ROWS FROM (f(1)) t WHERE n = = 1", 44, "expected"),
            ("SELECT * FROM a JOIN b USING (x) AS j WHERE n = = 1", 49, "expected"),
        ] {
            let error = parse_statements(sql).expect_err(sql);
            let place = error.position.map(|p| p.column);
            assert!(place == Some(column) && error.message.contains(wanted), "{sql}: {place:?} {}", error.message);
        }
    }
}
