//! Calls of the open protocol for catalogs of lake tables (Iceberg REST catalog specification), without the web server that takes them.

use serde_json::{Value as Json, json};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verb {
    Get,
    Head,
    Post,
    Delete,
}

#[derive(Debug, Clone)]
pub struct CatalogCall {
    pub verb: Verb,
    /// The parts of the path behind the prefix, decoded.
    pub path: Vec<String>,
    pub query: Vec<(String, String)>,
    pub body: Json,
    /// Whether keys of the storage are asked for.
    pub wants_keys: bool,
    /// The state that the caller knows already.
    pub known: Option<String>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct CatalogAnswer {
    /// As of HTTP.
    pub status: u16,
    pub body: Option<Json>,
    /// Which state it tells of.
    pub state: Option<String>,
}

impl CatalogCall {
    pub fn asked(&self, name: &str) -> Option<&str> {
        self.query.iter().find(|(own, _)| own == name).map(|(_, value)| value.as_str())
    }
}

impl CatalogAnswer {
    pub fn of(body: Json) -> CatalogAnswer {
        CatalogAnswer { status: 200, body: Some(body), state: None }
    }

    /// Of a call that asks for nothing back.
    pub fn done() -> CatalogAnswer {
        CatalogAnswer { status: 204, body: None, state: None }
    }

    /// What went wrong, with the protocol's word for it.
    pub fn fault(status: u16, kind: &str, message: &str) -> CatalogAnswer {
        let body = json!({ "error": { "message": message, "type": kind, "code": status } });
        CatalogAnswer { status, body: Some(body), state: None }
    }
}
