//! A plan document as text. Each stream of rows is a lane that runs upwards from its source; where lanes meet, a step takes
//! both. The result stands on top, the sources at the bottom, so the numbers are read from the bottom up. Fits 100 columns.

use std::fmt::Write;

use crate::document::{Alternative, GateDocument, PlanDocument, StepDocument};
use crate::offer::{PartCount, Verdict};

const WIDTH: usize = 100;

/// Steps as lanes, then gates and joins.
pub fn tree(plan: &PlanDocument) -> String {
    let mut out = lanes(plan);
    if !plan.gates.is_empty() {
        out.push('\n');
        out.push_str(&gates(plan));
    }
    let joins = joins(plan);
    if !joins.is_empty() {
        out.push('\n');
        out.push_str(&joins);
    }
    out
}

fn lanes(plan: &PlanDocument) -> String {
    let measured = plan.steps.iter().any(|step| step.measure.is_some());
    let mut out = String::new();
    let header = if measured {
        format!("{:>9} {:>9} {:>8} {:>8}", "estimate", "rows", "time", "memory")
    } else {
        format!("{:>9}", "estimate")
    };
    let text_width = WIDTH - header.len() - 1;
    let _ = writeln!(out, "{:text_width$} {header}", "step");
    if let Some(root) = plan.steps.last() {
        draw_step(plan, root, &[], &mut out, text_width);
    }
    if let Some(total) = &plan.measures {
        let _ = writeln!(
            out,
            "{} rows in {}, planned in {}, at most {} held",
            count(total.rows as f64),
            seconds(total.seconds),
            seconds(total.planning_seconds),
            bytes(total.memory as f64)
        );
        let phases: Vec<String> =
            total.phases.iter().map(|one| format!("{} {}", one.phase, seconds(one.seconds))).collect();
        if !phases.is_empty() {
            let _ = writeln!(out, "planning: {}", phases.join(", "));
        }
    }
    out
}

/// Draws a step and all below it. `waiting` holds one flag per lane to the left: whether something below still runs in it.
fn draw_step(plan: &PlanDocument, step: &StepDocument, waiting: &[bool], out: &mut String, text_width: usize) {
    let mut rail: String = waiting.iter().map(|runs| if *runs { "│ " } else { "  " }).collect();
    rail.push('●');
    for extra in 1..step.inputs.len() {
        rail.push_str(if extra + 1 == step.inputs.len() { "─╮" } else { "─┬" });
    }
    let head = format!("{:>3} {rail} ", step.step);
    let hang: String = waiting.iter().map(|runs| if *runs { "│ " } else { "  " }).collect::<String>()
        + &"│ ".repeat(step.inputs.len().max(usize::from(!step.inputs.is_empty())));
    let hang = format!("    {hang}");
    let room = text_width.saturating_sub(head.chars().count()).max(20);
    let spilled = step.measure.as_ref().map_or(0, |measure| measure.spilled);
    let text = match spilled {
        0 => step.text.clone(),
        on_disk => format!("{}; {} went to disk", step.text, bytes(on_disk as f64)),
    };
    for (i, line) in wrap(&text, room).into_iter().enumerate() {
        if i > 0 {
            let pad = head.chars().count().saturating_sub(hang.chars().count());
            let _ = writeln!(out, "{hang}{}{line}", " ".repeat(pad));
            continue;
        }
        let left = format!("{head}{line}");
        let pad = " ".repeat(text_width.saturating_sub(left.chars().count()));
        let mut numbers = format!("{:>9}", count(step.estimated_rows));
        if let Some(measure) = &step.measure {
            let memory = if measure.memory > 0 { bytes(measure.memory as f64) } else { String::new() };
            let _ = write!(numbers, " {:>9} {:>8} {:>8}", count(measure.rows as f64), seconds(measure.seconds), memory);
        }
        let _ = writeln!(out, "{left}{pad} {}", numbers.trim_end());
    }
    let inputs: Vec<&StepDocument> =
        step.inputs.iter().filter_map(|n| plan.steps.iter().find(|s| s.step == *n)).collect();
    // The last input runs in the rightmost lane and is drawn first; the lanes left of it wait.
    for (place, input) in inputs.iter().enumerate().rev() {
        let mut lanes = waiting.to_vec();
        lanes.extend(std::iter::repeat_n(true, place));
        draw_step(plan, input, &lanes, out, text_width);
    }
}

/// One block per gate.
pub fn gates(plan: &PlanDocument) -> String {
    plan.gates.iter().map(gate).collect::<Vec<_>>().join("\n")
}

