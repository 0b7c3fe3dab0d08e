//! Finding the service and asking it.

use crate::error::ClientError;
use crate::events::Events;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;
use ureq::config::Config;
use ureq::http::{Request, Response, Uri};
use ureq::unversioned::resolver::{ResolvedSocketAddrs, Resolver};
use ureq::unversioned::transport::{DefaultConnector, NextTimeout};
use ureq::{Agent, Body};
use yadori_api::{BASE, Problem, Reach};
use yadori_files::Places;

/// Longest that an answer may take; recalling a large picture is the slowest.
const PATIENCE: Duration = Duration::from_secs(60);

/// Longest answer that is read as a whole, in bytes.
const LONGEST: u64 = 64 * 1024 * 1024;

/// The folders of the instance.
///
/// # Errors
/// When there is not even a home folder.
pub fn places(home: Option<&Path>) -> Result<Places, ClientError> {
    Places::find(home, |name| std::env::var_os(name).map(PathBuf::from)).ok_or(ClientError::NoHome)
}

/// What is kept of an answer or of what is sent until it is passed on, in bytes. More would have to be cleared first,
/// which takes a command longer than to ask in smaller pieces.
const BUFFER: usize = 16 * 1024;

/// The address that is known already: to look it up by a deadline would take a thread.
#[derive(Debug)]
struct Known(SocketAddr);

impl Resolver for Known {
    fn resolve(&self, _: &Uri, _: &Config, _: NextTimeout) -> Result<ResolvedSocketAddrs, ureq::Error> {
        let mut addresses = self.empty();
        addresses.push(self.0);
        Ok(addresses)
    }
}

/// An agent that asks there, and waits so long at most for an answer as a whole.
fn agent(address: SocketAddr, patience: Option<Duration>) -> Agent {
    let config = Agent::config_builder()
        .timeout_global(patience)
        .http_status_as_error(false)
        .proxy(None)
        .input_buffer_size(BUFFER)
        .output_buffer_size(BUFFER)
        .build();
    Agent::with_parts(config, DefaultConnector::default(), Known(address))
}

/// A service that has said how to reach it.
pub struct Client {
    agent: Agent,
    reach: Reach,
    /// Its home, if it has one of its own.
    home: Option<PathBuf>,
}

impl Client {
    /// The service of this home, or else of the user's own folders.
    ///
    /// # Errors
    /// When none runs there.
    pub fn find(home: Option<&Path>) -> Result<Self, ClientError> {
        let path = places(home)?.reach();
        let unusable = |reason: String| ClientError::Reach { path: path.display().to_string(), reason };
        let text = std::fs::read(&path).map_err(|error| match error.kind() {
            std::io::ErrorKind::NotFound => ClientError::NotRunning(home.map(Path::to_owned)),
            _ => unusable(error.to_string()),
        })?;
        let reach = serde_json::from_slice(&text).map_err(|error| unusable(error.to_string()))?;
        Ok(Self::new(reach, home))
    }

    /// The service that can be reached so.
    pub fn new(reach: Reach, home: Option<&Path>) -> Self {
        let agent = agent(reach.address, Some(PATIENCE));
        Self { agent, reach, home: home.map(Path::to_owned) }
    }

    /// The address of the interface.
    pub fn url(&self) -> String {
        format!("http://{}{BASE}", self.reach.address)
    }

    fn send(&self, method: &str, path: &str, kind: Option<&str>, body: &[u8]) -> Result<Response<Body>, ClientError> {
        let request = self.request(method, path, kind);
        match method {
            "GET" => self.run(&self.agent, request, ()),
            _ => self.run(&self.agent, request, body),
        }
    }

    fn run(
        &self,
        agent: &Agent,
        request: ureq::http::request::Builder,
        body: impl ureq::AsSendBody,
    ) -> Result<Response<Body>, ClientError> {
        let request = request.body(body).map_err(|error| ClientError::Request(error.to_string()))?;
        let response = agent.run(request).map_err(|error| self.away(error))?;
        if response.status().is_success() { Ok(response) } else { Err(problem(response)) }
    }

