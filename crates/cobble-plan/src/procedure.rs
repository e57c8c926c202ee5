//! What CALL does with a table: the procedures with their parameters, and a call of one as its source gets it.

use std::collections::BTreeMap;

use cobble_types::{Code, Error, Result, SqlType, Value};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Procedure {
    /// Makes a branch, or lets one that is there begin anew.
    Branch,
    Tag,
    DropRef,
    /// Lets a branch have the state of another that goes on from it.
    FastForward,
    /// Lets the table have an earlier state of its own again.
    RollBack,
    /// Adds the rows that a state of another branch has added.
    CherryPick,
    /// Puts small files together.
    Compact,
    RewriteManifests,
    /// Ends states that nobody needs.
    Expire,
    /// Removes files that no state has.
    RemoveOrphans,
    /// Gives a table that has files already a name in a catalog.
    Adopt,
    /// Lets a catalog forget a table, whose files stay.
    Release,
    /// Makes files that are there already files of the table, where they are.
    AddFiles,
    /// Moves rows of a table in tiers to its older side. Done by the engine itself.
    MoveTier,
}

/// A parameter: its name, its type and whether it may be left out.
pub type Parameter = (&'static str, SqlType, bool);

const ALL: [(&str, Procedure); 14] = [
    ("lake_branch", Procedure::Branch),
    ("lake_tag", Procedure::Tag),
    ("lake_drop_ref", Procedure::DropRef),
    ("lake_fast_forward", Procedure::FastForward),
    ("lake_roll_back", Procedure::RollBack),
    ("lake_cherry_pick", Procedure::CherryPick),
    ("lake_compact", Procedure::Compact),
    ("lake_rewrite_manifests", Procedure::RewriteManifests),
    ("lake_expire", Procedure::Expire),
    ("lake_remove_orphans", Procedure::RemoveOrphans),
    ("lake_adopt", Procedure::Adopt),
    ("lake_release", Procedure::Release),
    ("lake_add_files", Procedure::AddFiles),
    ("tier_move", Procedure::MoveTier),
];

impl Procedure {
    /// # Errors
    /// When there is none of this name.
    pub fn of_name(name: &str) -> Result<Procedure> {
        let found = ALL.iter().find(|(own, _)| *own == name).map(|(_, procedure)| *procedure);
        found.ok_or_else(|| Error::unknown("procedure", name, ALL.iter().map(|(own, _)| *own)))
    }

    pub fn name(self) -> &'static str {
        ALL.iter().find(|(_, own)| *own == self).map_or("", |(name, _)| name)
    }

    /// Behind the table, which comes first.
    pub fn parameters(self) -> Vec<Parameter> {
        let needed = |name| (name, SqlType::Text, false);
        let text = |name| (name, SqlType::Text, true);
        let flag = |name| (name, SqlType::Boolean, true);
        let number = |name| (name, SqlType::BigInt, true);
        match self {
            Procedure::Branch | Procedure::Tag => vec![needed("name"), text("at"), flag("replace")],
            Procedure::DropRef => vec![needed("name")],
            Procedure::FastForward => vec![needed("branch"), needed("to")],
            Procedure::RollBack => vec![needed("to")],
            Procedure::CherryPick => vec![("snapshot", SqlType::BigInt, false)],
            Procedure::Compact => {
                vec![number("file_bytes"), number("least_files"), text("order_by"), flag("dry_run")]
            }
            Procedure::RewriteManifests => vec![number("manifest_bytes"), flag("dry_run")],
            Procedure::Expire => {
                vec![("older_than", SqlType::TimestampTz, true), number("keep"), flag("dry_run")]
            }
            Procedure::RemoveOrphans => vec![("older_than", SqlType::TimestampTz, true), flag("dry_run")],
            Procedure::Adopt => vec![needed("location")],
            Procedure::Release => vec![],
            Procedure::AddFiles => vec![needed("location"), flag("dry_run")],
            Procedure::MoveTier => vec![needed("to"), flag("dry_run")],
        }
    }
}

/// A call, with the arguments that were given.
#[derive(Debug, Clone)]
pub struct ProcedureCall {
    pub procedure: Procedure,
    pub arguments: BTreeMap<&'static str, Value>,
}

impl ProcedureCall {
    pub fn text(&self, name: &str) -> Option<&str> {
        match self.arguments.get(name) {
            Some(Value::Text(text)) => Some(text),
            _ => None,
        }
    }

    /// # Errors
    /// When it is missing or null.
    pub fn needed(&self, name: &str) -> Result<&str> {
        self.text(name).ok_or_else(|| self.missing(name))
    }

    pub fn number(&self, name: &str) -> Option<i64> {
        match self.arguments.get(name) {
            Some(Value::BigInt(number)) => Some(*number),
            _ => None,
        }
    }

    pub fn flag(&self, name: &str) -> bool {
        self.arguments.get(name) == Some(&Value::Boolean(true))
    }

    /// In microseconds since 1970-01-01 UTC.
    pub fn moment(&self, name: &str) -> Option<i64> {
        match self.arguments.get(name) {
            Some(Value::TimestampTz(at)) => Some(*at),
            _ => None,
        }
    }

    fn missing(&self, name: &str) -> Error {
        Error::new(Code::Syntax, format!("{} needs a value for {name}", self.procedure.name()))
    }
}
