//! Which requests are answered: those that name this service as their host and are not made by a page of another site. `Host` gives away
//! a page that rebinds its name to the loopback address; `Origin` (RFC 6454) and `Sec-Fetch-Site` (W3C, Fetch Metadata Request Headers)
//! give away all others. Programs send only `Host`.

use cobble_types::{Code, Error};
use rocket::fairing::{Fairing, Info, Kind};
use rocket::http::Method;
use rocket::request::{FromRequest, Outcome, Request};
use rocket::{Data, Route, get, routes, uri};

use super::errors::ApiError;

/// The host names of the service, with ports.
pub struct OwnSite {
    hosts: Vec<String>,
}

impl OwnSite {
    /// The loopback names with this port, and further ones: a name, with a port if it is not the scheme's own.
    pub fn new(port: u16, further: &[String]) -> OwnSite {
        let loopback = ["127.0.0.1", "localhost"].map(|name| format!("{name}:{port}"));
        OwnSite { hosts: loopback.into_iter().chain(further.iter().cloned()).collect() }
    }

    fn is_own(&self, host: &str) -> bool {
        self.hosts.iter().any(|own| own.eq_ignore_ascii_case(host))
    }

    /// A page's origin: a scheme and one of the hosts.
    fn is_own_origin(&self, origin: &str) -> bool {
        let host = origin.strip_prefix("http://").or_else(|| origin.strip_prefix("https://"));
        host.is_some_and(|host| self.is_own(host))
    }

    /// Why a request is refused, if it is.
    fn refusal(&self, request: &Request<'_>) -> Option<Error> {
        let refused = |what: String, hint: String| Some(Error::new(Code::NotAllowed, what).hint(hint));
        let headers = |name: &str| request.headers().get(name).collect::<Vec<&str>>();
        let hosts = headers("host");
        let [host] = hosts.as_slice() else {
            return refused("the request names no host".into(), "send one Host header".into());
        };
        if !self.is_own(host) {
            let own = self.hosts.first().map_or("", String::as_str);
            let hint = format!("use http://{own}; allow another name with: cobble up --host NAME");
            return refused(format!("this service is not known as \"{host}\""), hint);
        }
        let only_own = || "only the console and programs may call the service".to_owned();
        if let Some(origin) = headers("origin").into_iter().find(|origin| !self.is_own_origin(origin)) {
            return refused(format!("pages of {origin} may not call this service"), only_own());
        }
        let of_api = request.uri().path().segments().get(0) == Some("api");
        // A link from elsewhere may open a page of the console.
        let is_opened = request.method() == Method::Get
            && !of_api
            && headers("sec-fetch-mode") == ["navigate"]
            && headers("sec-fetch-dest") == ["document"];
        let from_elsewhere = headers("sec-fetch-site").iter().any(|site| !matches!(*site, "same-origin" | "none"));
        if from_elsewhere && !is_opened {
            return refused("pages of other sites may not call this service".into(), only_own());
        }
        // Browsers send forms without asking the service first, and Rocket lets a form change the method of its request.
        let is_form =
            request.content_type().is_some_and(|kind| kind.is_form() || kind.is_form_data() || kind.is_plain());
        if of_api && is_form {
            let hint = "send JSON, with the header Content-Type: application/json";
            return refused("forms and plain text are not accepted".into(), hint.into());
        }
        None
    }
}

#[rocket::async_trait]
impl Fairing for OwnSite {
    fn info(&self) -> Info {
        Info { name: "own site", kind: Kind::Request }
    }

    async fn on_request(&self, request: &mut Request<'_>, _: &mut Data<'_>) {
        if let Some(error) = self.refusal(request) {
            request.local_cache(|| Some(Refusal(error)));
            if request.method() != Method::Head {
                request.set_method(Method::Get);
            }
            request.set_uri(uri!("/api/refused"));
        }
    }
}

/// Why this request is refused.
#[derive(Clone)]
struct Refusal(Error);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Refusal {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match request.local_cache(|| None::<Refusal>) {
            Some(refusal) => Outcome::Success(refusal.clone()),
            None => Outcome::Forward(rocket::http::Status::NotFound),
        }
    }
}

/// Where refused requests end.
#[get("/api/refused")]
fn refused(why: Refusal) -> ApiError {
    why.0.into()
}

pub fn routes() -> Vec<Route> {
    routes![refused]
}

#[cfg(test)]
mod tests {
    use rocket::http::{ContentType, Header, Status};
    use rocket::local::blocking::Client;
    use rocket::{delete, post};

    use super::*;