fn gate(gate: &GateDocument) -> String {
    let mut out = String::new();
    let region = gate.region.as_ref().map(|region| format!(", region {region}")).unwrap_or_default();
    let _ =
        writeln!(out, "gate {}  {}  ({} {}{region})", gate.gate, gate.tables.join(" + "), gate.kind, gate.connection);
    let mut line = |label: &str, text: &str| {
        for (i, part) in wrap(text, WIDTH - 12).into_iter().enumerate() {
            let _ = writeln!(out, "  {:<9} {part}", if i == 0 { label } else { "" });
        }
    };
    let names =
        if gate.columns_read.is_empty() { String::new() } else { format!(": {}", gate.columns_read.join(", ")) };
    line("columns", &format!("{} of {}{names}", gate.columns_read.len(), gate.columns_total));
    for piece in &gate.pieces {
        let why = match &piece.verdict {
            Verdict::Pushed { note } | Verdict::Prunes { note } => {
                note.as_ref().map(|note| format!("  — {note}")).unwrap_or_default()
            }
            Verdict::Kept { reason, note } => match note {
                Some(note) => format!("  — {}: {note}", reason.words()),
                None => format!("  — {}", reason.words()),
            },
        };
        // "join on …" says already that it is a join.
        let name = if piece.text.starts_with(&piece.piece) { String::new() } else { format!("{} ", piece.piece) };
        line(piece.verdict.word(), &format!("{name}{}{why}", piece.text));
    }
    line("request", &gate.request.text);
    let numbered = gate.request.text.contains("$1") || !gate.request.text.contains('?');
    let mark = if numbered { '$' } else { '?' };
    for (i, parameter) in gate.request.parameters.iter().enumerate() {
        line("", &format!("{mark}{} = {parameter}", i + 1));
    }
    if !gate.parts.is_empty() {
        line("reads", &parts(&gate.parts));
    }
    let estimated_bytes = gate.estimated_bytes.map(|b| format!(", {}", bytes(b))).unwrap_or_default();
    line("estimate", &format!("{} rows{estimated_bytes}", count(gate.estimated_rows)));
    if let Some(measure) = &gate.measure {
        let mut dropped = String::new();
        if measure.rows_skipped > 0 {
            let _ = write!(dropped, ", {} rows in skipped pages", count(measure.rows_skipped as f64));
        }
        if measure.rows_dropped > 0 {
            let _ = write!(dropped, ", {} rows dropped while decoding", count(measure.rows_dropped as f64));
        }
        for keys in &measure.keys {
            let skipped =
                if keys.parts_skipped > 0 { format!(", {} parts skipped", keys.parts_skipped) } else { String::new() };
            let number = if keys.keys == 0 { "no key".to_owned() } else { format!("{} keys", count(keys.keys as f64)) };
            line(
                "keys",
                &format!("{number} of join {} for {}, used as {}{skipped}", keys.join, keys.column, keys.form),
            );
        }
        if let Some(sent) = &measure.sent {
            line("sent", &sent.text);
        }
        if !measure.parts.is_empty() {
            line("found", &parts(&measure.parts));
        }
        line("crossed", &format!("{} rows, {} read{dropped}", count(measure.rows as f64), bytes(measure.bytes as f64)));
    }
    out
}

/// One line per order, offer and join: what was chosen, the others and their costs.
pub fn joins(plan: &PlanDocument) -> String {
    let mut out = String::new();
    for order in plan.rewrites.iter().flat_map(|rewrite| &rewrite.orders) {
        let mut text = format!("{}, {} rows touched", order.chosen, count(order.cost));
        if order.written.way != order.chosen {
            let _ = write!(text, "; as written {} {}", order.written.way, count(order.written.cost));
        }
        for other in order.alternatives.iter().filter(|other| other.way != order.written.way) {
            let _ = write!(text, "; {} {}", other.way, count(other.cost));
        }
        for (i, part) in wrap(&text, WIDTH - 10).into_iter().enumerate() {
            let _ = writeln!(out, "{:<8}  {part}", if i == 0 { "order" } else { "" });
        }
    }
    let mut line = |label: String, text: String, alternatives: &[Alternative]| {
        let others: Vec<String> =
            alternatives.iter().map(|a| format!("{} would cost {}", a.way, count(a.cost))).collect();
        let others = if others.is_empty() { "no other way".to_owned() } else { others.join(", ") };
        for (i, part) in wrap(&format!("{text}; {others}"), WIDTH - 10).into_iter().enumerate() {
            let _ = writeln!(out, "{:<8}  {part}", if i == 0 { label.as_str() } else { "" });
        }
    };
    for offer in &plan.offers {
        let label = match offer.gates.as_slice() {
            [only] => format!("gate {only}"),
            several => format!("gates {}", several.join(" ")),
        };
        line(label, format!("{}, cost {}", offer.chosen, count(offer.cost)), &offer.alternatives);
    }
    for join in &plan.joins {
        let text = format!("{} by {}, cost {}", join.text, join.chosen, count(join.cost));
        line(format!("join {:<3}", join.step), text, &join.alternatives);
    }
    out
}

