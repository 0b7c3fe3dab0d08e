//! Finding the service and asking it.

use crate::failure::Failure;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::path::{Path, PathBuf};
use std::time::Duration;
use ureq::http::{Request, Response};
use ureq::{Agent, Body};
use yadori_api::places::Places;
use yadori_api::{BASE, Problem, Reach};

/// Longest that an answer may take; recalling a large picture is the slowest.
const PATIENCE: Duration = Duration::from_secs(60);

/// The folders of the instance.
pub fn places(home: Option<&Path>) -> Result<Places, Failure> {
    Places::find(home, |name| std::env::var_os(name).map(PathBuf::from)).ok_or_else(|| {
        Failure::Here("there is no home folder (HOME is not set); name the service's folder with --home".into())
    })
}

/// A service that has said how to reach it.
pub struct Service {
    agent: Agent,
    reach: Reach,
    /// The command that starts it.
    start: String,
}

impl Service {
    /// The service of this home.
    pub fn find(home: Option<&Path>) -> Result<Self, Failure> {
        let path = places(home)?.reach();
        let with = home.map(|home| format!(" --home {}", home.display())).unwrap_or_default();
        let start = format!("yadorid{with}");
        let text = std::fs::read(&path).map_err(|error| match error.kind() {
            std::io::ErrorKind::NotFound => {
                let whose = if with.is_empty() { String::new() } else { format!(" with{with}") };
                Failure::Unreachable {
                    message: format!("the service isn't running{whose}, so nothing is being kept"),
                    start: start.clone(),
                }
            }
            _ => Failure::Here(format!("{} cannot be read: {error}", path.display())),
        })?;
        let reach = serde_json::from_slice(&text)
            .map_err(|error| Failure::Here(format!("{} is damaged: {error}", path.display())))?;
        let agent = Agent::config_builder()
            .timeout_global(Some(PATIENCE))
            .http_status_as_error(false)
            .proxy(None)
            .build()
            .new_agent();
        Ok(Self { agent, reach, start })
    }

    fn send(&self, method: &str, path: &str, kind: Option<&str>, body: &[u8]) -> Result<Response<Body>, Failure> {
        let request = self.request(method, path, kind);
        let response = if method != "GET" {
            request
                .body(body)
                .map_err(|error| Failure::Usage(error.to_string()))
                .and_then(|request| self.agent.run(request).map_err(|error| self.away(error)))
        } else {
            request
                .body(())
                .map_err(|error| Failure::Usage(error.to_string()))
                .and_then(|request| self.agent.run(request).map_err(|error| self.away(error)))
        }?;
        if response.status().is_success() { Ok(response) } else { Err(problem(response)) }
    }

    /// Asks for something.
    pub fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        read(self.send("GET", path, None, &[])?)
    }

    /// Asks for something with parameters.
    pub fn get_with<T: DeserializeOwned>(&self, path: &str, parameters: &impl Serialize) -> Result<T, Failure> {
        self.get(&format!("{path}{}", query(parameters)))
    }

    /// Asks for bytes, which may be many.
    pub fn get_bytes(&self, path: &str, parameters: &impl Serialize) -> Result<ureq::BodyReader<'static>, Failure> {
        Ok(self.send("GET", &format!("{path}{}", query(parameters)), None, &[])?.into_body().into_reader())
    }

    /// Asks for something to be done.
    pub fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        let body = serde_json::to_vec(body).map_err(|error| Failure::Here(error.to_string()))?;
        read(self.send("POST", path, Some("application/json"), &body)?)
    }

    /// Asks for something to be done, with parameters.
    pub fn post_with<T: DeserializeOwned>(&self, path: &str, parameters: &impl Serialize) -> Result<T, Failure> {
        read(self.send("POST", &format!("{path}{}", query(parameters)), None, &[])?)
    }

    /// Asks for something to be changed.
    pub fn patch<T: DeserializeOwned>(&self, path: &str, change: &impl Serialize) -> Result<T, Failure> {
        let change = serde_json::to_vec(change).map_err(|error| Failure::Here(error.to_string()))?;
        read(self.send("PATCH", path, Some("application/json"), &change)?)
    }

    /// Asks for an export, however long it takes: how many clips it has, how many were left out, and its bytes.
    pub fn get_stream(
        &self,
        path: &str,
        parameters: &impl Serialize,
    ) -> Result<(u64, u64, ureq::BodyReader<'static>), Failure> {
        let request = self.request("GET", &format!("{path}{}", query(parameters)), None);
        let request = request.body(()).map_err(|error| Failure::Usage(error.to_string()))?;
        let response = self.patient().run(request).map_err(|error| self.away(error))?;
        if !response.status().is_success() {
            return Err(problem(response));
        }
        let number =
            |name: &str| response.headers().get(name).and_then(|value| value.to_str().ok()?.parse().ok()).unwrap_or(0);
        let (clips, left_out) = (number("x-yadori-clips"), number("x-yadori-left-out"));
        Ok((clips, left_out, response.into_body().into_reader()))
    }

    /// Sends what is read from `content`, however long it takes; gives the answer as it comes.
    pub fn post_stream(
        &self,
        path: &str,
        kind: &str,
        content: impl std::io::Read,
    ) -> Result<ureq::BodyReader<'static>, Failure> {
        let mut content = content;
        let request = self.request("POST", path, Some(kind));
        let request = request
            .body(ureq::SendBody::from_reader(&mut content))
            .map_err(|error| Failure::Usage(error.to_string()))?;
        let response = self.patient().run(request).map_err(|error| self.away(error))?;
        if !response.status().is_success() {
            return Err(problem(response));
        }
        Ok(response.into_body().into_reader())
    }

    /// Asks for something that goes on for as long as the service likes.
    pub fn stream(&self, path: &str) -> Result<ureq::BodyReader<'static>, Failure> {
        let request = self.request("GET", path, None).body(()).map_err(|error| Failure::Usage(error.to_string()))?;
        let response = self.patient().run(request).map_err(|error| self.away(error))?;
        if response.status().is_success() { Ok(response.into_body().into_reader()) } else { Err(problem(response)) }
    }

    /// An agent that waits for as long as it takes.
    fn patient(&self) -> Agent {
        Agent::config_builder().http_status_as_error(false).proxy(None).build().new_agent()
    }

    fn request(&self, method: &str, path: &str, kind: Option<&str>) -> ureq::http::request::Builder {
        let request = Request::builder()
            .method(method)
            .uri(format!("http://{}{BASE}{path}", self.reach.address))
            .header("authorization", format!("Bearer {}", self.reach.token));
        match kind {
            Some(kind) => request.header("content-type", kind),
            None => request,
        }
    }

    /// Asks for something to be removed.
    pub fn delete_with<T: DeserializeOwned>(&self, path: &str, parameters: &impl Serialize) -> Result<T, Failure> {
        read(self.send("DELETE", &format!("{path}{}", query(parameters)), None, &[])?)
    }

    /// Gives content to put in the place of other content.
    pub fn put_content<T: DeserializeOwned>(
        &self,
        path: &str,
        parameters: &impl Serialize,
        kind: &str,
        content: &[u8],
    ) -> Result<T, Failure> {
        read(self.send("PUT", &format!("{path}{}", query(parameters)), Some(kind), content)?)
    }

    /// Gives content of the given MIME type.
    pub fn post_content<T: DeserializeOwned>(
        &self,
        path: &str,
        parameters: &impl Serialize,
        kind: &str,
        content: &[u8],
    ) -> Result<T, Failure> {
        read(self.send("POST", &format!("{path}{}", query(parameters)), Some(kind), content)?)
    }
}

