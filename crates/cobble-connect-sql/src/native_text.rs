//! The text of a native query: a single SELECT that only reads, as its author wrote it. What is sent are slices of the given text, so
//! no literal changes its value on the way. Comments are left out, and text is refused if a server could split it into other tokens.

use std::ops::ControlFlow;
use std::sync::LazyLock;

use cobble_types::deep::{Deep, with_room};
use sqlparser::ast::{self, Visit, Visitor};
use sqlparser::dialect::Dialect;
use sqlparser::parser::{Parser, ParserOptions};
use sqlparser::tokenizer::{Location, Token, TokenWithSpan, Tokenizer, Whitespace};

/// The longest text, in bytes.
const LONGEST: usize = 4 << 20;

/// The most operators, keywords and names of a text. Its tree is no deeper than that.
const MOST_STEPS: usize = 5_000;

/// The most levels of parentheses and subqueries.
const MOST_LEVELS: usize = 200;

/// Why a text is not sent: what it does, and what to do about it.
pub struct Refused {
    pub what: String,
    pub hint: &'static str,
}

fn refused<T>(what: impl Into<String>, hint: &'static str) -> Result<T, Refused> {
    Err(Refused { what: what.into(), hint })
}

const ONLY_READ: &str = "take that out: native queries only read";
const READABLE: &str = "correct it; only text that can be read is sent";

static EFFECTS: LazyLock<Vec<glob::Pattern>> =
    LazyLock::new(|| WITH_EFFECTS.iter().filter_map(|pattern| glob::Pattern::new(pattern).ok()).collect());

/// Functions that do something besides giving a value: a `*` stands for anything. They change sequences, settings, locks and large objects,
/// read and write files, reach other servers, signal other sessions, wait, or run text as SQL.
const WITH_EFFECTS: &[&str] = &[
    // PostgreSQL
    "*_to_xml*",
    "dblink*",
    "lo_*",
    "loread",
    "lowrite",
    "nextval",
    "pg_*_file*",
    "pg_advisory*",
    "pg_backup*",
    "pg_cancel_*",
    "pg_copy_*",
    "pg_create_*",
    "pg_drop_*",
    "pg_export_*",
    "pg_file_*",
    "pg_import_*",
    "pg_log_*",
    "pg_logical_*",
    "pg_logdir_ls",
    "pg_ls_*",
    "pg_notify",
    "pg_promote",
    "pg_read_*",
    "pg_reload_*",
    "pg_replication_*",
    "pg_rotate_*",
    "pg_sleep*",
    "pg_start_*",
    "pg_stat_file",
    "pg_stat_reset*",
    "pg_stop_*",
    "pg_switch_*",
    "pg_terminate_*",
    "pg_try_advisory*",
    "pg_wal_*",
    "query_to_*",
    "set_config",
    "setval",
    "ts_rewrite",
    "ts_stat",
    // MariaDB
    "benchmark",
    "get_lock",
    "is_free_lock",
    "is_used_lock",
    "lastval",
    "load_file",
    "master_*_wait",
    "release_*lock*",
    "sleep",
    "sys_*",
    "uuid_short",
    // SQLite
    "edit",
    "fts3_tokenizer",
    "load_extension",
    "readfile",
    "writefile",
];

/// Which functions a native query may call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Functions {
    /// All that only give a value.
    Plain,
    Any,
}

/// A function among these tokens that does something: a name before a parenthesis.
fn effect<'t>(tokens: &'t [(&Token, &str)]) -> Option<&'t str> {
    let is = |token: &Token, name: &str| matches!(token, Token::Word(word) if word.value.eq_ignore_ascii_case(name));
    if tokens.windows(3).any(|three| is(three[0].0, "next") && is(three[1].0, "value") && is(three[2].0, "for")) {
        return Some("next value for");
    }
    tokens.windows(2).find_map(|pair| match pair {
        [(Token::Word(word), _), (Token::LParen, _)] => {
            let name = word.value.to_lowercase();
            EFFECTS.iter().any(|pattern| pattern.matches(&name)).then_some(word.value.as_str())
        }
        _ => None,
    })
}

