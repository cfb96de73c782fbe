//! An app and a model's server that allocate nothing while they talk, and go on one step at a time: the next event is sent once the one
//! before it has arrived.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::{Arc, Condvar, Mutex};
use std::time::Duration;

const HEAD_OF_WHOLE: &str = "HTTP/1.1 200 OK\r\ncontent-type: application/json\r\n";
const WHOLE: &str = r#"{"id":"chatcmpl-1","object":"chat.completion","created":1790000000,"model":"dunlin-70b","choices":[{"index":0,"message":{"role":"assistant","content":"The last boat to Stack Isle leaves at 21:40 on Sundays, from the North Pier, and does not take cars."},"finish_reason":"stop"}],"usage":{"prompt_tokens":31,"completion_tokens":40,"total_tokens":71}}"#;
const HEAD_OF_STREAM: &str = "HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ntransfer-encoding: chunked\r\n\r\n";
const EVENT: &str = "data: {\"id\":\"chatcmpl-1\",\"object\":\"chat.completion.chunk\",\"created\":1790000000,\"model\":\"dunlin-70b\",\"choices\":[{\"index\":0,\"delta\":{\"content\":\" boat\"},\"finish_reason\":null}]}\n\n";
const LAST_EVENTS: &str = "data: {\"id\":\"chatcmpl-1\",\"object\":\"chat.completion.chunk\",\"created\":1790000000,\"model\":\"dunlin-70b\",\"choices\":[{\"index\":0,\"delta\":{},\"finish_reason\":\"stop\"}]}\n\ndata: [DONE]\n\n";
const NOT_THERE: &str = "HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\n\r\n";

/// Whose turn it is in a stream.
#[derive(Debug, Default)]
struct Turns {
    /// Events that the next stream has.
    events: usize,
    /// Events that may be sent by now.
    may_send: usize,
}

/// The model's server.
#[derive(Clone, Debug)]
pub struct ModelServer {
    address: SocketAddr,
    turns: Arc<(Mutex<Turns>, Condvar)>,
    texts: Arc<Texts>,
}

/// What it sends, made once, so that a connection allocates nothing.
#[derive(Debug)]
struct Texts {
    whole: String,
    event: String,
    last: String,
}

impl Texts {
    fn new() -> Self {
        Self {
            whole: format!("{HEAD_OF_WHOLE}content-length: {}\r\n\r\n{WHOLE}", WHOLE.len()),
            event: format!("{:x}\r\n{EVENT}\r\n", EVENT.len()),
            last: format!("{:x}\r\n{LAST_EVENTS}\r\n0\r\n\r\n", LAST_EVENTS.len()),
        }
    }
}

impl ModelServer {
    pub fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let texts = Arc::new(Texts::new());
        let server = Self { address: listener.local_addr().unwrap(), turns: Arc::default(), texts };
        let own = server.clone();
        std::thread::spawn(move || {
            for connection in listener.incoming() {
                let own = own.clone();
                std::thread::spawn(move || own.serve(connection.unwrap()));
            }
        });
        server
    }

    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The next stream has so many events.
    pub fn will_send(&self, events: usize) {
        *self.turns.0.lock().unwrap() = Turns { events, may_send: 0 };
    }

    /// Every stream may go on to its end.
    pub fn may_end(&self) {
        self.turns.0.lock().unwrap().may_send = usize::MAX;
        self.turns.1.notify_all();
    }

    /// The app has all that was sent.
    fn next(&self) {
        self.turns.0.lock().unwrap().may_send += 1;
        self.turns.1.notify_all();
    }

    fn serve(&self, mut connection: TcpStream) {
        connection.set_nodelay(true).unwrap();
        let Texts { whole, event, last } = &*self.texts;
        let mut buffer = [0; 16 * 1024];
        while let Some(request) = message(&mut connection, &mut buffer) {
            if !request.starts_with(b"POST") {
                connection.write_all(NOT_THERE.as_bytes()).unwrap();
            } else if find(request, b"\"stream\":true").is_some() {
                connection.write_all(HEAD_OF_STREAM.as_bytes()).unwrap();
                let events = self.turns.0.lock().unwrap().events;
                for sent in 0..events {
                    let turns = self.turns.0.lock().unwrap();
                    drop(self.turns.1.wait_while(turns, |turns| turns.may_send < sent).unwrap());
                    connection.write_all(event.as_bytes()).unwrap();
                }
                let turns = self.turns.0.lock().unwrap();
                drop(self.turns.1.wait_while(turns, |turns| turns.may_send < events).unwrap());
                connection.write_all(last.as_bytes()).unwrap();
            } else {
                connection.write_all(whole.as_bytes()).unwrap();
            }
        }
    }
}

fn find(bytes: &[u8], wanted: &[u8]) -> Option<usize> {
    bytes.windows(wanted.len()).position(|part| part == wanted)
}

/// One message with the length that it declares; `None` at the end of the connection.
fn message<'b>(connection: &mut TcpStream, buffer: &'b mut [u8]) -> Option<&'b [u8]> {
    let mut filled = 0;
    loop {
        let read = connection.read(&mut buffer[filled..]).unwrap_or(0);
        if read == 0 {
            return None;
        }
        filled += read;
        let Some(head) = find(&buffer[..filled], b"\r\n\r\n") else { continue };
        if filled >= head + 4 + declared(&buffer[..head]) {
            return Some(&buffer[..filled]);
        }
    }
}

