//! How the values of a text file are written, as far as somebody has said it.

use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(default)]
pub struct TextForm {
    /// What stands between fields: one ASCII character, like the three below.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delimiter: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quote: Option<String>,
    /// What stands before a quote that is part of a quoted text; a second quote does in any case.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub escape: Option<String>,
    /// Lines that begin with it are left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// Whether the first line names the columns.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub header: Option<bool>,
    /// A name of the WHATWG Encoding Standard, such as `windows-1252`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
    /// What begins the fraction of a number, and what stands between groups of three digits.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub decimal: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub thousands: Option<String>,
    /// How dates are written, such as `DD.MM.YYYY`; a time of day may follow.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dates: Option<String>,
    /// Words that stand for null, with commas between them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub nulls: Option<String>,
}

impl TextForm {
    /// True when nothing is said.
    pub fn is_silent(&self) -> bool {
        *self == TextForm::default()
    }
}