/// The text to send: without comments and without a semicolon at its end, and all else as it was given.
pub fn checked(dialect: &dyn Dialect, text: &str, functions: Functions) -> Result<String, Refused> {
    if text.len() > LONGEST {
        return refused(format!("is longer than {} MiB", LONGEST >> 20), "put its constants into a table");
    }
    if text.chars().any(|c| c.is_control() && !matches!(c, ' ' | '\t' | '\n' | '\r')) {
        return refused("has control characters", "leave them out");
    }
    // Servers run what stands in such comments.
    if text.contains("/*!") || text.contains("/*M!") {
        return refused("has a comment that is a command", "take it out");
    }
    let tokens = match Tokenizer::new(dialect, text).with_unescape(false).tokenize_with_location() {
        Ok(tokens) => tokens,
        Err(error) => return refused(format!("cannot be read: {error}"), READABLE),
    };
    let steps = tokens.iter().filter(|token| !is_flat(&token.token)).count();
    if steps > MOST_STEPS {
        let what = format!("has more than {MOST_STEPS} operators, keywords and names");
        return refused(what, "put its constants into a table");
    }
    let sent = slices(text, &tokens, functions)?;
    with_room(|| {
        let options = ParserOptions::new().with_unescape(false);
        let parser = Parser::new(dialect).with_options(options).with_recursion_limit(MOST_LEVELS);
        let statements = match parser.with_tokens_with_locations(tokens).parse_statements() {
            Ok(statements) => Deep::new(statements),
            Err(error) => return refused(format!("cannot be read: {error}"), READABLE),
        };
        let [statement @ ast::Statement::Query(_)] = statements.as_slice() else {
            let hint = "give one query that reads; several go into several calls";
            return refused("is not a single SELECT", hint);
        };
        match statement.visit(&mut Reading) {
            ControlFlow::Break(what) => refused(what, ONLY_READ),
            ControlFlow::Continue(()) => Ok(sent),
        }
    })
}

/// Tokens that make no tree deeper.
fn is_flat(token: &Token) -> bool {
    matches!(token, Token::Whitespace(_) | Token::Comma | Token::Period | Token::Number(..)) || is_literal(token)
}

fn is_literal(token: &Token) -> bool {
    use Token::*;
    matches!(
        token,
        SingleQuotedString(_)
            | DoubleQuotedString(_)
            | EscapedStringLiteral(_)
            | UnicodeStringLiteral(_)
            | NationalStringLiteral(_)
            | HexStringLiteral(_)
            | SingleQuotedByteStringLiteral(_)
            | DollarQuotedString(_)
    )
}

/// Literals with a prefix: PostgreSQL reads a continuation on the next line by the rules of the prefix.
fn is_prefixed(token: &Token) -> bool {
    is_literal(token) && !matches!(token, Token::SingleQuotedString(_) | Token::DoubleQuotedString(_))
}

/// The given text of all tokens, with a space for each comment.
fn slices(text: &str, tokens: &[TokenWithSpan], functions: Functions) -> Result<String, Refused> {
    let starts = offsets(text, tokens);
    let ends = starts.iter().skip(1).copied().chain([text.len()]);
    let mut parts: Vec<(&Token, &str)> = Vec::with_capacity(tokens.len());
    for ((token, start), end) in tokens.iter().zip(&starts).zip(ends) {
        let Some(part) = text.get(*start..end) else { return refused("cannot be read", READABLE) };
        match &token.token {
            Token::Whitespace(Whitespace::SingleLineComment { .. } | Whitespace::MultiLineComment(_)) => {
                parts.push((&Token::Whitespace(Whitespace::Space), " "));
            }
            token => parts.push((token, part)),
        }
    }
    let is_space = |(token, _): &(&Token, &str)| matches!(token, Token::Whitespace(_));
    while parts.last().is_some_and(|part| is_space(part) || *part.0 == Token::SemiColon) {
        parts.pop();
    }
    let solid: Vec<(&Token, &str)> = parts.iter().filter(|part| !is_space(part)).copied().collect();
    if functions == Functions::Plain
        && let Some(name) = effect(&solid)
    {
        let hint = "leave it out, or set native_functions = any for the connection, if its user may do no harm";
        return refused(format!("calls {name}, which does more than give a value"), hint);
    }
    let mut before: Option<&Token> = None;
    for (token, part) in parts.iter().filter(|part| !is_space(part)) {
        let is_quoted = is_literal(token) || matches!(token, Token::Word(word) if word.quote_style.is_some());
        // A comment may begin within what is read as an operator here.
        if !is_quoted && ["--", "/*", "*/"].iter().any(|mark| part.contains(mark)) {
            return refused(format!("has the operator {part}"), "write spaces between operators");
        }
        let digits = |wanted: fn(&u8) -> bool| part.len() > 3 && part[2..part.len() - 1].bytes().all(|b| wanted(&b));
        let is_well_formed = match token {
            Token::HexStringLiteral(_) => digits(u8::is_ascii_hexdigit) || part.len() == 3,
            Token::SingleQuotedByteStringLiteral(_) => digits(|b| matches!(b, b'0' | b'1')) || part.len() == 3,
            _ => true,
        };
        if !is_well_formed {
            return refused(format!("has the literal {part}"), "give it digits only");
        }
        if is_literal(token) && before.is_some_and(is_prefixed) {
            return refused("has a literal that continues another one", "join the two with ||");
        }
        // INTO writes tables, files and variables, wherever it stands.
        if matches!(token, Token::Word(word) if word.quote_style.is_none() && word.value.eq_ignore_ascii_case("into")) {
            return refused("has INTO, which writes", ONLY_READ);
        }
        before = Some(token);
    }
    Ok(parts.into_iter().map(|(_, part)| part).collect::<String>().trim().to_owned())
}

