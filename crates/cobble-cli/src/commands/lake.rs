//! `cobble lake …`: how a lake's tables are put together, and care for them. Each command is one statement, which `cobble sql` takes as well.

use clap::{Args, Subcommand, ValueEnum};
use cobble_types::quote_literal;

use super::sql::{Output, Where, run_statement};
use crate::output::Format;
use crate::{Common, Outcome};

#[derive(Args)]
pub struct Arguments {
    #[command(flatten)]
    place: Where,
    #[command(subcommand)]
    action: Action,
}

#[derive(Args)]
struct Dry {
    /// Say what would be done, and do nothing
    #[arg(long)]
    dry_run: bool,
}

/// What is told of a table.
#[derive(Clone, Copy, ValueEnum)]
enum Told {
    Snapshots,
    History,
    Refs,
    Partitions,
    Files,
    Manifests,
    Properties,
}

#[derive(Subcommand)]
enum Action {
    /// How a table is put together
    #[command(after_help = "Example:\n  cobble lake show deep.ops.sailings snapshots")]
    Show {
        table: String,
        #[arg(value_enum, default_value = "snapshots")]
        what: Told,
    },
    /// Give a table that has files already a name in a catalog
    #[command(after_help = "Example:\n  cobble lake adopt ops/old_sailings --into kept.ops.old_sailings")]
    Adopt {
        /// The table's folder, or its last metadata file: as other tools write it, or below the storage's address
        location: String,
        /// Catalog, schema and table
        #[arg(long, value_name = "NAME")]
        into: String,
    },
    /// Make files of Parquet that are there already files of a table, without copying them
    #[command(after_help = "Example:\n  cobble lake add-files deep.ops.boardings exports/2025 --dry-run")]
    AddFiles {
        table: String,
        /// A file or a folder: as other tools write it, or below the storage's address
        location: String,
        #[command(flatten)]
        dry: Dry,
    },
    /// Let a catalog forget a table, whose files stay
    #[command(after_help = "Example:\n  cobble lake release kept.ops.old_sailings")]
    Release { table: String },
    /// Make a branch
    #[command(after_help = "Example:\n  cobble lake branch deep.ops.boardings trial --at old_tariff")]
    Branch {
        table: String,
        name: String,
        /// Snapshot, branch or tag that it begins at; the last state of the table by default
        #[arg(long)]
        at: Option<String>,
        /// In the place of a branch of this name
        #[arg(long)]
        replace: bool,
    },
    /// Give a state a name that stays
    #[command(after_help = "Example:\n  cobble lake tag deep.ops.boardings before_cleaning")]
    Tag {
        table: String,
        name: String,
        /// Snapshot or branch; the last state of the table by default
        #[arg(long)]
        at: Option<String>,
        /// In the place of a tag of this name
        #[arg(long)]
        replace: bool,
    },
    /// Drop a branch or tag
    DropRef { table: String, name: String },
    /// Let a branch have the state of another that goes on from it
    FastForward {
        table: String,
        branch: String,
        /// Branch, tag or snapshot
        #[arg(long)]
        to: String,
    },
    /// Let a table have an earlier state of its own again
    RollBack {
        table: String,
        /// Snapshot or tag
        #[arg(long)]
        to: String,
    },
    /// Add the rows that a state of another branch has added
    CherryPick { table: String, snapshot: i64 },
    /// Put small files together
    #[command(after_help = "Example:\n  cobble lake compact deep.ops.sailings --dry-run")]
    Compact {
        table: String,
        /// Bytes that a file should have
        #[arg(long, value_name = "BYTES")]
        file_bytes: Option<i64>,
        /// Files that a partition must have to be looked at
        #[arg(long, value_name = "FILES")]
        least_files: Option<i64>,
        /// Columns that the rows are ordered by; by default those of the table's own order
        #[arg(long, value_name = "COLUMNS")]
        order_by: Option<String>,
        #[command(flatten)]
        dry: Dry,
    },
    /// Put manifests together, by partitions
    RewriteManifests {
        table: String,
        /// Bytes that a manifest should have
        #[arg(long, value_name = "BYTES")]
        manifest_bytes: Option<i64>,
        #[command(flatten)]
        dry: Dry,
    },
    /// End old states, but for those that have names
    #[command(after_help = "Example:\n  cobble lake expire deep.ops.boardings --older-than 2025-07-01 --dry-run")]
    Expire {
        table: String,
        /// A moment; five days ago by default
        #[arg(long, value_name = "TIME")]
        older_than: Option<String>,
        /// States that each branch keeps at least
        #[arg(long, value_name = "STATES")]
        keep: Option<i64>,
        #[command(flatten)]
        dry: Dry,
    },
    /// Move rows of a table in tiers from the database to the lake, up to a new boundary
    #[command(after_help = "Example:\n  cobble lake move-older trips --to 2025-06-01 --dry-run")]
    MoveOlder {
        table: String,
        /// The first value of the rows that stay in the database
        #[arg(long, value_name = "VALUE")]
        to: String,
        #[command(flatten)]
        dry: Dry,
    },
    /// Remove files that no state has
    #[command(after_help = "Example:\n  cobble lake remove-orphans deep.ops.boardings --dry-run")]
    RemoveOrphans {
        table: String,
        /// A moment; three days ago by default, as younger files may belong to a writer at work
        #[arg(long, value_name = "TIME")]
        older_than: Option<String>,
        #[command(flatten)]
        dry: Dry,
    },
}

