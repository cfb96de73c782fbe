//! Images that an app names by address, for offers that are given bytes alone: fetched here, from public hosts, bounded in size, number, time
//! and redirections. What a name leads to counts, and it counts at the connection.

use std::collections::BTreeMap;
use std::future::Future;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use bytes::Bytes;
use http_body_util::{BodyExt, Empty};
use hyper::header::{ACCEPT, LOCATION};
use hyper::{Request, Response, body::Incoming};
use hyper_rustls::HttpsConnector;
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::client::legacy::connect::dns::Name as HostName;
use hyper_util::rt::TokioExecutor;
use wendor_core::catalog::route::Route;
use wendor_core::catalog::upstream::Offer;
use wendor_core::name::Name;
use wendor_core::serving::fit::{Content, image_addresses, with_images};
use wendor_wire::address::{Addresses, public};
use wendor_wire::bad_request::BadRequest;
use wendor_wire::image::kind_of;
use wendor_wire::refusal_code::RefusalCode;

use super::refusal::Refusal;
use crate::app::App;
use crate::hosts::Hosts;
use crate::sharing::Part;
use crate::snapshot::Snapshot;
use crate::trust::Trust;

/// The largest image that is fetched.
const LARGEST: usize = 10 * 1024 * 1024;

/// Images of one request that are fetched.
const MOST: usize = 16;

/// The time for all images of a request.
const TIME: Duration = Duration::from_secs(15);

/// How often one address may lead to another.
const REDIRECTIONS: usize = 3;

/// A conversation with the images that were fetched for it.
#[derive(Debug)]
pub struct Fetched {
    /// The conversation.
    pub content: Arc<Content>,
    /// The memory that they take.
    _share: Part,
}

/// What a request holds for an offer.
pub fn content_for<'c>(content: &'c Arc<Content>, fetched: Option<&'c Fetched>, offer: &Offer) -> &'c Arc<Content> {
    match fetched.filter(|_| offer.addresses == Addresses::Fetched) {
        Some(fetched) => &fetched.content,
        None => content,
    }
}

/// Finds hosts of the public network alone.
#[derive(Clone, Debug)]
struct PublicHosts(Hosts);

impl tower_service::Service<HostName> for PublicHosts {
    type Response = std::vec::IntoIter<SocketAddr>;
    type Error = std::io::Error;
    type Future = Pin<Box<dyn Future<Output = Result<Self::Response, Self::Error>> + Send>>;

    fn poll_ready(&mut self, _context: &mut Context<'_>) -> Poll<Result<(), Self::Error>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, name: HostName) -> Self::Future {
        let hosts = self.0.clone();
        Box::pin(async move {
            let inside = |_| {
                std::io::Error::new(
                    std::io::ErrorKind::PermissionDenied,
                    "the name does not resolve to a public address",
                )
            };
            let addresses = hosts.look_up_public(name.as_str()).await.map_err(inside)?;
            Ok(addresses.into_iter().map(|address| SocketAddr::new(address, 0)).collect::<Vec<_>>().into_iter())
        })
    }
}

type Fetching = Client<HttpsConnector<HttpConnector<PublicHosts>>, Empty<Bytes>>;

fn client(trust: &Trust, hosts: Hosts) -> Fetching {
    let mut tcp = HttpConnector::new_with_resolver(PublicHosts(hosts));
    tcp.enforce_http(false);
    let connector = hyper_rustls::HttpsConnectorBuilder::new()
        .with_tls_config(trust.config(trust.verifier(None)))
        .https_only()
        .enable_http1()
        .wrap_connector(tcp);
    // Nothing is kept: who was asked for one image is not asked again.
    Client::builder(TokioExecutor::new()).pool_max_idle_per_host(0).build(connector)
}

