//! The interactive shell: history, completion of names, statements over several lines, a few `\` commands.

use std::borrow::Cow;
use std::collections::BTreeMap;

use cobble_api::{FunctionBody, NameBody};
use reedline::{
    ColumnarMenu, Completer, DefaultHinter, Emacs, FileBackedHistory, KeyCode, KeyModifiers, MenuBuilder, Prompt,
    PromptEditMode, PromptHistorySearch, Reedline, ReedlineEvent, ReedlineMenu, Signal, Span, Suggestion,
    ValidationResult, Validator, default_emacs_keybindings,
};

use crate::commands::sql::{Output, run_statement};
use crate::output::print_error;
use crate::place::{Place, statements};
use crate::{Failure, Outcome};

const HELP: &str = "\
Statements end with a semicolon and may have several lines.
  \\d            tables of the default place     \\d NAME   columns of a table
  \\use NAME     change the default place        \\plan Q   plan of a query
  \\help         this help                       \\q        leave (or Ctrl+D)
Tab completes names, Ctrl+R searches the history, Ctrl+C clears the line or stops a query.";

const WORDS: &[&str] = &[
    "SELECT",
    "FROM",
    "WHERE",
    "GROUP BY",
    "HAVING",
    "ORDER BY",
    "LIMIT",
    "OFFSET",
    "JOIN",
    "LEFT JOIN",
    "ON",
    "USING",
    "WITH",
    "UNION ALL",
    "DISTINCT",
    "CASE",
    "WHEN",
    "THEN",
    "ELSE",
    "END",
    "AND",
    "OR",
    "NOT",
    "IN",
    "EXISTS",
    "BETWEEN",
    "LIKE",
    "IS NULL",
    "EXPLAIN",
    "ANALYZE",
    "SHOW",
    "CATALOGS",
    "SCHEMAS",
    "TABLES",
    "COLUMNS",
    "DESCRIBE",
    "USE",
    "SET",
    "FUNCTIONS",
    "CREATE FUNCTION",
    "DROP FUNCTION",
];

pub async fn run(place: &mut Place, output: &Output) -> Outcome {
    let history = std::env::var_os("COBBLE_HISTORY")
        .map(std::path::PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|home| std::path::PathBuf::from(home).join(".cobble_history")));
    let mut keys = default_emacs_keybindings();
    let menu = || ReedlineEvent::UntilFound(vec![ReedlineEvent::Menu("names".into()), ReedlineEvent::MenuNext]);
    keys.add_binding(KeyModifiers::NONE, KeyCode::Tab, menu());
    let mut editor = Reedline::create()
        .with_validator(Box::new(EndsWithSemicolon))
        .with_completer(Box::new(Names::new(place.names().await, place.functions().await)))
        .with_menu(ReedlineMenu::EngineCompleter(Box::new(
            ColumnarMenu::default().with_name("names").with_marker(" ▸ "),
        )))
        .with_hinter(Box::new(DefaultHinter::default()))
        .with_edit_mode(Box::new(Emacs::new(keys)));
    if let Some(path) = history
        && let Ok(history) = FileBackedHistory::with_file(2000, path)
    {
        editor = editor.with_history(Box::new(history));
    }
    println!("Cobble Lane {}. \\help for help, \\q to leave.", env!("CARGO_PKG_VERSION"));
    loop {
        let prompt = PlacePrompt(place.prompt());
        let line = match editor.read_line(&prompt) {
            Ok(Signal::Success(line)) => line,
            Ok(Signal::CtrlD) => return Ok(()),
            Ok(_) => continue,
            Err(error) => return Err(Failure::Usage(format!("the terminal cannot be read: {error}"))),
        };
        let line = line.trim();
        let outcome = match line.strip_prefix('\\') {
            Some(command) => {
                match command.trim_end_matches(';').split_once(' ').unwrap_or((command.trim_end_matches(';'), "")) {
                    ("q", _) => return Ok(()),
                    ("d", "") => run_all(place, "SHOW TABLES", output).await,
                    ("d", name) => run_all(place, &format!("DESCRIBE {name}"), output).await,
                    ("use", name) => run_all(place, &format!("USE {name}"), output).await,
                    ("plan", query) => run_all(place, &format!("EXPLAIN {query}"), output).await,
                    _ => {
                        println!("{HELP}");
                        Ok(())
                    }
                }
            }
            None => run_all(place, line, output).await,
        };
        match outcome {
            Ok(()) => {}
            Err(Failure::Failed { error, statement }) => print_error(&error, statement.as_deref(), false),
            Err(Failure::Usage(message) | Failure::Unreachable(message)) => eprintln!("error: {message}"),
        }
    }
}

async fn run_all(place: &mut Place, text: &str, output: &Output) -> Outcome {
    for statement in statements(text)? {
        run_statement(place, &statement, &[], output).await?;
    }
    Ok(())
}

struct PlacePrompt(String);