    #[get("/api/v1/runs")]
    fn list() -> &'static str {
        "runs"
    }

    #[delete("/api/v1/runs")]
    fn drop_all() -> &'static str {
        "dropped"
    }

    #[post("/api/v1/runs")]
    fn begin() -> &'static str {
        "begun"
    }

    #[get("/<_..>", rank = 9)]
    fn page() -> &'static str {
        "page"
    }

    fn client() -> Client {
        let rocket = rocket::custom(rocket::Config { log_level: rocket::config::LogLevel::Off, ..Default::default() })
            .attach(OwnSite::new(7300, &["Lane.example".into()]))
            .mount("/", routes())
            .mount("/", routes![list, drop_all, begin, page]);
        Client::untracked(rocket).unwrap()
    }

    fn asked(client: &Client, method: Method, path: &str, headers: &[(&'static str, &'static str)]) -> (u16, String) {
        let mut request = client.req(method, path.to_owned());
        for (name, value) in headers {
            request.add_header(Header::new(*name, *value));
        }
        let answer = request.dispatch();
        (answer.status().code, answer.into_string().unwrap_or_default())
    }

    const OWN: (&str, &str) = ("host", "127.0.0.1:7300");

    #[test]
    fn programs_and_the_console_are_answered() {
        let client = client();
        for headers in [
            &[OWN][..],
            &[("host", "localhost:7300")],
            &[("host", "LOCALHOST:7300")],
            &[("host", "lane.example"), ("origin", "https://lane.example")],
            &[OWN, ("origin", "http://127.0.0.1:7300"), ("sec-fetch-site", "same-origin")],
            // An address that was typed.
            &[OWN, ("sec-fetch-site", "none")],
        ] {
            assert_eq!(asked(&client, Method::Get, "/api/v1/runs", headers), (200, "runs".into()), "{headers:?}");
        }
        let json = [OWN, ("content-type", "application/json")];
        assert_eq!(asked(&client, Method::Post, "/api/v1/runs", &json), (200, "begun".into()));
        let link =
            [OWN, ("sec-fetch-site", "cross-site"), ("sec-fetch-mode", "navigate"), ("sec-fetch-dest", "document")];
        assert_eq!(asked(&client, Method::Get, "/runs/7", &link), (200, "page".into()));
    }

    #[test]
    fn other_names_and_pages_of_other_sites_are_refused() {
        let client = client();
        for (method, path, headers, what) in [
            // A name that was rebound to the loopback address, and one that only looks alike.
            (Method::Get, "/api/v1/runs", &[("host", "tides.example:7300")][..], "not known as \"tides.example:7300\""),
            (Method::Get, "/", &[("host", "tides.example:7300")], "not known as"),
            (Method::Get, "/api/v1/runs", &[("host", "127.0.0.1")], "not known as"),
            (Method::Get, "/api/v1/runs", &[("host", "127.0.0.1:7301")], "not known as"),
            (Method::Get, "/api/v1/runs", &[("host", "user@127.0.0.1:7300")], "not known as"),
            (Method::Get, "/api/v1/runs", &[("host", "127.0.0.1:7300"), ("host", "tides.example")], "no host"),
            (Method::Get, "/api/v1/runs", &[], "no host"),
            (Method::Get, "/api/v1/runs", &[OWN, ("origin", "http://tides.example")], "pages of http://tides.example"),
            (Method::Get, "/api/v1/runs", &[OWN, ("origin", "null")], "pages of null"),
            (Method::Get, "/api/v1/runs", &[OWN, ("origin", "ftp://127.0.0.1:7300")], "pages of ftp"),
            // Another port of this machine is another origin, but the same site.
            (Method::Get, "/api/v1/runs", &[OWN, ("origin", "http://127.0.0.1:8080")], "pages of"),
            (Method::Get, "/api/v1/runs", &[OWN, ("sec-fetch-site", "same-site")], "other sites"),
            (Method::Get, "/api/v1/runs", &[OWN, ("sec-fetch-site", "cross-site")], "other sites"),
            // No link leads to a call, and no picture or frame to a page.
            (
                Method::Get,
                "/api/v1/runs",
                &[
                    OWN,
                    ("sec-fetch-site", "cross-site"),
                    ("sec-fetch-mode", "navigate"),
                    ("sec-fetch-dest", "document"),
                ],
                "other sites",
            ),
            (
                Method::Get,
                "/runs/7",
                &[OWN, ("sec-fetch-site", "cross-site"), ("sec-fetch-mode", "navigate"), ("sec-fetch-dest", "iframe")],
                "other sites",
            ),
            (
                Method::Get,
                "/a.js",
                &[OWN, ("sec-fetch-site", "cross-site"), ("sec-fetch-mode", "no-cors")],
                "other sites",
            ),
            (Method::Options, "/api/v1/runs", &[OWN, ("origin", "http://tides.example")], "pages of"),
            (Method::Post, "/api/v1/runs", &[OWN, ("content-type", "text/plain")], "forms and plain text"),
            (Method::Post, "/api/v1/runs", &[OWN, ("content-type", "multipart/form-data; boundary=x")], "forms"),
        ] {
            let (status, body) = asked(&client, method, path, headers);
            let body = body.replace("\\\"", "\"");
            assert!(status == 403 && body.contains(what), "{method} {path} {headers:?}: {status} {body}");
        }
    }

    /// The framework reads another method from a form, and does so before any route is chosen.
    #[test]
    fn a_form_changes_no_method() {
        let client = client();
        let request = client.post("/api/v1/runs").header(ContentType::Form).header(Header::new(OWN.0, OWN.1));
        let answer = request.body("_method=DELETE").dispatch();
        assert_eq!(answer.status(), Status::Forbidden);
        assert!(answer.into_string().unwrap().contains("forms and plain text are not accepted"));
    }

    #[test]
    fn nobody_is_led_to_the_refusal_itself() {
        let (status, _) = asked(&client(), Method::Get, "/api/refused", &[OWN]);
        // Here the next route answers; in the service there is none.
        assert_eq!(status, 200);
    }
}
