//! The management API as the commands use it: one call, JSON both ways, problems as [`Failure`]s.

use futures_util::StreamExt;
use reqwest::{Client, Method, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use wendor_gateway::admin::check_stream::WATCHED;

use crate::asking;
use crate::failure::Failure;
use crate::output;
use crate::profile::Profile;

/// A client of one service.
#[derive(Debug)]
pub struct Management {
    http: Client,
    profile: Profile,
}

/// A client without proxies: the gateway is where WENDOR_URL says.
///
/// # Errors
/// When the machine gives no TLS.
pub fn http() -> Result<Client, Failure> {
    Client::builder().no_proxy().build().map_err(|error| Failure::Own(format!("cannot create an HTTP client: {error}")))
}

/// What of a query is given.
fn given<'q>(query: &'q [(&'q str, Option<String>)]) -> Vec<(&'q str, &'q String)> {
    query.iter().filter_map(|(name, value)| Some((*name, value.as_ref()?))).collect()
}

/// What a connection that failed says.
pub fn unreachable(url: &str, error: &reqwest::Error) -> Failure {
    let why = if error.is_connect() { "nothing answers there" } else { "the connection broke" };
    Failure::Unreachable(format!(
        "Wendor cannot be reached at {url}: {why}. Is it running (`wendor serve`), and is WENDOR_URL right?"
    ))
}

/// What somebody typed, as one part of a path: the id where a whole key or token was pasted, and nothing in it ends the part.
#[must_use]
pub fn part(text: &str) -> String {
    let text = wendor_core::catalog::key::id_in(text);
    // Dots alone would lead a step back.
    if text.bytes().all(|byte| byte == b'.') {
        return text.replace('.', "%2E");
    }
    wendor_wire::percent::escaped(text)
}

impl Management {
    /// A client that calls as the person of the profile.
    ///
    /// # Errors
    /// When there is no client to be had.
    pub fn new(profile: Profile) -> Result<Self, Failure> {
        Ok(Self { http: http()?, profile })
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http.request(method, format!("{}/manage/v1{path}", self.profile.url))
    }

    /// Sends a request; where it is refused until its person has signed in again as themselves, and somebody sits at a terminal, they are
    /// asked to and it is sent again.
    async fn send(&self, request: RequestBuilder) -> Result<Response, Failure> {
        let again = request.try_clone();
        match (self.send_once(request).await, again) {
            (Err(Failure::ConfirmFirst(why)), Some(again)) if asking::is_at_a_terminal() => {
                output::note(&why);
                self.confirm().await?;
                self.send_once(again).await
            }
            (sent, _) => sent,
        }
    }

    async fn confirm(&self) -> Result<(), Failure> {
        let password = asking::hidden("Your password: ")?;
        let ask = |body: Value| {
            self.profile.token().map(|token| self.request(Method::POST, "/me/confirm").bearer_auth(token).json(&body))
        };
        match self.send_once(ask(json!({ "password": password }))?).await {
            Err(Failure::CodeNeeded(_)) => {
                let code = asking::line("Code of your authenticator app: ")?;
                self.send_once(ask(json!({ "password": password, "code": code }))?).await.map(|_| ())
            }
            sent => sent.map(|_| ()),
        }
    }

    async fn send_once(&self, request: RequestBuilder) -> Result<Response, Failure> {
        let response = request.send().await.map_err(|error| unreachable(&self.profile.url, &error))?;
        let status = response.status().as_u16();
        if response.status().is_success() {
            return Ok(response);
        }
        let body = response.bytes().await.unwrap_or_default();
        Err(Failure::of_problem(status, &body))
    }

    async fn read<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, Failure> {
        let response = self.send(request).await?;
        let body = response.bytes().await.map_err(|error| unreachable(&self.profile.url, &error))?;
        serde_json::from_slice(&body).map_err(|error| {
            Failure::Own(format!("cannot read the service's answer ({error}); does it run another version?"))
        })
    }

    /// `GET` with a query.
    ///
    /// # Errors
    /// When it cannot be reached or says no.
    pub async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, Option<String>)]) -> Result<T, Failure> {
        self.read(self.request(Method::GET, path).bearer_auth(self.profile.token()?).query(&given(query))).await
    }

    /// `GET` of something of any length, which is printed as it comes.
    ///
    /// # Errors
    /// When it cannot be reached, says no, or is cut off: what was printed is not whole then.
    pub async fn print(&self, path: &str, query: &[(&str, Option<String>)]) -> Result<(), Failure> {
        let request = self.request(Method::GET, path).query(&given(query)).bearer_auth(self.profile.token()?);
        let mut pieces = self.send(request).await?.bytes_stream();
        let cut_off = "The connection to Wendor broke in the middle: what was printed is not whole. Ask again.";
        while let Some(piece) = pieces.next().await {
            output::print_bytes(&piece.map_err(|_| Failure::Unreachable(cut_off.to_owned()))?)?;
        }
        Ok(())
    }

    /// `POST` with a body.
    ///
    /// # Errors
    /// When it cannot be reached or says no.
    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        self.read(self.request(Method::POST, path).bearer_auth(self.profile.token()?).json(body)).await
    }

    /// `POST` with a body, answered piece by piece in lines of JSON.
    ///
    /// # Errors
    /// When it cannot be reached or says no.
    pub async fn post_stream(&self, path: &str, body: &impl Serialize) -> Result<Response, Failure> {
        let request = self.request(Method::POST, path).bearer_auth(self.profile.token()?).json(body);
        self.send(request.header(reqwest::header::ACCEPT, WATCHED)).await
    }

    /// `PUT` with a body.
    ///
    /// # Errors
    /// When it cannot be reached or says no.
    pub async fn put<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        self.read(self.request(Method::PUT, path).bearer_auth(self.profile.token()?).json(body)).await
    }

    /// `POST` before anyone is signed in.
    ///
    /// # Errors
    /// When it cannot be reached or says no.
    pub async fn post_unsigned<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        self.read(self.request(Method::POST, path).json(body)).await
    }

    /// `POST` as the bearer of `token`.
    ///
    /// # Errors
    /// When it cannot be reached or says no.
    pub async fn post_as<T: DeserializeOwned>(
        &self,
        token: &str,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, Failure> {
        self.read(self.request(Method::POST, path).bearer_auth(token).json(body)).await
    }

    /// `POST` of what is answered with nothing.
    ///
    /// # Errors
    /// When it cannot be reached or says no.
    pub async fn post_unanswered(&self, path: &str, body: &impl Serialize) -> Result<(), Failure> {
        self.send(self.request(Method::POST, path).bearer_auth(self.profile.token()?).json(body)).await.map(|_| ())
    }

    /// `DELETE` as the bearer of `token`.
    ///
    /// # Errors
    /// When it cannot be reached or says no.
    pub async fn delete_as(&self, token: &str, path: &str) -> Result<(), Failure> {
        self.send(self.request(Method::DELETE, path).bearer_auth(token)).await.map(|_| ())
    }

    /// `DELETE`.
    ///
    /// # Errors
    /// When it cannot be reached or says no.
    pub async fn delete(&self, path: &str) -> Result<(), Failure> {
        self.send(self.request(Method::DELETE, path).bearer_auth(self.profile.token()?)).await.map(|_| ())
    }

    /// `GET` of one request, as the bearer of an app's key.
    ///
    /// # Errors
    /// When it cannot be reached or says no.
    pub async fn get_as<T: DeserializeOwned>(&self, key: &str, path: &str) -> Result<T, Failure> {
        self.read(self.request(Method::GET, path).bearer_auth(key)).await
    }
}
