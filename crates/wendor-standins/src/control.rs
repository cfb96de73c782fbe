//! The control call of a set of stand-ins: what each served, and letting one fail.
//!
//! `GET /` lists them with fault and tally; `POST /NAME/FAULT` sets a fault (`stall-midway`, `500`, `429:30`, `none`).

use std::net::SocketAddr;
use std::sync::Arc;

use bytes::Bytes;
use http_body_util::Full;
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use serde::{Deserialize, Serialize};
use tokio::net::TcpListener;

use crate::fault::Fault;
use crate::server::{StandIn, Tally};

/// One stand-in as the control call tells it.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct StandInReport {
    /// As its faults are set by.
    pub name: String,
    /// Where it listens.
    pub address: SocketAddr,
    /// The fault that it shows.
    #[serde(flatten)]
    pub fault: Fault,
    /// What it served.
    pub tally: Tally,
}

/// Serves the control call until the future is dropped.
///
/// # Errors
/// When the address cannot listen on.
pub async fn serve(address: SocketAddr, standins: Vec<StandIn>) -> std::io::Result<()> {
    let listener = TcpListener::bind(address).await?;
    let standins = Arc::new(standins);
    loop {
        let (stream, _) = listener.accept().await?;
        let standins = standins.clone();
        // One short call a connection, each ended by its client; they end with the process.
        tokio::spawn(async move {
            let service = service_fn(move |request| answer(standins.clone(), request));
            let _ended =
                hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
        });
    }
}

async fn answer(
    standins: Arc<Vec<StandIn>>,
    request: Request<Incoming>,
) -> Result<Response<Full<Bytes>>, std::io::Error> {
    let path: Vec<&str> = request.uri().path().trim_matches('/').split('/').collect();
    let (status, text) = match (request.method().as_str(), path.as_slice()) {
        ("GET", [""]) => (StatusCode::OK, serde_json::to_string(&reports(&standins))?),
        ("POST", [name, fault]) => match (standins.iter().find(|standin| standin.name() == *name), Fault::parse(fault))
        {
            (Some(standin), Some(fault)) => {
                standin.set_fault(fault).await?;
                (StatusCode::OK, serde_json::to_string(&reports(&standins))?)
            }
            (None, _) => (StatusCode::NOT_FOUND, format!("unknown stand-in {name}")),
            (Some(_), None) => (StatusCode::BAD_REQUEST, format!("{fault} is not a fault")),
        },
        _ => (StatusCode::NOT_FOUND, "GET / or POST /NAME/FAULT".to_owned()),
    };
    let mut response = Response::new(Full::new(Bytes::from(text)));
    *response.status_mut() = status;
    Ok(response)
}

fn reports(standins: &[StandIn]) -> Vec<StandInReport> {
    let report = |standin: &StandIn| StandInReport {
        name: standin.name().to_owned(),
        address: standin.address(),
        fault: standin.fault(),
        tally: standin.tally(),
    };
    standins.iter().map(report).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::server::Profile;
    use rstest::rstest;

    async fn begin() -> (tokio::task::JoinHandle<std::io::Result<()>>, String) {
        let _installed = rustls::crypto::ring::default_provider().install_default();
        let free = std::net::TcpListener::bind("127.0.0.1:0").and_then(|free| free.local_addr()).unwrap();
        let standin = StandIn::start(Profile::quick("quayside-a", &["dunlin-7b"])).await.unwrap();
        let serving = tokio::spawn(serve(free, vec![standin]));
        let url = format!("http://{free}");
        while reqwest::get(&url).await.is_err() {
            tokio::task::yield_now().await;
        }
        (serving, url)
    }

    #[rstest]
    #[case::fault("quayside-a/stall-midway", 200, "stall-midway")]
    #[case::status("quayside-a/429:7", 200, "429")]
    #[case::no_such_standin("quayside-z/none", 404, "unknown stand-in quayside-z")]
    #[case::no_such_fault("quayside-a/explode", 400, "explode is not a fault")]
    #[tokio::test]
    async fn a_fault_is_set_by_a_small_call(#[case] path: &str, #[case] status: u16, #[case] told: &str) {
        let (serving, url) = begin().await;
        let answer = reqwest::Client::new().post(format!("{url}/{path}")).send().await.unwrap();
        assert_eq!(answer.status().as_u16(), status);
        let text = answer.text().await.unwrap();
        assert!(text.contains(told), "{text}");
        let reports: Vec<StandInReport> = reqwest::get(&url).await.unwrap().json().await.unwrap();
        assert_eq!((reports[0].name.as_str(), reports[0].tally.requests), ("quayside-a", 0));
        serving.abort();
    }
}