fn declared(head: &[u8]) -> usize {
    let name = b"content-length: ";
    let Some(at) = find(head, name) else { return 0 };
    let digits = head[at + name.len()..].iter().take_while(|byte| byte.is_ascii_digit());
    digits.fold(0, |length, digit| length * 10 + usize::from(digit - b'0'))
}

/// Between two looks at what waits in the spool.
const BETWEEN_LOOKS: Duration = Duration::from_millis(50);

/// What an app asks, ready to be sent.
pub struct Question(String);

impl Question {
    fn new(key: &str, path: &str, body: &str) -> Self {
        let length = body.len();
        Self(format!(
            "POST {path} HTTP/1.1\r\nhost: 127.0.0.1\r\ncontent-type: application/json\r\nauthorization: Bearer {key}\r\ncontent-length: {length}\r\n\r\n{body}"
        ))
    }

    pub fn whole(key: &str) -> Self {
        Self::new(
            key,
            "/v1/chat/completions",
            r#"{"model":"harbour","temperature":0.2,"messages":[{"role":"system","content":"You answer for Tern Isles Ferries, briefly and with times of day."},{"role":"user","content":"When does the last boat to Stack Isle leave on Sundays?"}]}"#,
        )
    }

    pub fn streamed(key: &str) -> Self {
        Self::new(
            key,
            "/v1/chat/completions",
            r#"{"model":"harbour","stream":true,"messages":[{"role":"user","content":"When does the last boat to Stack Isle leave?"}]}"#,
        )
    }

    pub fn translated(key: &str) -> Self {
        Self::new(
            key,
            "/v1/messages",
            r#"{"model":"harbour","stream":true,"max_tokens":4096,"messages":[{"role":"user","content":"When does the last boat to Stack Isle leave?"}]}"#,
        )
    }
}

/// A stream that has begun and goes on when it may.
pub struct OpenStream(TcpStream);

impl OpenStream {
    /// Opens one on a connection of its own, and has its first event.
    pub fn open(address: SocketAddr, question: &Question, buffer: &mut [u8]) -> Self {
        let mut connection = TcpStream::connect(address).unwrap();
        connection.write_all(question.0.as_bytes()).unwrap();
        let mut filled = 0;
        while find(&buffer[..filled], b" boat").is_none() {
            let read = connection.read(&mut buffer[filled..]).unwrap();
            assert!(read > 0, "the stream ends");
            filled += read;
        }
        Self(connection)
    }

    /// Waits for its end.
    pub fn end(mut self, buffer: &mut [u8]) {
        loop {
            let read = self.0.read(buffer).unwrap();
            assert!(read > 0, "the stream breaks off");
            if buffer[..read].ends_with(b"0\r\n\r\n") {
                return;
            }
        }
    }
}

/// An app with one connection.
pub struct App {
    address: SocketAddr,
    connection: TcpStream,
    buffer: Box<[u8; 64 * 1024]>,
}

impl App {
    pub fn connect(address: SocketAddr) -> Self {
        let connection = TcpStream::connect(address).unwrap();
        connection.set_nodelay(true).unwrap();
        Self { address, connection, buffer: Box::new([0; 64 * 1024]) }
    }

    /// Asks, and reads the whole answer.
    pub fn ask(&mut self, question: &Question, status: u16) {
        self.connection.write_all(question.0.as_bytes()).unwrap();
        let answer = message(&mut self.connection, &mut self.buffer[..]);
        let answer = answer.unwrap_or_else(|| panic!("no answer to {}", question.0));
        let told = answer[9..12].iter().fold(0, |number, digit| number * 10 + u16::from(digit - b'0'));
        assert_eq!(told, status, "{}", String::from_utf8_lossy(answer));
    }

    /// Asks, and lets the server go on with each event that has come.
    pub fn ask_stream(&mut self, question: &Question, events: usize, server: &ModelServer) {
        self.connection.write_all(question.0.as_bytes()).unwrap();
        let (mut came, mut told) = (0, 0);
        loop {
            let read = self.connection.read(&mut self.buffer[..]).unwrap();
            assert!(read > 0, "the stream ends");
            let part = &self.buffer[..read];
            came += part.windows(5).filter(|part| part == b" boat").count();
            while told < came.min(events) {
                told += 1;
                server.next();
            }
            if part.ends_with(b"0\r\n\r\n") {
                return assert_eq!(came, events);
            }
        }
    }

    /// Waits until the service serves, and the database has every entry. Asked now and then alone: each time costs as much as a request.
    pub fn wait_until_drained(&mut self) {
        loop {
            std::thread::sleep(BETWEEN_LOOKS);
            let asked = self.connection.write_all(b"GET /readyz HTTP/1.1\r\nhost: 127.0.0.1\r\n\r\n");
            match asked.ok().and_then(|()| message(&mut self.connection, &mut self.buffer[..])) {
                Some(answer) if find(answer, b"\"spool_pending\":0,").is_some() => return,
                Some(_) => {}
                // What answers before the service does closes its connections.
                None => *self = Self::connect(self.address),
            }
        }
    }
}
