//! What of PostgreSQL's language works here, found by running it: forms of each section of its manual, judged by PostgreSQL, and the page
//! that says so.

use std::fmt::Write as _;
use std::path::Path;

use cobble_tests::{in_engine, judged, language_judge};

const CHAPTERS: &[(&str, &str)] = &[
    ("Values and calls", include_str!("conformance/chapter_4.sql")),
    ("Queries", include_str!("conformance/chapter_7.sql")),
    ("Types", include_str!("conformance/chapter_8.sql")),
    ("Functions and operators", include_str!("conformance/chapter_9.sql")),
];

/// The least share of all forms, in percent.
const LEAST: usize = 95;

const HEAD: &str = "# How much of PostgreSQL's language works

Made by running: each form below stands for a part of a section of PostgreSQL 15's manual. It works when the engine gives the rows that PostgreSQL
gives. Forms that concern storage, locale, administration or types of one's own are left out and only counted. Sections about types that are not here
at all stand at the end. The forms are in `tests/tests/product/conformance/`; `make conformance` makes this page anew, and a test fails when it is
not true any more.
";

/// Begins the title of a section about types that are not here.
const ABSENT: char = '!';

/// A statement with its select list taken apart: each item is a form of its own. Others are one form.
fn forms(line: &str) -> Vec<String> {
    let Some(list) = line.strip_prefix("SELECT ").filter(|list| !list.contains(" FROM ")) else {
        return vec![line.to_owned()];
    };
    let (mut parts, mut depth, mut quoted, mut dollar) = (vec![String::new()], 0i32, false, false);
    let mut before = ' ';
    for sign in list.chars() {
        match sign {
            '$' if before == '$' && !quoted => dollar = !dollar,
            '\'' if !dollar => quoted = !quoted,
            '(' | '[' if !quoted => depth += 1,
            ')' | ']' if !quoted => depth -= 1,
            _ => {}
        }
        before = sign;
        match parts.last_mut() {
            Some(_) if sign == ',' && depth == 0 && !quoted && !dollar => parts.push(String::new()),
            Some(last) => last.push(sign),
            None => {}
        }
    }
    let is_whole = depth == 0
        && !quoted
        && !dollar
        && !list.contains("UNION")
        && !list.contains("EXCEPT")
        && !list.contains("INTERSECT");
    match is_whole {
        true => parts.iter().map(|part| format!("SELECT {}", part.trim())).collect(),
        false => vec![line.to_owned()],
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_is_what_runs() {
    let judge = language_judge().await;
    let (mut page, mut works, mut all, mut outside) = (String::from(HEAD), 0, 0, 0);
    let (mut wrong, mut table) = (Vec::new(), String::new());
    let (mut absent, mut absent_works, mut absent_all) = (String::new(), 0, 0);
    for (chapter, list) in CHAPTERS {
        let mut sections: Vec<(&str, usize, usize, Vec<String>)> = Vec::new();
        let mut is_outside = false;
        for line in list.lines() {
            if let Some(title) = line.strip_prefix("## ") {
                sections.push((title, 0, 0, vec![]));
                continue;
            }
            if line.starts_with("-- out: ") {
                is_outside = true;
                continue;
            }
            if std::mem::take(&mut is_outside) {
                outside += 1;
                continue;
            }
            let Some((_, done, count, failing)) = sections.last_mut() else { continue };
            for form in forms(line) {
                let Ok(mut wanted) = judged(&judge, &form).await else {
                    wrong.push(form);
                    continue;
                };
                *count += 1;
                let got = in_engine(&form).await.map(|mut rows| {
                    rows.sort();
                    rows
                });
                wanted.sort();
                match got {
                    Ok(got) if got == wanted => *done += 1,
                    _ => failing.push(form),
                }
            }
        }
        let _ = write!(table, "\n## {chapter}\n\n| section | works | of | not |\n|---|---|---|---|\n");
        for (title, done, count, failing) in &sections {
            let shown =
                failing.iter().map(|form| format!("`{}`", form.replace('|', "\\|"))).collect::<Vec<_>>().join("; ");
            if let Some(title) = title.strip_prefix(ABSENT) {
                let _ = writeln!(absent, "| {title} | {done} | {count} |");
                absent_works += done;
                absent_all += count;
                continue;
            }
            if *count > 0 {
                let _ = writeln!(table, "| {title} | {done} | {count} | {shown} |");
            }
            works += done;
            all += count;
        }
    }
    assert!(wrong.is_empty(), "PostgreSQL refuses these forms:\n{}", wrong.join("\n"));
    let share = |works: usize, all: usize| {
        let tenths = works * 1000 / all;
        format!("{works} of {all} forms work: {}.{} %", tenths / 10, tenths % 10)
    };
    let _ = write!(
        page,
        "\n**{}.** With the sections about types that are not here, {}. {outside} more are left out.\n{table}",
        share(works, all),
        share(works + absent_works, all + absent_all)
    );
    let _ = write!(page, "\n## Types that are not here\n\n| section | works | of |\n|---|---|---|\n{absent}");
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs/reference/CONFORMANCE.md");
    if std::env::var("UPDATE_CONFORMANCE").is_ok() {
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, &page).unwrap();
    }
    let known = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(known == page, "docs/reference/CONFORMANCE.md is not true any more: make conformance");
    assert!(works * 100 >= all * LEAST, "{works} of {all} forms work, fewer than {LEAST} %");
}
