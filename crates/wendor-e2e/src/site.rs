//! Another web site, for tests of what its pages can do to the service.

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

/// A site that answers every path with one page, on a port of its own: to a browser that is another origin.
#[derive(Debug)]
pub struct Site {
    /// Its origin.
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

impl Drop for Site {
    fn drop(&mut self) {
        self.task.abort();
    }
}