/// Where each token begins, in bytes. Tokens are in the order of the text.
fn offsets(text: &str, tokens: &[TokenWithSpan]) -> Vec<usize> {
    let mut characters = text.char_indices();
    let (mut at, mut offset) = (Location { line: 1, column: 1 }, 0);
    let mut starts = Vec::with_capacity(tokens.len());
    for token in tokens {
        while (at.line, at.column) < (token.span.start.line, token.span.start.column) {
            let Some((place, character)) = characters.next() else { break };
            offset = place + character.len_utf8();
            match character {
                '\n' => at = Location { line: at.line + 1, column: 1 },
                _ => at.column += 1,
            }
        }
        starts.push(offset);
    }
    starts
}

/// Finds what does more than read.
struct Reading;

impl Visitor for Reading {
    type Break = String;

    fn pre_visit_statement(&mut self, statement: &ast::Statement) -> ControlFlow<String> {
        match statement {
            ast::Statement::Query(_) => ControlFlow::Continue(()),
            _ => ControlFlow::Break("changes data".into()),
        }
    }

    fn pre_visit_query(&mut self, query: &ast::Query) -> ControlFlow<String> {
        if !query.locks.is_empty() {
            return ControlFlow::Break("locks rows".into());
        }
        match query.body.as_ref() {
            ast::SetExpr::Insert(_) | ast::SetExpr::Update(_) | ast::SetExpr::Delete(_) | ast::SetExpr::Merge(_) => {
                ControlFlow::Break("changes data".into())
            }
            _ => ControlFlow::Continue(()),
        }
    }

