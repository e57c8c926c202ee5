//! The web console's files, part of the program in release builds and read from their folder in debug builds.

use std::borrow::Cow;
use std::path::PathBuf;

use rocket::http::{ContentType, Header};
use rocket::{Responder, Route, get, routes};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

#[derive(Responder)]
struct File {
    body: Cow<'static, [u8]>,
    kind: ContentType,
    cache: Header<'static>,
}

const NOT_BUILT: &str = "<!doctype html><title>Cobble Lane</title><p>The console has not been built. Run <code>make console</code> and start again.";

#[get("/<path..>", rank = 20)]
fn file(path: PathBuf) -> Option<File> {
    // A call that does not exist is an error, not a page.
    if path.starts_with("api") {
        return None;
    }
    let name = path.to_string_lossy();
    // Any path that is no file is a page of the console, which finds its way by the URL.
    let (name, found) = match Files::get(&name).filter(|_| !name.is_empty()) {
        Some(found) => (name.into_owned(), Some(found)),
        None => ("index.html".to_owned(), Files::get("index.html")),
    };
    let kind = name.rsplit('.').next().and_then(ContentType::from_extension).unwrap_or(ContentType::Binary);
    // Names below assets/ hold a hash of their content.
    let cache = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    Some(File {
        body: found.map_or(Cow::Borrowed(NOT_BUILT.as_bytes()), |f| f.data),
        kind,
        cache: Header::new("Cache-Control", cache),
    })
}

pub fn routes() -> Vec<Route> {
    routes![file]
}
