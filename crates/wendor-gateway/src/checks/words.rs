//! What a port says where it is no HTTP answer: a banner of its own, TLS, the second version of HTTP. Nothing of ours is told to it.

use std::io::ErrorKind;
use std::net::SocketAddr;
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;
use wendor_core::diagnosis::hello;
use wendor_core::diagnosis::seen::Words;

use super::dial::CONNECT;

/// How long it is waited for a banner: servers that have one send it at once.
const BANNER: Duration = Duration::from_millis(400);

/// How long it is waited for an answer.
const ANSWER: Duration = Duration::from_millis(900);

/// What a port says by itself, or else to a plain request.
pub async fn of(to: SocketAddr) -> Words {
    let Some(mut line) = connected(to).await else { return Words::Closed };
    let unasked = said(&mut line, BANNER).await;
    if unasked != Words::Nothing {
        return unasked;
    }
    if line.write_all(b"GET / HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n").await.is_err() {
        return Words::Closed;
    }
    said(&mut line, ANSWER).await
}

/// The versions and ciphers that a server is left with, where it speaks only such as are not used any more.
pub async fn too_old(to: SocketAddr, host: &str) -> Option<String> {
    let mut line = connected(to).await?;
    line.write_all(&hello::greeting(host, rand::random())).await.ok()?;
    let mut answer = [0; 256];
    let read = timeout(ANSWER, line.read(&mut answer)).await.ok()?.ok()?;
    hello::too_old(answer.get(..read)?)
}

async fn connected(to: SocketAddr) -> Option<TcpStream> {
    timeout(CONNECT, TcpStream::connect(to)).await.ok()?.ok()
}

async fn said(line: &mut TcpStream, within: Duration) -> Words {
    let mut bytes = [0; 256];
    match timeout(within, line.read(&mut bytes)).await {
        Err(_elapsed) => Words::Nothing,
        Ok(Ok(0)) => Words::Closed,
        Ok(Ok(read)) => Words::of(bytes.get(..read).unwrap_or_default()),
        Ok(Err(error)) if error.kind() == ErrorKind::ConnectionReset => Words::Reset,
        Ok(Err(_)) => Words::Closed,
    }
}