/// Each rewrite in order; those that changed the plan with the plan before and after.
pub fn rewrites(plan: &PlanDocument) -> String {
    let mut out = format!("as written\n{}", indent(&plan.written));
    for entry in &plan.rewrites {
        let state = match (entry.switched_off, entry.changed) {
            (true, _) => "switched off",
            (false, true) => "changed the plan",
            (false, false) => "nothing to do",
        };
        let _ = writeln!(out, "\n{}: {state}\n  {}", entry.rewrite, entry.about);
        for note in &entry.notes {
            let _ = writeln!(out, "  - {note}");
        }
        if entry.changed {
            let before: Vec<&str> = entry.before.lines().collect();
            let after: Vec<&str> = entry.after.lines().collect();
            for line in &before {
                let _ = writeln!(out, "  {} {line}", if after.contains(line) { ' ' } else { '-' });
            }
            out.push_str("  becomes\n");
            for line in &after {
                let _ = writeln!(out, "  {} {line}", if before.contains(line) { ' ' } else { '+' });
            }
        }
    }
    out
}

fn indent(text: &str) -> String {
    text.lines().map(|line| format!("    {line}\n")).collect()
}

/// Breaks at blanks so that no line is longer than `width` characters where that is possible.
fn parts(all: &[PartCount]) -> String {
    all.iter().map(|p| format!("{} of {} {}", p.read, p.total, p.parts)).collect::<Vec<_>>().join(", ")
}

fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let last = lines.last_mut().expect("there is always a line");
        if last.is_empty() {
            last.push_str(word);
        } else if last.chars().count() + 1 + word.chars().count() <= width {
            last.push(' ');
            last.push_str(word);
        } else {
            lines.push(word.to_owned());
        }
    }
    lines
}

/// A number of rows: exact below ten thousand, then with three digits and a unit.
pub fn count(n: f64) -> String {
    let n = n.round();
    match n {
        n if n < 10_000.0 => format!("{n}"),
        n if n < 1e6 => format!("{:.1}k", n / 1e3),
        n if n < 1e9 => format!("{:.2}M", n / 1e6),
        n if n < 1e12 => format!("{:.2}G", n / 1e9),
        n => format!("{n:.1e}"),
    }
}

/// A size in bytes with a binary unit.
pub fn bytes(n: f64) -> String {
    match n {
        // Without the sign of a zero.
        n if n < 1024.0 => format!("{:.0} B", n + 0.0),
        n if n < 1024.0 * 1024.0 => format!("{:.0} KiB", n / 1024.0),
        n if n < 1024.0 * 1024.0 * 1024.0 => format!("{:.1} MiB", n / 1024.0 / 1024.0),
        n => format!("{:.2} GiB", n / 1024.0 / 1024.0 / 1024.0),
    }
}

pub fn seconds(s: f64) -> String {
    match s {
        s if s < 0.001 => format!("{:.0} µs", s * 1e6),
        s if s < 1.0 => format!("{:.1} ms", s * 1e3),
        s => format!("{s:.2} s"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document::StepMeasure;

    fn step(step: usize, text: &str, inputs: &[usize], estimated_rows: f64) -> StepDocument {
        StepDocument {
            step,
            kind: "any".into(),
            text: text.into(),
            inputs: inputs.to_vec(),
            estimated_rows,
            ..StepDocument::default()
        }
    }

    #[test]
    fn lanes_meet_where_rows_are_joined() {
        let plan = PlanDocument {
            steps: vec![
                step(1, "gate A: drop.public.boardings", &[], 20_100.0),
                step(2, "gate B: fleet.public.routes", &[], 118.0),
                step(3, "join on b.route_id = r.id; hash of step 2", &[1, 2], 20_100.0),
                step(4, "gate C: fleet.public.ports", &[], 40.0),
                step(5, "keep rows where p.active", &[4], 20.0),
                step(6, "join on r.from_port = p.id; hash of step 5", &[3, 5], 20_100.0),
                step(
                    7,
                    "group by p.name, and so many other things that this line must be broken into two: sum(b.fare)",
                    &[6],
                    40.0,
                ),
            ],
            ..PlanDocument::default()
        };
        insta::assert_snapshot!(tree(&plan));
    }

    #[test]
    fn what_went_to_disk_is_said() {
        let measure = StepMeasure { rows: 10, seconds: 0.5, memory: 4096, spilled: 3 << 20, ..StepMeasure::default() };
        let mut sorted = step(1, "sort by b.fare", &[], 10.0);
        sorted.measure = Some(measure);
        let text = tree(&PlanDocument { steps: vec![sorted], ..PlanDocument::default() });
        assert!(text.contains("sort by b.fare; 3.0 MiB went to disk"), "{text}");
    }

    #[test]
    fn numbers_are_short() {
        for (n, text) in [(0.0, "0"), (9999.0, "9999"), (10_000.0, "10.0k"), (2_500_000.0, "2.50M"), (7e9, "7.00G")] {
            assert_eq!(count(n), text);
        }
        for (n, text) in [(0.0, "0 B"), (1023.0, "1023 B"), (2048.0, "2 KiB"), (1.5 * 1024.0 * 1024.0, "1.5 MiB")] {
            assert_eq!(bytes(n), text);
        }
        for (s, text) in [(0.000_05, "50 µs"), (0.0123, "12.3 ms"), (2.5, "2.50 s")] {
            assert_eq!(seconds(s), text);
        }
    }
}
