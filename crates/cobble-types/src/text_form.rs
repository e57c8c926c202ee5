//! How the values of a text file are written, as far as somebody has said it.

use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(default)]
pub struct TextForm {
    /// What stands between fields: one ASCII character, like the three below.
    pub delimiter: Option<String>,
    pub quote: Option<String>,
    /// What stands before a quote that is part of a quoted text; a second quote does in any case.
    pub escape: Option<String>,
    /// Lines that begin with it are left out.
    pub comment: Option<String>,
    /// Whether the first line names the columns.
    pub header: Option<bool>,
    /// A name of the WHATWG Encoding Standard, such as `windows-1252`.
    pub encoding: Option<String>,
    /// What begins the fraction of a number, and what stands between groups of three digits.
    pub decimal: Option<String>,
    pub thousands: Option<String>,
    /// How dates are written, such as `DD.MM.YYYY`; a time of day may follow.
    pub dates: Option<String>,
    /// Words that stand for null, with commas between them.
    pub nulls: Option<String>,
}

impl TextForm {
    /// True when nothing is said.
    pub fn is_silent(&self) -> bool {
        *self == TextForm::default()
    }
}