/// A call of a procedure under construction.
struct Call(String);

impl Call {
    fn of(procedure: &str, table: &str) -> Call {
        Call::named(&format!("lake_{procedure}"), table)
    }

    fn named(procedure: &str, table: &str) -> Call {
        Call(format!("CALL {procedure}({}", quote_literal(table)))
    }

    fn text(self, name: &str, value: Option<&str>) -> Call {
        match value {
            Some(value) => Call(format!("{}, {name} => {}", self.0, quote_literal(value))),
            None => self,
        }
    }

    fn plain(self, name: &str, value: Option<impl std::fmt::Display>) -> Call {
        match value {
            Some(value) => Call(format!("{}, {name} => {value}", self.0)),
            None => self,
        }
    }

    fn moment(self, name: &str, value: Option<&str>) -> Call {
        self.plain(name, value.map(|value| format!("timestamptz {}", quote_literal(value))))
    }

    fn when(self, name: &str, flag: bool) -> Call {
        self.plain(name, flag.then_some(true))
    }
}

fn statement(action: &Action) -> String {
    let call = match action {
        Action::Show { table, what } => {
            let what = what.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default();
            return format!("SELECT * FROM lake_{what}({})", quote_literal(table));
        }
        Action::Adopt { location, into } => Call::of("adopt", into).text("location", Some(location)),
        Action::Release { table } => Call::of("release", table),
        Action::AddFiles { table, location, dry } => {
            Call::of("add_files", table).text("location", Some(location)).when("dry_run", dry.dry_run)
        }
        Action::Branch { table, name, at, replace } => {
            Call::of("branch", table).text("name", Some(name)).text("at", at.as_deref()).when("replace", *replace)
        }
        Action::Tag { table, name, at, replace } => {
            Call::of("tag", table).text("name", Some(name)).text("at", at.as_deref()).when("replace", *replace)
        }
        Action::DropRef { table, name } => Call::of("drop_ref", table).text("name", Some(name)),
        Action::FastForward { table, branch, to } => {
            Call::of("fast_forward", table).text("branch", Some(branch)).text("to", Some(to))
        }
        Action::RollBack { table, to } => Call::of("roll_back", table).text("to", Some(to)),
        Action::CherryPick { table, snapshot } => Call::of("cherry_pick", table).plain("snapshot", Some(snapshot)),
        Action::Compact { table, file_bytes, least_files, order_by, dry } => Call::of("compact", table)
            .plain("file_bytes", *file_bytes)
            .plain("least_files", *least_files)
            .text("order_by", order_by.as_deref())
            .when("dry_run", dry.dry_run),
        Action::RewriteManifests { table, manifest_bytes, dry } => {
            Call::of("rewrite_manifests", table).plain("manifest_bytes", *manifest_bytes).when("dry_run", dry.dry_run)
        }
        Action::Expire { table, older_than, keep, dry } => Call::of("expire", table)
            .moment("older_than", older_than.as_deref())
            .plain("keep", *keep)
            .when("dry_run", dry.dry_run),
        Action::MoveOlder { table, to, dry } => {
            Call::named("tier_move", table).text("to", Some(to)).when("dry_run", dry.dry_run)
        }
        Action::RemoveOrphans { table, older_than, dry } => {
            Call::of("remove_orphans", table).moment("older_than", older_than.as_deref()).when("dry_run", dry.dry_run)
        }
    };
    format!("{})", call.0)
}

pub async fn run(common: &Common, arguments: Arguments) -> Outcome {
    let mut place = arguments.place.place(common)?;
    let format = if common.json { Format::Json } else { Format::Table };
    let output = Output { format, out: None, talk: false };
    let outcome = run_statement(&mut place, &statement(&arguments.action), &[], &output).await;
    place.end().await;
    outcome
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_become_calls() {
        let adopt = Action::Adopt { location: "ops/it's".into(), into: "kept.ops.t".into() };
        assert_eq!(statement(&adopt), "CALL lake_adopt('kept.ops.t', location => 'ops/it''s')");
        let expire = Action::Expire {
            table: "t".into(),
            older_than: Some("2025-07-01".into()),
            keep: Some(2),
            dry: Dry { dry_run: true },
        };
        let wanted = "CALL lake_expire('t', older_than => timestamptz '2025-07-01', keep => 2, dry_run => true)";
        assert_eq!(statement(&expire), wanted);
        let show = Action::Show { table: "deep.ops.t".into(), what: Told::Refs };
        assert_eq!(statement(&show), "SELECT * FROM lake_refs('deep.ops.t')");
    }
}