    fn pre_visit_value(&mut self, value: &ast::ValueWithSpan) -> ControlFlow<String> {
        match &value.value {
            ast::Value::Placeholder(name) => ControlFlow::Break(format!("has the parameter {name}")),
            _ => ControlFlow::Continue(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use sqlparser::dialect::{MySqlDialect, PostgreSqlDialect, SQLiteDialect};

    use super::*;

    fn sent(dialect: &dyn Dialect, text: &str) -> Result<String, String> {
        checked(dialect, text, Functions::Plain).map_err(|refused| refused.what)
    }

    #[test]
    fn text_is_sent_as_it_was_given() {
        for text in [
            "SELECT 'it''s', E'a\\'b', $x$it's $1$x$ FROM ports",
            "select  Id,\tname\nfrom \"Ports\" where name ~ '^[A-Z]\\d+--no comment$'",
            "SELECT U&'\\00e4' AS a, x'00ff' AS b, b'0101' AS c, 5 - -3 AS d",
            "SELECT 'Möwe', '鴎' AS \"ä--b\" FROM ports",
        ] {
            assert_eq!(sent(&PostgreSqlDialect {}, text).as_deref(), Ok(text));
        }
        for text in ["SELECT 'a\\'b', \"c\\\"d\", `e f` FROM yard.parts", "SELECT 'a''''b', _utf8'x', x'4a' AS b"] {
            assert_eq!(sent(&MySqlDialect {}, text).as_deref(), Ok(text));
        }
        for text in ["SELECT 'a\\', \"b\", [c d], `e` FROM kiosk_sales", "SELECT x'4A' AS a"] {
            assert_eq!(sent(&SQLiteDialect {}, text).as_deref(), Ok(text));
        }
    }

    #[test]
    fn functions_with_effects_are_refused_by_name() {
        let postgres: &dyn Dialect = &PostgreSqlDialect {};
        let mariadb: &dyn Dialect = &MySqlDialect {};
        for (dialect, call) in [
            (postgres, "setval('s', 1)"),
            (postgres, "pg_catalog.SETVAL ('s', 1)"),
            (postgres, "\"pg_catalog\".\"set_config\"/* */('search_path', 'x', false)"),
            (postgres, "pg_advisory_lock(1)"),
            (postgres, "lo_import('/etc/passwd')"),
            (postgres, "public.dblink_exec('x', 'y')"),
            (postgres, "pg_read_file('/etc/passwd')"),
            (postgres, "pg_ls_dir('.')"),
            (postgres, "pg_catalog.pg_stat_file('x')"),
            (postgres, "query_to_xml('DELETE FROM a', true, true, '')"),
            (postgres, "pg_terminate_backend(1)"),
            (postgres, "pg_sleep(100)"),
            (postgres, "(SELECT count(*) FROM pg_sleep_for('1h'))"),
            (mariadb, "load_file('/etc/passwd')"),
            (mariadb, "`sleep`(10)"),
            (mariadb, "GET_LOCK('a', 10)"),
            (mariadb, "BENCHMARK(1000000, 1)"),
            (mariadb, "NEXT VALUE FOR s"),
            (&SQLiteDialect {}, "load_extension('x')"),
        ] {
            let text = format!("SELECT {call} AS a");
            let refusal = checked(dialect, &text, Functions::Plain).unwrap_err();
            // What this parser does not read is refused as well.
            assert!(
                refusal.what.contains("more than give a value") || refusal.what.contains("cannot be read"),
                "{text}"
            );
        }
        let text = "SELECT pg_sleep(0) AS a, set_config('a.b', 'c', false) AS b";
        assert_eq!(checked(postgres, text, Functions::Any).ok().as_deref(), Some(text));
        for text in [
            "SELECT sleep, lo_tide, nextval FROM tides WHERE setval > 3",
            "SELECT upper('pg_sleep(1)') AS a, length(name) AS b, floor(1.5) AS c, row_number() OVER () AS d FROM ports",
            "SELECT xmlforest(name AS a) AS a, to_char(now(), 'YYYY') AS b, pg_size_pretty(1::bigint) AS c FROM ports",
        ] {
            assert_eq!(sent(postgres, text).as_deref(), Ok(text));
        }
    }

    #[test]
    fn comments_and_the_last_semicolon_are_left_out() {
        let dialect = PostgreSqlDialect {};
        for (text, wanted) in [
            ("SELECT 1 AS a -- the first\n, 2 AS b;", "SELECT 1 AS a  \n, 2 AS b"),
            ("/* one /* in another */ */ SELECT 1 AS a -- and the rest", "SELECT 1 AS a"),
            ("SELECT/**/1 AS a ; ; ", "SELECT 1 AS a"),
        ] {
            assert_eq!(sent(&dialect, text).as_deref(), Ok(wanted), "{text}");
        }
        let text = "SELECT 1 AS a # the first\n, 2 AS b";
        assert_eq!(sent(&MySqlDialect {}, text).as_deref(), Ok("SELECT 1 AS a  \n, 2 AS b"));
    }

    #[test]
    fn what_a_server_could_read_otherwise_is_refused() {
        let (postgres, maria, sqlite) = (PostgreSqlDialect {}, MySqlDialect {}, SQLiteDialect {});
        let all: [&dyn Dialect; 3] = [&postgres, &maria, &sqlite];
        for (dialects, text) in [
            (&all[..], "SELECT 1 AS a) AS t1; DROP TABLE ports; SELECT * FROM (SELECT 1 AS a"),
            (&all, "SELECT 1 AS a; SELECT 2 AS a"),
            (&all, "SELECT 'a"),
            (&all, "SELECT \u{0} AS a"),
            (&all, "SELECT \u{b} AS a"),
            (&all, "SELECT a /*! INTO OUTFILE 'x' */ FROM ports"),
            (&all, "SELECT a /*M! , b */ FROM ports"),
            (&all, "SELECT a INTO b FROM ports"),
            (&all, "SELECT 1 AS a UNION SELECT 2 INTO b"),
            (&all, "SELECT a FROM (SELECT a INTO b FROM ports) c"),
            (&all, "DELETE FROM ports"),
            (&all, ""),
            (&all[..1], "SELECT E'a' \n 'b\\' || c --' AS d FROM ports"),
            (&all[..1], "SELECT 5 @-- 3\n AS a"),
            (&all[..1], "WITH gone AS (DELETE FROM ports RETURNING id) SELECT id FROM gone"),
            (&all[..1], "SELECT id FROM ports FOR UPDATE"),
            (&all[..1], "SELECT id FROM ports WHERE id = $1"),
            (&all[1..2], "SELECT x'\\'' AS a"),
            (&all[1..2], "SELECT id FROM ports WHERE id = ?"),
        ] {
            for dialect in dialects {
                assert!(sent(*dialect, text).is_err(), "{text}: {:?}", sent(*dialect, text));
            }
        }
    }

    #[test]
    fn long_chains_and_deep_nesting_are_refused_without_a_crash() {
        let dialect = PostgreSqlDialect {};
        let chain = |n: usize| format!("SELECT 1{} AS a", " + 1".repeat(n));
        assert!(sent(&dialect, &chain(500_000)).unwrap_err().contains("more than 5000"));
        assert!(sent(&dialect, &chain(4_500)).is_ok());
        let nested = |n: usize| format!("SELECT {}1{} AS a", "(".repeat(n), ")".repeat(n));
        assert!(sent(&dialect, &nested(100_000)).is_err());
        assert!(sent(&dialect, &nested(4_000)).is_err());
        assert!(sent(&dialect, &nested(20)).is_ok());
        let list = vec!["1"; 400_000].join(",");
        assert!(sent(&dialect, &format!("SELECT 1 AS a WHERE 1 IN ({list})")).is_ok());
    }
}
