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
    /// Its name.
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
/// When the address cannot be listened on.
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
            (None, _) => (StatusCode::NOT_FOUND, format!("no stand-in is called {name}")),
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
