//! A set of questions over tables: ours beside PostgreSQL and the floor, question by question, and how near the estimates of joins came.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use cobble_engine::{PlanDocument, Session, draw};
use cobble_tests::{for_judge, judged};

use super::{ROUNDS, compare, floor, run};

pub struct Set<'a> {
    pub questions: &'a [(&'a str, &'a str)],
    pub judge: Option<&'a tokio_postgres::Client>,
    pub cores: usize,
    /// The folder of each catalog.
    pub folders: &'a [(&'a str, PathBuf)],
}

/// What came of a set.
#[derive(Default)]
pub struct Outcome {
    pub total: Line,
    pub lines: Vec<Line>,
    /// Each question's rows as text.
    pub answers: Vec<(String, Vec<String>)>,
    pub joins: Vec<Join>,
    /// Seconds of each phase of planning, over all questions.
    phases: Vec<(String, f64)>,
}

/// Rows that a join was expected to make and those that it made.
pub struct Join {
    question: String,
    text: String,
    expected: f64,
    came: f64,
}

impl Join {
    /// How many times too many or too few; an empty result counts as one row.
    fn error(&self) -> f64 {
        let (expected, came) = (self.expected.max(1.0), self.came.max(1.0));
        (expected / came).max(came / expected)
    }
}

/// One line of the table; times are the best of the rounds.
#[derive(Default, Clone)]
pub struct Line {
    pub name: String,
    pub ours: Duration,
    pub planning: Duration,
    pub theirs: Option<Duration>,
    pub floor: Option<Duration>,
    pub read: u64,
    pub memory: u64,
}

impl Line {
    pub fn add(&mut self, other: &Line) {
        let sum = |a: Option<Duration>, b: Option<Duration>| Some(a.unwrap_or_default() + b?);
        self.ours += other.ours;
        self.planning += other.planning;
        self.theirs = sum(self.theirs, other.theirs);
        self.floor = sum(self.floor, other.floor);
        self.memory = self.memory.max(other.memory);
        self.read += other.read;
    }

    pub fn print(&self) {
        let time = |d: Option<Duration>| d.map_or_else(|| "-".to_owned(), |d| draw::seconds(d.as_secs_f64()));
        let ratio = |a: Option<Duration>, b: Option<Duration>| match (a, b) {
            (Some(a), Some(b)) => format!("{:.1}x", a.as_secs_f64() / b.as_secs_f64()),
            _ => "-".to_owned(),
        };
        println!(
            "{:<30} {:>9} {:>9} {:>9} {:>6} {:>9} {:>6} {:>10} {:>10}",
            self.name,
            time(Some(self.ours)),
            time(Some(self.planning)),
            time(self.theirs),
            ratio(self.theirs, Some(self.ours)),
            time(self.floor),
            ratio(Some(self.ours), self.floor),
            draw::bytes(self.read as f64),
            draw::bytes(self.memory as f64)
        );
    }
}

fn joins(question: &str, plan: &PlanDocument) -> Vec<Join> {
    let joins = plan.steps.iter().filter(|step| step.kind.ends_with("_join"));
    joins
        .filter_map(|step| {
            let came = step.measure.as_ref()?.rows as f64;
            Some(Join { question: question.to_owned(), text: step.text.clone(), expected: step.estimated_rows, came })
        })
        .collect()
}

impl Set<'_> {
    /// Asks all questions, and prints what it took.
    pub async fn measure(&self, session: &mut Session) -> Outcome {
        println!(
            "\n{:<30} {:>9} {:>9} {:>9} {:>6} {:>9} {:>6} {:>10} {:>10}",
            "question", "ours", "planning", "postgres", "ratio", "floor", "over", "read", "memory"
        );
        let mut found = Outcome { total: Line { name: "total".to_owned(), ..Line::default() }, ..Outcome::default() };
        for (name, sql) in self.questions {
            let mut line = Line { name: (*name).to_owned(), ours: Duration::MAX, ..Line::default() };
            let mut phases = Vec::new();
            for round in 0..ROUNDS {
                let (time, plan, rows) = run(session, sql).await;
                if time < line.ours {
                    line.ours = time;
                    line.read = plan.gates.iter().filter_map(|g| g.measure.as_ref()).map(|m| m.bytes).sum();
                    line.memory = plan.measures.as_ref().map_or(0, |m| m.memory);
                    let planning = plan.measures.as_ref().map_or(0.0, |m| m.planning_seconds);
                    line.planning = Duration::from_secs_f64(planning);
                    phases = plan.measures.as_ref().map_or(vec![], |measures| measures.phases.clone());
                }
                let floor = floor::of(&plan, self.folders, self.cores);
                line.floor = Some(line.floor.map_or(floor, |known| known.min(floor)));
                if round == 0 {
                    found.answers.push(((*name).to_owned(), rows));
                    found.joins.extend(joins(name, &plan));
                }
            }
            self.ask_judge(name, sql, &mut line, &found.answers).await;
            line.print();
            found.total.add(&line);
            for own in phases {
                match found.phases.iter_mut().find(|(phase, _)| *phase == own.phase) {
                    Some((_, seconds)) => *seconds += own.seconds,
                    None => found.phases.push((own.phase, own.seconds)),
                }
            }
            found.lines.push(line);
        }
        found.total.print();
        found.summary();
        found
    }

    async fn ask_judge(&self, name: &str, sql: &str, line: &mut Line, answers: &[(String, Vec<String>)]) {
        let Some(judge) = self.judge else { return };
        let sql = for_judge(sql);
        for round in 0..ROUNDS {
            let began = Instant::now();
            let rows = judged(judge, &sql).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
            let time = began.elapsed();
            line.theirs = Some(line.theirs.map_or(time, |known| known.min(time)));
            if let (0, Some((_, ours))) = (round, answers.last()) {
                compare(name, "PostgreSQL", ours, rows);
            }
            // What takes the judge long is not asked again.
            if time > Duration::from_secs(4) {
                break;
            }
        }
    }
}

impl Outcome {
    fn summary(&self) {
        let phases: Vec<String> =
            self.phases.iter().map(|(phase, time)| format!("{phase} {}", draw::seconds(*time))).collect();
        println!("planning in all: {}", phases.join(", "));
        let slower = |line: &&Line| line.theirs.is_some_and(|theirs| line.ours > theirs);
        let slow: Vec<&Line> = self.lines.iter().filter(slower).collect();
        if self.total.theirs.is_some() {
            println!("slower than PostgreSQL: {} of {}", slow.len(), self.lines.len());
        }
        for line in slow {
            let theirs = line.theirs.unwrap_or_default();
            println!("  {}: {} more", line.name, draw::seconds((line.ours - theirs).as_secs_f64()));
        }
        print_errors(self.joins.iter());
    }
}

/// How far the estimates of joins were off: the middle, the 95th of a hundred, and the worst.
pub fn print_errors<'a>(joins: impl Iterator<Item = &'a Join>) {
    let mut joins: Vec<&Join> = joins.collect();
    joins.sort_by(|a, b| a.error().total_cmp(&b.error()));
    let at = |share: f64| joins.get((joins.len() as f64 * share) as usize).map_or(1.0, |join| join.error());
    println!(
        "rows at {} joins, expected against those that came: within {:.2} times for half of them, {:.1} times for 95 of 100",
        joins.len(),
        at(0.5),
        at(0.95)
    );
    for join in joins.iter().rev().take(12).filter(|join| join.error() > 2.0) {
        println!(
            "  {:.0} times: {} expected, {} came: {} ({})",
            join.error(),
            draw::count(join.expected),
            draw::count(join.came),
            join.text,
            join.question
        );
    }
}
