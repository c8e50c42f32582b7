//! A fan controller with a web interface: zones, each with a fan that is on or off and has a level.

use std::collections::BTreeMap;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex};

use http_body_util::{BodyExt, Limited};
use hyper::body::{Bytes, Incoming};
use hyper::header::{CONTENT_TYPE, HeaderValue};
use hyper::{Method, Request, StatusCode};
use serde::Serialize;
use tokio::net::TcpListener;

use crate::http_server::{self, Reply, RequestOrigin, may_be_of_page};

/// The longest body, in bytes.
const LONGEST: usize = 1024;

/// One zone.
#[derive(Debug, Clone, Serialize)]
struct Zone {
    fan: &'static str,
    level: u32,
}

type Zones = BTreeMap<String, Zone>;

/// Runs the controller on a local port until the process ends. `ready` is called with its address,
/// `changed` with a description of each change.
///
/// # Errors
/// When the port cannot be used.
pub fn serve_fans(
    port: u16,
    zones: &[String],
    ready: impl FnOnce(SocketAddr),
    changed: impl Fn(&str) + Send + Sync + 'static,
) -> io::Result<()> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let off = |name: &String| (name.clone(), Zone { fan: "off", level: 30 });
    let controller =
        Arc::new(Controller { zones: Mutex::new(zones.iter().map(off).collect()), changed });
    runtime.block_on(async {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, port)).await?;
        ready(listener.local_addr()?);
        http_server::serve(listener, move |caller, request| {
            let controller = Arc::clone(&controller);
            async move { controller.receive(&caller, request).await }
        })
        .await;
        Ok(())
    })
}

struct Controller<C> {
    zones: Mutex<Zones>,
    changed: C,
}

impl<C: Fn(&str)> Controller<C> {
    async fn receive(&self, caller: &RequestOrigin, request: Request<Incoming>) -> Reply {
        let (head, body) = request.into_parts();
        if may_be_of_page(&head.headers) {
            return plain(StatusCode::FORBIDDEN, "pages of others may do nothing here");
        }
        let body = match Limited::new(body, LONGEST).collect().await {
            Ok(body) => {
                caller.accept();
                body.to_bytes()
            }
            Err(_) => return plain(StatusCode::PAYLOAD_TOO_LARGE, "that is too long"),
        };
        let body = String::from_utf8_lossy(&body).trim().trim_matches('"').to_owned();
        let path: Vec<&str> = head.uri.path().trim_matches('/').split('/').collect();
        let mut zones = self.zones.lock().expect("no thread panics while it holds this");
        match (&head.method, path.as_slice()) {
            (&Method::GET, [""]) => reply(StatusCode::OK, "text/html; charset=utf-8", page(&zones)),
            (&Method::GET, ["state"]) => json(&*zones),
            (&Method::GET, ["zones", name]) => match zones.get(*name) {
                Some(zone) => json(zone),
                None => plain(StatusCode::NOT_FOUND, &format!("no zone is called {name}")),
            },
            (&Method::PUT | &Method::POST, ["zones", name, part]) => {
                let Some(zone) = zones.get_mut(*name) else {
                    return plain(StatusCode::NOT_FOUND, &format!("no zone is called {name}"));
                };
                match zone.set(part, &body) {
                    Ok(words) => {
                        (self.changed)(&format!("{name} {words}"));
                        json(&*zone)
                    }
                    Err((status, why)) => plain(status, why),
                }
            }
            _ => plain(StatusCode::NOT_FOUND, "nothing is there"),
        }
    }
}

impl Zone {
    fn set(&mut self, part: &str, body: &str) -> Result<String, (StatusCode, &'static str)> {
        match (part, body) {
            ("fan", "on") => self.fan = "on",
            ("fan", "off") => self.fan = "off",
            ("fan", "toggle") => self.fan = if self.fan == "on" { "off" } else { "on" },
            ("fan", _) => {
                return Err((StatusCode::BAD_REQUEST, "a fan takes on, off or toggle"));
            }
            ("level", text) => match text.trim_end_matches('%').trim().parse::<u32>() {
                Ok(level) if level <= 100 => self.level = level,
                _ => return Err((StatusCode::BAD_REQUEST, "a level is a number up to 100")),
            },
            _ => return Err((StatusCode::NOT_FOUND, "a zone has a fan and a level")),
        }
        Ok(match part {
            "fan" => format!("fan {}", self.fan),
            _ => format!("level {}", self.level),
        })
    }
}

fn plain(status: StatusCode, words: &str) -> Reply {
    reply(status, "text/plain; charset=utf-8", format!("{words}\n"))
}

fn json(data: &impl Serialize) -> Reply {
    let text = serde_json::to_string(data).expect("it is plain data");
    reply(StatusCode::OK, "application/json", text + "\n")
}

fn reply(status: StatusCode, kind: &'static str, text: String) -> Reply {
    let mut reply = Reply::new(Bytes::from(text).into());
    *reply.status_mut() = status;
    reply.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    reply
}

/// The state as a page that reloads automatically.
fn page(zones: &Zones) -> String {
    let mut rows = String::new();
    for (name, Zone { fan, level }) in zones {
        let name = name.replace('&', "&amp;").replace('<', "&lt;");
        rows.push_str(&format!(
            "<section class=\"{fan}\"><h2>{name}</h2><p class=\"fan\">{fan}</p>\
             <meter min=\"0\" max=\"100\" value=\"{level}\"></meter><p>{level} %</p></section>\n"
        ));
    }
    format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>Fans</title>\n\
         <meta http-equiv=\"refresh\" content=\"1\"><style>\n\
         body {{ font: 18px sans-serif; margin: 2.5rem; background: #f4f6f8; color: #1d2733 }}\n\
         main {{ display: flex; flex-wrap: wrap; gap: 1.25rem }}\n\
         section {{ background: #fff; border-radius: 10px; border-top: 8px solid #aab4bf;\n\
           padding: 0.75rem 1.5rem; min-width: 11rem }}\n\
         section.on {{ border-color: #1f8a5b }} h2 {{ margin: 0.25rem 0 }}\n\
         .fan {{ font-size: 2rem; font-weight: bold; margin: 0.25rem 0; color: #7a8590 }}\n\
         .on .fan {{ color: #1f8a5b }} meter {{ width: 100% }}\n\
         </style></head><body><h1>Fans of the core store</h1>\n<main>\n{rows}</main></body></html>\n"
    )
}
