//! A device whose engine answers requests, without a network.

#[path = "../../../yadori-engine/tests/engine/support.rs"]
#[expect(dead_code, reason = "the engine's own tests use more of it")]
mod support;

use axum::Router;
use axum::body::{Body, to_bytes};
use axum::http::{Request, Response, header};
use std::path::Path;
use std::sync::Arc;
pub use support::Device;
use tower::ServiceExt;
use yadori_api::{Problem, ProblemKind};
use yadorid::http::Interface;
use yadorid::http::auth::Authenticator;
use yadorid::service::Service;
use yadorid::vault::{OUTSIDE, Vault};

const ADDRESS: ([u8; 4], u16) = ([127, 0, 0, 1], 7436);

/// A device whose engine answers requests.
pub struct Answering {
    pub device: Device,
    pub router: Router,
    pub token: String,
}

impl Answering {
    pub async fn new() -> Self {
        let device = Device::new("workshop").await;
        let authenticator = Arc::new(Authenticator::new(ADDRESS.into(), &[]).unwrap());
        let places = yadori_files::Places::under(Path::new("/nowhere"));
        let (vault, _) = Vault::find(&places, Some(OUTSIDE)).await.unwrap();
        let service = Service::new(device.engine.clone(), authenticator, Arc::new(vault), None);
        let token = service.token().to_owned();
        Self { device, router: Interface::new(service).router(), token }
    }

    pub async fn send(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Response<Body> {
        let mut request = Request::builder().method(method).uri(path).header(header::HOST, "127.0.0.1:7436");
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        self.router.clone().oneshot(request.body(Body::from(body.to_vec())).unwrap()).await.unwrap()
    }

    /// The problem with a request that carries the token.
    pub async fn problem(&self, method: &str, path: &str, mime: &str, body: &[u8]) -> (u16, ProblemKind) {
        let bearer = format!("Bearer {}", self.token);
        let path = format!("/api/v1{path}");
        problem(self.send(method, &path, &[("authorization", &bearer), ("content-type", mime)], body).await).await
    }

    pub async fn send_body(&self, path: &str, mime: &str, body: Body) -> Response<Body> {
        let request = Request::post(format!("/api/v1{path}")).header(header::HOST, "127.0.0.1:7436");
        let request = request.header("authorization", format!("Bearer {}", self.token)).header("content-type", mime);
        self.router.clone().oneshot(request.body(body).unwrap()).await.unwrap()
    }

    pub async fn json(&self, path: &str, body: &str) -> (u16, ProblemKind) {
        self.problem("POST", path, "application/json", body.as_bytes()).await
    }
}

/// The problem that an answer is.
pub async fn problem(answer: Response<Body>) -> (u16, ProblemKind) {
    let (parts, body) = answer.into_parts();
    assert_eq!(parts.headers[header::CONTENT_TYPE], "application/problem+json");
    let problem: Problem = serde_json::from_slice(&to_bytes(body, 1 << 20).await.unwrap()).unwrap();
    assert_eq!(problem.status, parts.status.as_u16());
    assert!(!problem.title.is_empty() && !problem.detail.is_empty());
    (problem.status, problem.kind)
}
