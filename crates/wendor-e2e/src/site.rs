//! Another web site, for tests of what its pages can do to the service.

use std::sync::Arc;

use rustls::ServerConfig;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

/// How a path is answered: status, one header, body.
pub type Answer = (u16, (&'static str, String), Vec<u8>);

/// A site that answers every path with one page, on a port of its own: to a browser that is another origin.
#[derive(Debug)]
pub struct Site {
    /// Scheme, host and port, as a browser sends it.
    pub origin: String,
    task: JoinHandle<()>,
}

impl Site {
    /// Serves `page`.
    ///
    /// # Panics
    /// When loopback has no port left.
    pub async fn of(page: String) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("loopback has a port");
        let origin = format!("http://{}", listener.local_addr().expect("it is bound"));
        let answer = format!(
            "HTTP/1.1 200 OK\r\ncontent-type: text/html; charset=utf-8\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{page}",
            page.len()
        );
        let task = tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                let answer = answer.clone();
                tokio::spawn(async move {
                    // One read holds the head of a browser's request.
                    let _asked = stream.read(&mut [0; 8192]).await;
                    let _sent = stream.write_all(answer.as_bytes()).await;
                });
            }
        });
        Self { origin, task }
    }
}

impl Site {
    /// A site that is encrypted and answers a path as it is told: status, a header's name and value, and the body. Others are not there.
    ///
    /// # Panics
    /// When loopback has no port left.
    pub async fn encrypted(tls: ServerConfig, answers: Vec<(&'static str, Answer)>) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("loopback has a port");
        let origin = format!("https://{}", listener.local_addr().expect("it is bound"));
        let (acceptor, answers) = (TlsAcceptor::from(Arc::new(tls)), Arc::new(answers));
        let task = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let (acceptor, answers) = (acceptor.clone(), answers.clone());
                tokio::spawn(async move {
                    let mut stream = acceptor.accept(stream).await?;
                    let mut head = [0; 8192];
                    let read = stream.read(&mut head).await?;
                    let head = String::from_utf8_lossy(&head[..read]).into_owned();
                    let path = head.split(' ').nth(1).unwrap_or_default();
                    let missing = (404, ("x-site", "nothing".to_owned()), Vec::new());
                    let prepared = answers.iter().find(|(known, _)| *known == path).map(|(_, answer)| answer);
                    let (status, (name, value), body) = prepared.unwrap_or(&missing);
                    let head = format!(
                        "HTTP/1.1 {status} told\r\n{name}: {value}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
                        body.len()
                    );
                    stream.write_all(head.as_bytes()).await?;
                    stream.write_all(body).await?;
                    stream.shutdown().await
                });
            }
        });
        Self { origin, task }
    }
}

impl Drop for Site {
    fn drop(&mut self) {
        self.task.abort();
    }
}