    /// Asks for something.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        read(self.send("GET", path, None, &[])?)
    }

    /// Asks for something with parameters.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn get_with<T: DeserializeOwned>(&self, path: &str, parameters: &impl Serialize) -> Result<T, ClientError> {
        self.get(&format!("{path}{}", query(parameters)))
    }

    /// Asks for bytes, which may be many.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn get_bytes(&self, path: &str, parameters: &impl Serialize) -> Result<ureq::BodyReader<'static>, ClientError> {
        Ok(self.send("GET", &format!("{path}{}", query(parameters)), None, &[])?.into_body().into_reader())
    }

    /// Asks for something to be done.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, ClientError> {
        let body = serde_json::to_vec(body)?;
        read(self.send("POST", path, Some("application/json"), &body)?)
    }

    /// Asks for something to be done, with parameters.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn post_with<T: DeserializeOwned>(&self, path: &str, parameters: &impl Serialize) -> Result<T, ClientError> {
        read(self.send("POST", &format!("{path}{}", query(parameters)), None, &[])?)
    }

    /// Asks for something to be set.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn put<T: DeserializeOwned>(&self, path: &str, value: &impl Serialize) -> Result<T, ClientError> {
        let value = serde_json::to_vec(value)?;
        read(self.send("PUT", path, Some("application/json"), &value)?)
    }

    /// Asks for something to be changed.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn patch<T: DeserializeOwned>(&self, path: &str, change: &impl Serialize) -> Result<T, ClientError> {
        let change = serde_json::to_vec(change)?;
        read(self.send("PATCH", path, Some("application/json"), &change)?)
    }

    /// Asks for an export, however long it takes: how many clips it has, how many were left out, and its bytes.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn get_stream(
        &self,
        path: &str,
        parameters: &impl Serialize,
    ) -> Result<(u64, u64, ureq::BodyReader<'static>), ClientError> {
        let request = self.request("GET", &format!("{path}{}", query(parameters)), None);
        let response = self.run(&self.patient(), request, ())?;
        let number =
            |name: &str| response.headers().get(name).and_then(|value| value.to_str().ok()?.parse().ok()).unwrap_or(0);
        let (clips, left_out) = (number("x-yadori-clips"), number("x-yadori-left-out"));
        Ok((clips, left_out, response.into_body().into_reader()))
    }

    /// Sends what is read from `content`, however long it takes; gives the answer as it comes.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn post_stream(
        &self,
        path: &str,
        kind: &str,
        content: impl std::io::Read,
    ) -> Result<ureq::BodyReader<'static>, ClientError> {
        let mut content = content;
        let request = self.request("POST", path, Some(kind));
        let response = self.run(&self.patient(), request, ureq::SendBody::from_reader(&mut content))?;
        Ok(response.into_body().into_reader())
    }

    /// Follows what changes; after an interruption from the change on that was told last.
    ///
    /// # Errors
    /// When the service does not answer.
    pub fn events(&self, last: Option<u64>) -> Result<Events, ClientError> {
        let mut request = self.request("GET", "/events", None);
        if let Some(last) = last {
            request = request.header("last-event-id", last.to_string());
        }
        let response = self.run(&self.patient(), request, ())?;
        Ok(Events::of(response.into_body().into_reader()))
    }

    /// An agent that waits for as long as it takes.
    fn patient(&self) -> Agent {
        agent(self.reach.address, None)
    }

    fn request(&self, method: &str, path: &str, kind: Option<&str>) -> ureq::http::request::Builder {
        let request = Request::builder()
            .method(method)
            .uri(format!("{}{path}", self.url()))
            .header("authorization", format!("Bearer {}", self.reach.token));
        match kind {
            Some(kind) => request.header("content-type", kind),
            None => request,
        }
    }

    /// Asks for something to be removed.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn delete_with<T: DeserializeOwned>(&self, path: &str, parameters: &impl Serialize) -> Result<T, ClientError> {
        read(self.send("DELETE", &format!("{path}{}", query(parameters)), None, &[])?)
    }

    /// Gives content to put in the place of other content.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn put_content<T: DeserializeOwned>(
        &self,
        path: &str,
        parameters: &impl Serialize,
        kind: &str,
        content: &[u8],
    ) -> Result<T, ClientError> {
        read(self.send("PUT", &format!("{path}{}", query(parameters)), Some(kind), content)?)
    }

    /// Gives content of the given MIME type.
    ///
    /// # Errors
    /// When the service does not answer, or says no.
    pub fn post_content<T: DeserializeOwned>(
        &self,
        path: &str,
        parameters: &impl Serialize,
        kind: &str,
        content: &[u8],
    ) -> Result<T, ClientError> {
        read(self.send("POST", &format!("{path}{}", query(parameters)), Some(kind), content)?)
    }
}

impl Client {
    fn away(&self, error: ureq::Error) -> ClientError {
        match error {
            ureq::Error::Timeout(_) => ClientError::TimedOut,
            error => self.gone(&error.to_string()),
        }
    }

    /// That the service was there, and is not any more.
    pub fn gone(&self, reason: &str) -> ClientError {
        ClientError::Gone { reason: reason.to_owned(), home: self.home.clone() }
    }
}

fn problem(response: Response<Body>) -> ClientError {
    let status = response.status();
    let body = response.into_body().read_to_vec().unwrap_or_default();
    match serde_json::from_slice::<Problem>(&body) {
        Ok(problem) => ClientError::Problem(Box::new(problem)),
        Err(_) => ClientError::Status(status.as_u16()),
    }
}

fn read<T: DeserializeOwned>(response: Response<Body>) -> Result<T, ClientError> {
    let body = response.into_body().into_with_config().limit(LONGEST).read_to_vec();
    let body = body.map_err(|error| ClientError::BrokenOff(std::io::Error::other(error)))?;
    Ok(serde_json::from_slice(&body)?)
}

/// Parameters as the query part of a path.
fn query(parameters: &impl Serialize) -> String {
    let value = serde_json::to_value(parameters).unwrap_or_default();
    let mut pairs: Vec<(String, String)> = (value.as_object().into_iter().flatten())
        .filter(|(_, value)| !value.is_null())
        .map(|(name, value)| (name.clone(), value.as_str().map_or_else(|| value.to_string(), str::to_owned)))
        .collect();
    pairs.sort_unstable();
    if pairs.is_empty() {
        return String::new();
    }
    format!("?{}", form_urlencoded::Serializer::new(String::new()).extend_pairs(pairs).finish())
}

/// A name as a part of a path (RFC 3986, section 2.3: all but the unreserved characters are encoded).
pub fn in_path(name: &str) -> String {
    const ENCODED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'~');
    utf8_percent_encode(name, ENCODED).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use yadori_api::ListQuery;

    #[test]
    fn parameters_are_encoded_and_missing_ones_left_out() {
        let asked = ListQuery { q: Some("舞 &\"a b\"".into()), limit: Some(5), ..ListQuery::default() };
        assert_eq!(query(&asked), "?limit=5&q=%E8%88%9E+%26%22a+b%22");
        assert_eq!(query(&ListQuery::default()), "");
        assert_eq!(in_path(":sig/a b~"), "%3Asig%2Fa%20b~");
    }
}
