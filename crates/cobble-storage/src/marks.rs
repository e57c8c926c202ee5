//! Marks in the folders of a bucket: names of objects that listings leave out until the mark has gone.

/// Everything in the mark's folder, and below.
pub const HIDES_ALL: &str = ".dropping";
/// Held by whoever makes the table; it hides nothing.
pub const MAKING: &str = ".making";
/// What the names of other marks begin with; what the names of the objects begin with follows.
const HIDES: &str = ".pending-";

/// What a mark hides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Hidden {
    All,
    /// Objects whose names begin so.
    Beginning(String),
}

/// The name of the mark that hides objects whose names begin so.
pub fn hiding(beginning: &str) -> String {
    format!("{HIDES}{beginning}")
}

/// What an object of this name hides, if it is a mark.
pub fn hidden_by(name: &str) -> Option<Hidden> {
    match name {
        HIDES_ALL => Some(Hidden::All),
        name => name.strip_prefix(HIDES).filter(|own| !own.is_empty()).map(|own| Hidden::Beginning(own.to_owned())),
    }
}

impl Hidden {
    pub fn hides(&self, name: &str) -> bool {
        match self {
            Hidden::All => true,
            // A number or the ending of the name follows.
            Hidden::Beginning(own) => {
                name.strip_prefix(own.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with(['-', '.']))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_hide_what_they_name() {
        assert_eq!(hidden_by("part-1.parquet"), None);
        assert_eq!(hidden_by(".pending-"), None);
        assert!(hidden_by(HIDES_ALL).unwrap().hides("anything"));
        let own = hidden_by(&hiding("part-1f-2-0")).unwrap();
        for (name, is_hidden) in [
            ("part-1f-2-0.parquet", true),
            ("part-1f-2-0-1.parquet", true),
            ("part-1f-2-01.parquet", false),
            ("part-1f-2.parquet", false),
            ("other.parquet", false),
        ] {
            assert_eq!(own.hides(name), is_hidden, "{name}");
        }
    }
}