impl Prompt for PlacePrompt {
    fn render_prompt_left(&self) -> Cow<'_, str> {
        Cow::Borrowed(&self.0)
    }

    fn render_prompt_right(&self) -> Cow<'_, str> {
        Cow::Borrowed("")
    }

    fn render_prompt_indicator(&self, _: PromptEditMode) -> Cow<'_, str> {
        Cow::Borrowed(" ▸ ")
    }

    fn render_prompt_multiline_indicator(&self) -> Cow<'_, str> {
        Cow::Owned(format!("{} · ", " ".repeat(self.0.chars().count())))
    }

    fn render_prompt_history_search_indicator(&self, search: PromptHistorySearch) -> Cow<'_, str> {
        Cow::Owned(format!("search \"{}\": ", search.term))
    }
}

/// A statement goes on over lines until its semicolon; `\` commands end with their line.
struct EndsWithSemicolon;

impl Validator for EndsWithSemicolon {
    fn validate(&self, line: &str) -> ValidationResult {
        let line = line.trim();
        if line.is_empty() || line.starts_with('\\') || line.ends_with(';') {
            ValidationResult::Complete
        } else {
            ValidationResult::Incomplete
        }
    }
}

/// Completions, each with its description in the menu.
struct Names(BTreeMap<String, Option<String>>);

impl Names {
    fn new(names: Vec<NameBody>, functions: Vec<FunctionBody>) -> Names {
        let mut all: BTreeMap<String, Option<String>> = WORDS.iter().map(|w| ((*w).to_owned(), None)).collect();
        for function in functions {
            let result = function.result.map_or(String::new(), |result| format!(" → {result}"));
            let signature = format!("{}({}){result}", function.name, function.arguments);
            all.insert(function.name, Some(signature));
        }
        for name in names {
            let full = format!("{}.{}.{}", name.catalog, name.schema, name.table);
            for column in name.columns {
                all.entry(column).or_default();
            }
            all.insert(name.table, Some(full.clone()));
            all.insert(full, None);
        }
        Names(all)
    }
}

impl Completer for Names {
    fn complete(&mut self, line: &str, position: usize) -> Vec<Suggestion> {
        let before = &line[..position];
        let is_of_name = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
        let written = &before[before.trim_end_matches(is_of_name).len()..];
        let word = written.to_lowercase();
        // After an alias, such as `b.fa`, the part behind the point is a column.
        let (start, word) = match written.rsplit_once('.') {
            Some((_, column)) if !self.0.keys().any(|n| n.to_lowercase().starts_with(&word)) => {
                (position - column.len(), column.to_lowercase())
            }
            _ => (position - written.len(), word),
        };
        if word.is_empty() {
            return Vec::new();
        }
        self.0
            .iter()
            .filter(|(name, _)| name.to_lowercase().starts_with(&word))
            .take(40)
            .map(|(name, about)| Suggestion {
                value: name.clone(),
                description: about.clone(),
                span: Span::new(start, position),
                append_whitespace: false,
                ..Suggestion::default()
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names() -> Names {
        let table = NameBody {
            catalog: "fleet".into(),
            schema: "public".into(),
            table: "routes".into(),
            columns: vec!["id".into(), "nautical_miles".into()],
        };
        let function = FunctionBody {
            name: "round".into(),
            arguments: "number [, digits]".into(),
            result: None,
            kind: "scalar".into(),
            about: "The nearest whole number.".into(),
        };
        Names::new(vec![table], vec![function])
    }

    fn completed(line: &str) -> Vec<(String, usize)> {
        names().complete(line, line.len()).into_iter().map(|s| (s.value, s.span.start)).collect()
    }

    #[test]
    fn words_tables_columns_and_functions_are_completed() {
        assert_eq!(completed("SEL"), [("SELECT".to_owned(), 0)]);
        assert_eq!(completed("SELECT naut"), [("nautical_miles".to_owned(), 7)]);
        assert_eq!(completed("SELECT r.naut"), [("nautical_miles".to_owned(), 9)]);
        assert_eq!(completed("FROM fleet.pub"), [("fleet.public.routes".to_owned(), 5)]);
        assert_eq!(completed("SELECT ro"), [("round".to_owned(), 7), ("routes".to_owned(), 7)]);
        for nothing in ["", "SELECT ", "SELECT zzz", "SELECT 'é", "SELECT İ.zz", "é"] {
            assert_eq!(completed(nothing), [], "{nothing}");
        }
        let about = names().complete("rou", 3).into_iter().map(|s| s.description.unwrap_or_default());
        assert_eq!(about.collect::<Vec<_>>(), ["round(number [, digits])", "fleet.public.routes"]);
    }

    #[test]
    fn a_statement_goes_on_until_its_semicolon() {
        let is_whole = |line: &str| matches!(EndsWithSemicolon.validate(line), ValidationResult::Complete);
        assert!(is_whole("SELECT 1;") && is_whole("SELECT 1;  ") && is_whole("\\d ports") && is_whole("  "));
        assert!(!is_whole("SELECT 1") && !is_whole("SELECT\n  1"));
    }
}
