//! Requests and streams, sent as apps send them: keep-alive connections, one request at a time on each.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use anyhow::{Context, anyhow};
use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::client::conn::http1::SendRequest;
use hyper::{Method, Request, header};
use hyper_util::rt::TokioIo;
use tokio::net::TcpStream;
use tokio::task::JoinSet;
use tokio::time::Instant;

/// What is sent, and to whom.
#[derive(Clone, Debug)]
pub struct Target {
    /// Where.
    pub address: SocketAddr,
    /// The key sent with each request, as an app of the ferry's sends it.
    pub key: String,
    /// The endpoint.
    pub path: &'static str,
    /// What a stream ends with, read as the end of its last frame.
    pub end: &'static str,
    /// Sent unchanged with each request; where it is empty nothing is posted, only asked for.
    pub body: Bytes,
    /// The status that each answer has to have.
    pub status: u16,
}

/// One connection.
pub struct Client {
    sender: SendRequest<Full<Bytes>>,
    target: Target,
}

impl Client {
    /// Opens one connection, which serves one request after another until it is dropped.
    pub async fn connect(target: &Target) -> anyhow::Result<Self> {
        let stream = TcpStream::connect(target.address).await.context("cannot connect")?;
        stream.set_nodelay(true)?;
        let (sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await?;
        // Ends with its sender.
        tokio::spawn(connection);
        Ok(Self { sender, target: target.clone() })
    }

    async fn send(&mut self) -> anyhow::Result<hyper::Response<hyper::body::Incoming>> {
        self.sender.ready().await?;
        let method = if self.target.body.is_empty() { Method::GET } else { Method::POST };
        let request = Request::builder()
            .method(method)
            .uri(self.target.path)
            .header(header::HOST, self.target.address.to_string())
            .header(header::CONTENT_TYPE, "application/json")
            .header(header::AUTHORIZATION, format!("Bearer {}", self.target.key))
            .body(Full::new(self.target.body.clone()))?;
        let response = self.sender.send_request(request).await?;
        match response.status().as_u16() {
            status if status == self.target.status => Ok(response),
            status => {
                let text = response.into_body().collect().await?.to_bytes();
                Err(anyhow!("answered {status}: {}", String::from_utf8_lossy(&text)))
            }
        }
    }

    /// Sends one and reads the whole answer.
    pub async fn whole(&mut self) -> anyhow::Result<usize> {
        Ok(self.send().await?.into_body().collect().await?.to_bytes().len())
    }

    /// Sends one and reads its stream to the end, counting events. `seen` is told of each as it comes.
    pub async fn stream(&mut self, mut seen: impl FnMut(u64)) -> anyhow::Result<()> {
        let last = self
            .frames(|data| {
                seen(data.windows(2).filter(|pair| pair == b"\n\n").map(|_| 1).sum());
            })
            .await?;
        if last.ends_with(self.target.end.as_bytes()) { Ok(()) } else { Err(anyhow!("a stream did not end properly")) }
    }

    /// Sends one and reads its stream to the end. `seen` is told of each piece as it comes; gives the last.
    pub async fn frames(&mut self, mut seen: impl FnMut(&Bytes)) -> anyhow::Result<Bytes> {
        let mut body = self.send().await?.into_body();
        let mut last = Bytes::new();
        while let Some(frame) = body.frame().await {
            if let Ok(data) = frame?.into_data() {
                seen(&data);
                last = data;
            }
        }
        Ok(last)
    }

    /// Sends one and waits for the first piece of content; the rest is read too.
    pub async fn first_token(&mut self) -> anyhow::Result<Duration> {
        let began = Instant::now();
        let mut body = self.send().await?.into_body();
        let mut first = None;
        while let Some(frame) = body.frame().await {
            let data = frame?.into_data().unwrap_or_default();
            if first.is_none() && data.windows(11).any(|part| part == b"\"content\":\"") {
                first = Some(began.elapsed());
            }
        }
        first.context("a stream without content")
    }
}

/// So many whole requests on one connection, one after the other; how long each took, the shortest first.
pub async fn whole_waits(target: &Target, count: usize) -> anyhow::Result<Vec<Duration>> {
    let mut client = Client::connect(target).await?;
    let mut waits = Vec::with_capacity(count);
    for _ in 0..count {
        let began = Instant::now();
        client.whole().await?;
        waits.push(began.elapsed());
    }
    waits.sort_unstable();
    Ok(waits)
}

/// Whole requests on `connections` at once for `time`; how many were answered.
pub async fn whole_for(target: &Target, connections: usize, time: Duration) -> anyhow::Result<u64> {
    let (stop, count) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let mut running = JoinSet::new();
    for _ in 0..connections {
        let mut client = Client::connect(target).await?;
        let (stop, count) = (stop.clone(), count.clone());
        running.spawn(async move {
            while !stop.load(Ordering::Relaxed) {
                client.whole().await?;
                count.fetch_add(1, Ordering::Relaxed);
            }
            anyhow::Ok(())
        });
    }
    tokio::time::sleep(time).await;
    stop.store(true, Ordering::Relaxed);
    while let Some(ended) = running.join_next().await {
        ended??;
    }
    Ok(count.load(Ordering::Relaxed))
}

/// `count` streams at once, each read to its end; how many events came in all. Shorter ones than `events_each` are an error: what
/// opening and settling take would be counted to fewer events.
pub async fn streams(target: &Target, count: usize, events_each: usize) -> anyhow::Result<u64> {
    let events = Arc::new(AtomicU64::new(0));
    let mut running = JoinSet::new();
    for _ in 0..count {
        let mut client = Client::connect(target).await?;
        let events = events.clone();
        running.spawn(async move {
            client
                .stream(|new| {
                    events.fetch_add(new, Ordering::Relaxed);
                })
                .await
        });
    }
    while let Some(ended) = running.join_next().await {
        ended??;
    }
    let (came, wanted) = (events.load(Ordering::Relaxed), u64::try_from(count * events_each)?);
    // The end of an event that falls between two reads is not counted.
    anyhow::ensure!(came >= wanted - wanted / 100, "{came} events came where {wanted} were to come");
    Ok(came)
}

/// Opens so many requests and leaves them open; dropping what it gives closes them all.
pub async fn held(target: &Target, count: usize, way: Held) -> anyhow::Result<JoinSet<anyhow::Result<()>>> {
    let mut open = JoinSet::new();
    for _ in 0..count {
        let mut client = Client::connect(target).await?;
        open.spawn(async move {
            match way {
                Held::Stream => client.stream(|_| {}).await,
                Held::Whole => client.whole().await.map(|_| ()),
            }
        });
    }
    Ok(open)
}

/// What is held open.
#[derive(Clone, Copy, Debug)]
pub enum Held {
    /// Answers that have begun and do not end.
    Stream,
    /// Requests that wait for a whole reply.
    Whole,
}

/// Streams sent at a steady pace for `time`, whether the ones before have ended or not; their waits for a first token, sorted.
pub async fn first_tokens(target: &Target, each: Duration, time: Duration) -> anyhow::Result<Vec<Duration>> {
    let until = Instant::now() + time;
    let mut idle: Vec<Client> = Vec::new();
    let (back, mut returned) = tokio::sync::mpsc::unbounded_channel::<Client>();
    let mut running = JoinSet::new();
    let mut due = Instant::now();
    while due < until {
        tokio::time::sleep_until(due).await;
        due += each;
        while let Ok(client) = returned.try_recv() {
            idle.push(client);
        }
        let mut client = match idle.pop() {
            Some(client) => client,
            None => Client::connect(target).await?,
        };
        let back = back.clone();
        running.spawn(async move {
            let wait = client.first_token().await?;
            // Nobody takes it back once the time is over.
            let _late = back.send(client);
            anyhow::Ok(wait)
        });
    }
    let mut waits = Vec::new();
    while let Some(ended) = running.join_next().await {
        waits.push(ended??);
    }
    waits.sort_unstable();
    Ok(waits)
}