/// Fetches the images of a request if an offer of its route is given them so. `None` where there is nothing to fetch.
///
/// # Errors
/// [`Refusal::BadRequest`] that names the image that could not be had, and why.
pub async fn fetched(
    app: &App,
    snapshot: &Snapshot,
    route: &Route,
    content: &Content,
    team: &Name,
) -> Result<Option<Fetched>, Refusal> {
    let is_fetched =
        |name| snapshot.catalogue.offer(name).is_some_and(|(_, offer)| offer.addresses == Addresses::Fetched);
    let Content::Conversation(conversation) = content else { return Ok(None) };
    let images = image_addresses(conversation);
    if images.is_empty() || !route.offers().any(is_fetched) {
        return Ok(None);
    }
    if images.len() > MOST {
        let message = format!(
            "{} images are named by address; at most {MOST} are fetched: send the others as bytes",
            images.len()
        );
        return Err(refused(&images[0].0, message));
    }
    let mut share = app.crowd.bodies.part(Some(team.clone()));
    let teams = snapshot.catalogue.teams.len();
    let client = client(&app.trust, app.hosts.clone());
    let mut fetched = BTreeMap::new();
    let all = async {
        for (path, url) in &images {
            if fetched.contains_key(url) {
                continue;
            }
            let bytes = image(&client, url)
                .await
                .map_err(|why| refused(path, format!("`{path}` could not be fetched: {why}")))?;
            let kind = kind_of(&bytes).ok_or_else(|| refused(path, format!("`{path}` is not a supported image")))?;
            // In base64, and as written into the body.
            share.grow(2 * bytes.len() as u64, teams).map_err(|_| Refusal::TooManyBodies)?;
            fetched.insert(url.clone(), (kind, BASE64.encode(&bytes)));
        }
        Ok(())
    };
    let in_time = tokio::time::timeout(TIME, all).await;
    in_time
        .map_err(|_elapsed| refused(&images[0].0, format!("the images did not come within {} s", TIME.as_secs())))??;
    let content = Arc::new(Content::Conversation(Box::new(with_images(conversation, &fetched))));
    Ok(Some(Fetched { content, _share: share }))
}

fn refused(path: &str, message: String) -> Refusal {
    Refusal::BadRequest(BadRequest { param: Some(path.to_owned()), code: RefusalCode::ImageNotFetched, message })
}

async fn image(client: &Fetching, url: &str) -> Result<Vec<u8>, String> {
    let mut url = public(url)?;
    for _ in 0..=REDIRECTIONS {
        let request = Request::get(url.as_str()).header(ACCEPT, "image/*").body(Empty::new());
        let request = request.map_err(|error| format!("it is not an address ({error})"))?;
        let answer = client.request(request).await.map_err(|error| connecting(&error))?;
        if answer.status().is_redirection() {
            let to = answer.headers().get(LOCATION).and_then(|to| to.to_str().ok()).unwrap_or_default();
            let to =
                url.join(to).map_err(|error| format!("it redirects to something that is not an address ({error})"))?;
            url = public(to.as_str()).map_err(|why| format!("it redirects to where nothing is fetched from: {why}"))?;
            continue;
        }
        if !answer.status().is_success() {
            return Err(format!("its server answered {}", answer.status().as_u16()));
        }
        return read(answer).await;
    }
    Err(format!("it redirects more than {REDIRECTIONS} times"))
}

/// What of a failed connection is the app's business: whether the host is a public one, and no more of what is there.
fn connecting(error: &hyper_util::client::legacy::Error) -> String {
    let mut source: Option<&dyn std::error::Error> = Some(error);
    while let Some(cause) = source {
        let denied =
            cause.downcast_ref::<std::io::Error>().is_some_and(|io| io.kind() == std::io::ErrorKind::PermissionDenied);
        if denied {
            return "its name does not resolve to a public address".to_owned();
        }
        source = cause.source();
    }
    "its server could not be reached".to_owned()
}

async fn read(answer: Response<Incoming>) -> Result<Vec<u8>, String> {
    let mut body = answer.into_body();
    let mut bytes = Vec::new();
    while let Some(frame) = body.frame().await {
        let frame = frame.map_err(|_| "its server broke off".to_owned())?;
        if let Some(data) = frame.data_ref() {
            if bytes.len() + data.len() > LARGEST {
                return Err(format!("it is larger than {LARGEST} bytes"));
            }
            bytes.extend_from_slice(data);
        }
    }
    Ok(bytes)
}
