//! Sorting all files below a path into tables. Files of one folder (its `key=value` folders among it) and one format are one table
//! when they have most columns in common, and several when not.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;

use cobble_plan::logical::TableColumn;
use cobble_types::{Code, Error, Result};

use cobble_connect::{DefinedColumn, Discovered, Discovery, Forms, Looking, TableDefinition};
use cobble_format::{Dialect, United, settled, stem, wider, wider_text};
use cobble_network::test_steps::counted;
use cobble_types::TextForm;

use super::FilesSource;
use super::listing::{self, Found};

/// Files of one folder that are looked into; of more, as many at equal distances.
const LOOKED_INTO: usize = 200;
/// Files without data that are named.
const NAMED: usize = 20;
/// Two files with this share of the columns of the narrower one in common are of one table.
const ALIKE: f64 = 0.8;

/// A file that was looked into, or the reason why it could not be.
struct Seen {
    found: Found,
    columns: Result<Vec<TableColumn>>,
    dialect: Dialect,
}

/// Files that are one table.
#[derive(Default)]
struct Kin {
    names: BTreeSet<String>,
    seen: Vec<Seen>,
}

pub fn discover(source: &Arc<FilesSource>, path: &str, forms: &Forms, looking: &Looking) -> Result<Discovery> {
    let wanted = listing::way(path);
    let mut folders: BTreeMap<(Vec<String>, &'static str), Vec<Found>> = BTreeMap::new();
    let mut discovery = Discovery::default();
    for entry in source.storage.list()?.entries {
        if !(entry.names.len() >= wanted.len() && entry.names.iter().zip(&wanted).all(|(a, b)| a == b)) {
            continue;
        }
        let Some((format, _)) = cobble_format::of(&entry.file.path).filter(|_| entry.file.bytes > 0) else {
            if discovery.others.len() < NAMED {
                discovery.others.push(entry.names.join("/"));
            }
            continue;
        };
        let Some((_, way)) = entry.names.split_last() else { continue };
        let own: Vec<String> = way.iter().take_while(|name| !name.contains('=')).cloned().collect();
        let keys = listing::keys_of(&way[own.len()..]);
        folders.entry((own, format.name())).or_default().push(Found { entry, format, keys });
    }
    if folders.is_empty() {
        let what = format!("connection {}: there are no data files below \"{path}\"", source.connection);
        return Err(Error::new(Code::NotFound, what)
            .hint(format!("files that end in {} count; check the path", cobble_format::endings())));
    }
    let wanted: usize = folders.values().map(|files| files.len().div_ceil(step_of(files.len()))).sum();
    looking.files.store(wanted as u64, Ordering::Relaxed);
    let mut taken = BTreeSet::new();
    for ((folder, _), files) in folders {
        for table in tables_of(source, &folder, files, &forms.of(&folder.join("/")), looking)? {
            discovery.tables.push(named_once(table, &mut taken));
        }
    }
    Ok(discovery)
}

/// A name that no other table has, as two formats in one folder would give the same.
fn named_once(mut table: Discovered, taken: &mut BTreeSet<(String, String)>) -> Discovered {
    let plain = table.table.clone();
    let format = table.definition.format.clone().unwrap_or_default();
    for attempt in 0.. {
        if taken.insert((table.schema.clone(), table.table.clone())) {
            break;
        }
        table.table =
            if attempt == 0 { format!("{plain}_{format}") } else { format!("{plain}_{format}_{}", attempt + 1) };
    }
    table
}

/// Every how many-th of so many files is looked into.
fn step_of(files: usize) -> usize {
    files.div_ceil(LOOKED_INTO).max(1)
}

fn tables_of(
    source: &Arc<FilesSource>,
    folder: &[String],
    files: Vec<Found>,
    form: &TextForm,
    looking: &Looking,
) -> Result<Vec<Discovered>> {
    let step = step_of(files.len());
    let all: Vec<Found> = files.clone();
    let looked = files.into_iter().step_by(step).map(|found| {
        looking.check()?;
        let seen = look(source, found, form);
        looking.looked.fetch_add(1, Ordering::Relaxed);
        Ok::<_, Error>(seen)
    });
    let mut kinds: Vec<Kin> = Vec::new();
    for seen in looked {
        let seen = seen?;
        let names: BTreeSet<String> =
            seen.columns.as_ref().map(|columns| columns.iter().map(|c| c.name.clone()).collect()).unwrap_or_default();
        let alike = |kin: &Kin| {
            let least = kin.names.len().min(names.len());
            least == 0 || kin.names.intersection(&names).count() as f64 / least as f64 >= ALIKE
        };
        // A file that cannot be read belongs to the first table, which then has a problem to show.
        let place = kinds.iter().position(alike).unwrap_or_else(|| {
            kinds.push(Kin::default());
            kinds.len() - 1
        });
        kinds[place].names.extend(names);
        kinds[place].seen.push(seen);
    }
    let alone = kinds.len() == 1;
    let groups: Vec<Vec<String>> =
        kinds.iter().map(|kin| kin.seen.iter().filter_map(|s| s.found.entry.names.last().cloned()).collect()).collect();
    let mut tables = Vec::new();
    for (place, kin) in kinds.into_iter().enumerate() {
        let others: Vec<&String> =
            groups.iter().enumerate().filter(|(other, _)| *other != place).flat_map(|(_, names)| names).collect();
        let patterns = if alone && !folder.is_empty() { None } else { Some(patterns(&groups[place], &others)) };
        let name = match folder.last() {
            Some(last) if alone => last.clone(),
            _ => common_stem(&groups[place]),
        };
        let matching = |found: &&Found| {
            let file = found.entry.names.last().map_or("", String::as_str);
            patterns.as_ref().is_none_or(|patterns| patterns.iter().any(|p| p.matches(file)))
        };
        let own: Vec<&Found> = all.iter().filter(matching).collect();
        let mut table = united(source, kin, &own);
        if own.len() > table.files {
            table.notes.push(format!("{} of {} were looked into", table.files, counted(own.len(), "file")));
        }
        (table.files, table.bytes) = (own.len(), own.iter().map(|found| found.entry.file.bytes).sum());
        table.table = plain(&name);
        let parents = if alone { &folder[..folder.len().saturating_sub(1)] } else { folder };
        table.schema = match parents {
            [] => "public".to_owned(),
            names => plain(&names.join("_")),
        };
        table.definition.path = Some(folder.join("/"));
        table.definition.files =
            patterns.map(|patterns| patterns.iter().map(|p| p.as_str().to_owned()).collect::<Vec<_>>().join(", "));
        tables.push(table);
    }
    Ok(tables)
}

fn look(source: &Arc<FilesSource>, found: Found, form: &TextForm) -> Seen {
    let file = &found.entry.file;
    let inferred = match found.format.parts() {
        Some(_) => source.footer(found.format, file).and_then(|footer| Ok((footer.columns()?, Dialect::default()))),
        None => source.inferred_of(found.format, file, form, true).map(|found| (found.columns, found.dialect)),
    };
    let (columns, dialect) = match inferred {
        Ok((columns, dialect)) => (Ok(columns), dialect),
        Err(error) => (Err(error), Dialect::default()),
    };
    Seen { found, columns, dialect }
}

/// One table of all these files, which were looked into; `own` are those and all that were not.
fn united(source: &Arc<FilesSource>, kin: Kin, own: &[&Found]) -> Discovered {
    let files = kin.seen.len();
    let format = kin.seen[0].found.format;
    let mut dialect = kin.seen[0].dialect.clone();
    let mut all = United::new(if format.is_text() { wider_text } else { wider });
    let (mut notes, mut problem) = (Vec::new(), None);
    for seen in &kin.seen {
        let path = &seen.found.entry.file.path;
        match &seen.columns {
            Ok(columns) => {
                let before = all.widened.len();
                all.take(path, columns.clone());
                for (column, was, is, both) in &all.widened[before..] {
                    notes.push(format!(
                        "column {column} is {is} in {} and {was} before it: taken as {both}",
                        path.display()
                    ));
                }
            }
            Err(error) => problem = problem.or(Some(error.message.clone())),
        }
        if format.has_dialects() && seen.columns.is_ok() {
            let first = kin.seen[0].found.entry.file.path.display();
            if !dialect.take(&seen.dialect) {
                problem.get_or_insert(format!("{} is written in another way than {first}", path.display()));
            }
        }
    }
    if let Some(conflict) = all.conflicts.first() {
        problem.get_or_insert(format!("{}: {}", conflict.path, conflict.words()));
    }
    let partitions = match listing::table(&source.connection, "", own.iter().map(|f| (*f).clone()).collect()) {
        Ok(table) => table.partitions,
        Err(error) => {
            problem.get_or_insert(error.message);
            vec![]
        }
    };
    let columns = all.columns().into_iter().map(|c| TableColumn { sql_type: settled(&c.sql_type), ..c });
    let defined = |c: TableColumn| DefinedColumn { name: c.name, sql_type: c.sql_type };
    let mut definition = TableDefinition {
        format: Some(format.name().to_owned()),
        columns: columns.map(defined).collect(),
        ..Default::default()
    };
    if format.has_dialects() {
        definition = definition.with_text_form(dialect.said());
    }
    let partitions =
        partitions.into_iter().map(|(name, sql_type)| DefinedColumn { name, sql_type }).collect::<Vec<_>>();
    let (schema, table) = (String::new(), String::new());
    Discovered { schema, table, definition, partitions, files, bytes: 0, notes, problem }
}

/// Patterns that these files match and the others do not: what they begin with, or each by its name.
fn patterns(names: &[String], others: &[&String]) -> Vec<glob::Pattern> {
    let pattern = |text: &str| glob::Pattern::new(text).unwrap_or_default();
    if let [one] = names {
        return vec![pattern(&glob::Pattern::escape(one))];
    }
    let start = common_start(names);
    let short = start.trim_end_matches(|c: char| c.is_ascii_digit());
    if !short.is_empty() && others.iter().all(|other| !other.starts_with(short)) {
        return vec![pattern(&format!("{}*", glob::Pattern::escape(short)))];
    }
    names.iter().map(|name| pattern(&glob::Pattern::escape(name))).collect()
}

fn common_start(names: &[String]) -> &str {
    let Some((first, rest)) = names.split_first() else { return "" };
    let alike =
        |other: &String| first.chars().zip(other.chars()).take_while(|(a, b)| a == b).map(|(c, _)| c.len_utf8()).sum();
    let length = rest.iter().map(alike).min().unwrap_or(first.len());
    &first[..length]
}

/// What the names of a table's files have in common, without the number or date behind it.
fn common_stem(names: &[String]) -> String {
    let stems: Vec<String> = names.iter().map(|name| stem(name).to_owned()).collect();
    let start = common_start(&stems);
    let word = start.trim_end_matches(|c: char| c.is_ascii_digit() || "-_. ".contains(c));
    if !word.is_empty() && names.len() > 1 {
        return word.to_owned();
    }
    stems.first().cloned().unwrap_or_default()
}

/// A name that needs no quotes in SQL.
fn plain(name: &str) -> String {
    let lower = name.to_lowercase();
    let mut plain: String = lower.chars().map(|c| if c.is_alphanumeric() { c } else { '_' }).collect();
    if plain.starts_with(|c: char| c.is_ascii_digit()) || plain.is_empty() {
        plain.insert(0, '_');
    }
    plain
}