impl Service {
    fn away(&self, error: ureq::Error) -> Failure {
        match error {
            ureq::Error::Timeout(_) => Failure::Here("the service does not answer in time".into()),
            error => self.broken_off(&format!("the service can't be reached ({error}); it may have crashed")),
        }
    }

    /// The service was there, and is no more.
    pub fn broken_off(&self, message: &str) -> Failure {
        Failure::Unreachable { message: message.to_owned(), start: self.start.clone() }
    }
}

fn problem(response: Response<Body>) -> Failure {
    let status = response.status();
    let body = response.into_body().read_to_vec().unwrap_or_default();
    match serde_json::from_slice::<Problem>(&body) {
        Ok(problem) => Failure::Problem(Box::new(problem)),
        Err(_) => Failure::Here(format!("the service answered {status}")),
    }
}

fn read<T: DeserializeOwned>(response: Response<Body>) -> Result<T, Failure> {
    let body = response.into_body().into_with_config().limit(64 * 1024 * 1024).read_to_vec();
    let body = body.map_err(|error| Failure::Here(format!("the answer cannot be read: {error}")))?;
    serde_json::from_slice(&body).map_err(|error| {
        Failure::Here(format!("the answer is not understood ({error}); are client and service of the same version?"))
    })
}

/// Parameters as the query part of a path.
fn query(parameters: &impl Serialize) -> String {
    let value = serde_json::to_value(parameters).unwrap_or_default();
    let pairs = value.as_object().into_iter().flatten().filter(|(_, value)| !value.is_null());
    let mut pairs: Vec<String> = pairs
        .map(|(name, value)| {
            let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
            format!("{name}={}", percent_encoded(&text))
        })
        .collect();
    pairs.sort_unstable();
    if pairs.is_empty() { String::new() } else { format!("?{}", pairs.join("&")) }
}

/// A clip's name as a part of a path.
pub fn in_path(name: &str) -> String {
    percent_encoded(name)
}

fn percent_encoded(text: &str) -> String {
    let mut encoded = String::with_capacity(text.len());
    for byte in text.bytes() {
        if byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b'.' | b'~') {
            encoded.push(char::from(byte));
        } else {
            encoded.push_str(&format!("%{byte:02X}"));
        }
    }
    encoded
}

#[cfg(test)]
mod tests {
    use super::*;
    use yadori_api::ListQuery;

    #[test]
    fn parameters_are_encoded_and_missing_ones_left_out() {
        let asked = ListQuery { q: Some("舞 &\"a b\"".into()), limit: Some(5), ..ListQuery::default() };
        assert_eq!(query(&asked), "?limit=5&q=%E8%88%9E%20%26%22a%20b%22");
        assert_eq!(query(&ListQuery::default()), "");
    }
}
