//! A model's server whose streams have an event a second, each with the instant at which it was sent, so that whoever receives it knows how
//! long it was under way. It runs in this process: both ends read the same clock.

use std::net::SocketAddr;
use std::sync::LazyLock;
use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// Between two events of a stream.
pub const BEAT: Duration = Duration::from_secs(1);

const HEAD: &str = "HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ntransfer-encoding: chunked\r\n\r\n";
const NOT_THERE: &str = "HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\n\r\n";

/// Stands before the instant of an event.
const SENT: &str = "\"content\":\" sent ";

static BEGUN: LazyLock<Instant> = LazyLock::new(Instant::now);

fn now_us() -> u128 {
    BEGUN.elapsed().as_micros()
}

fn event() -> String {
    let event = format!(
        "data: {{\"id\":\"chatcmpl-1\",\"object\":\"chat.completion.chunk\",\"created\":1790000000,\"model\":\"dunlin-70b\",\"choices\":[{{\"index\":0,\"delta\":{{{SENT}{}\"}},\"finish_reason\":null}}]}}\n\n",
        now_us()
    );
    format!("{:x}\r\n{event}\r\n", event.len())
}

/// How long the events in a piece of a stream were under way.
pub fn under_way(piece: &[u8]) -> Vec<Duration> {
    let text = String::from_utf8_lossy(piece);
    let sent = text.split(SENT).skip(1).filter_map(|rest| rest.split('"').next()?.parse::<u128>().ok());
    let now = now_us();
    sent.map(|sent| Duration::from_micros(u64::try_from(now.saturating_sub(sent)).unwrap_or(u64::MAX))).collect()
}

/// The server. Its streams end when it is dropped: all at once, in the middle.
pub struct Beats {
    address: SocketAddr,
    _going: watch::Sender<()>,
}

impl Beats {
    /// Listens on a port of its own.
    pub async fn start() -> anyhow::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        let (going, ended) = watch::channel(());
        let mut accepting = ended.clone();
        tokio::spawn(async move {
            loop {
                tokio::select! {
                    _gone = accepting.changed() => return,
                    accepted = listener.accept() => {
                        let Ok((connection, _)) = accepted else { continue };
                        tokio::spawn(serve(connection, ended.clone()));
                    }
                }
            }
        });
        Ok(Self { address, _going: going })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }
}

/// Serves a connection until its other end leaves, or all of them end.
async fn serve(mut connection: TcpStream, mut ended: watch::Receiver<()>) {
    tokio::select! {
        _gone = ended.changed() => {}
        _left = answer(&mut connection) => {}
    }
}

async fn answer(connection: &mut TcpStream) -> std::io::Result<()> {
    connection.set_nodelay(true)?;
    let mut head = Vec::new();
    loop {
        head.clear();
        // What is asked ends with its body, which is told apart from nothing here: a question comes in one piece.
        while !head.windows(4).any(|part| part == b"\r\n\r\n") {
            if connection.read_buf(&mut head).await? == 0 {
                return Ok(());
            }
        }
        if head.starts_with(b"POST") {
            break;
        }
        connection.write_all(NOT_THERE.as_bytes()).await?;
    }
    connection.write_all(HEAD.as_bytes()).await?;
    let mut beat = tokio::time::interval(BEAT);
    loop {
        beat.tick().await;
        connection.write_all(event().as_bytes()).await?;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_tell_how_long_they_were_under_way() {
        let before = now_us();
        let two = [event(), event()].concat();
        let longest = Duration::from_micros(u64::try_from(now_us() - before).unwrap() + 1_000_000);
        let times = under_way(two.as_bytes());
        assert_eq!(times.len(), 2);
        assert!(times.iter().all(|time| *time <= longest), "{times:?}");
        assert_eq!(under_way(b"data: [DONE]\n\n"), []);
    }
}
