//! Real programs from Debian's packages, each started on loopback with a configuration of this folder, and sockets that behave as none should.

use std::fs;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use wendor_e2e::waiting::until;

/// What stands in a configuration for what is known only when it runs.
pub type Places<'a> = &'a [(&'a str, String)];

/// A running program, with its files. Dropping it ends it.
pub struct Program {
    child: Child,
    _folder: tempfile::TempDir,
}

impl Drop for Program {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _gone = self.child.kill();
        let _status = self.child.wait();
    }
}

/// A port that was free a moment ago.
pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

fn text_of(file: &str) -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/e2e/drills/zoo").join(file);
    fs::read_to_string(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

fn filled(text: &str, places: Places<'_>) -> String {
    // Longer names first: one may begin another.
    let mut places = places.to_vec();
    places.sort_by_key(|(name, _)| std::cmp::Reverse(name.len()));
    places.iter().fold(text.to_owned(), |text, (name, value)| text.replace(name, value))
}

async fn started(mut command: Command, folder: tempfile::TempDir, port: u16) -> Program {
    let name = command.get_program().to_string_lossy().into_owned();
    let log = fs::File::create(folder.path().join("said")).unwrap();
    let command = command.stdin(Stdio::null()).stdout(log.try_clone().unwrap()).stderr(log);
    let child = command.spawn().unwrap_or_else(|error| panic!("{name}: {error}; `scripts/test` installs it"));
    let program = Program { child, _folder: folder };
    until(&format!("{name} to listen"), || async {
        TcpStream::connect_timeout(&SocketAddr::from(([127, 0, 0, 1], port)), Duration::from_millis(200)).ok()
    })
    .await;
    program
}

fn places_in(folder: &Path, port: u16, places: Places<'_>) -> Vec<(&'static str, String)> {
    let named = |name: &str| places.iter().find(|(known, _)| *known == name).map(|(_, value)| value.clone());
    let mut all = vec![("PORT", port.to_string()), ("FOLDER", folder.display().to_string())];
    for name in ["BEHIND_PORT", "BEHIND", "SECOND", "DEAD", "CHAIN", "KEY", "AUTHORITY"] {
        all.extend(named(name).map(|value| (name, value)));
    }
    all
}

/// A web server, or a proxy, with that configuration.
pub async fn web(name: &str, port: u16, places: Places<'_>) -> Program {
    let folder = tempfile::tempdir().unwrap();
    // Its user is `harbour`, with the password `pilot`, in the form that is not encrypted.
    fs::write(folder.path().join("people"), "harbour:{PLAIN}pilot\n").unwrap();
    fs::create_dir(folder.path().join("empty")).unwrap();
    let server = text_of(&format!("web/{name}.conf"));
    let text = text_of("web/frame.conf").replace("SERVER", &server);
    let file = folder.path().join("web.conf");
    fs::write(&file, filled(&text, &places_in(folder.path(), port, places))).unwrap();
    let mut command = Command::new("nginx");
    command.arg("-e").arg(folder.path().join("error.log")).arg("-p").arg(folder.path()).arg("-c").arg(file);
    started(command, folder, port).await
}

/// A tool that puts TLS before a server.
pub async fn tls(name: &str, port: u16, places: Places<'_>) -> Program {
    let folder = tempfile::tempdir().unwrap();
    let text = text_of("tls/frame.conf").replace("OPTIONS", &text_of(&format!("tls/{name}.conf")));
    let file = folder.path().join("tls.conf");
    fs::write(&file, filled(&text, &places_in(folder.path(), port, places))).unwrap();
    let mut command = Command::new("stunnel4");
    command.arg(file);
    started(command, folder, port).await
}

/// Starts the balancer of that name before the places.
pub async fn balancer(name: &str, port: u16, places: Places<'_>) -> Program {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("balancer.cfg");
    let text = text_of(&format!("balancer/{name}.cfg"));
    fs::write(&file, filled(&text, &places_in(folder.path(), port, places))).unwrap();
    let mut command = Command::new("haproxy");
    command.arg("-db").arg("-f").arg(file);
    started(command, folder, port).await
}

/// A remote shell, whose banner comes unasked.
pub async fn shell(port: u16) -> Program {
    let folder = tempfile::tempdir().unwrap();
    let key = folder.path().join("key");
    let made = Command::new("dropbearkey").args(["-t", "ed25519", "-f"]).arg(&key).output().unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let mut command = Command::new("dropbear");
    command.args(["-F", "-E", "-p", &format!("127.0.0.1:{port}"), "-r"]).arg(&key);
    command.arg("-P").arg(folder.path().join("pid"));
    started(command, folder, port).await
}

/// How a socket behaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Socket {
    /// It takes connections and says nothing.
    Stalls,
    /// It takes connections and closes them.
    Closes,
    /// It reads a little and resets the connection.
    Resets,
    /// It answers letter by letter, and does not come to the end of its headers.
    Trickles,
    /// It answers with something else.
    Mumbles,
}

/// A socket that behaves so, on a thread that ends with the process. Gives its port.
pub fn socket(how: Socket) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        let mut kept = Vec::new();
        for stream in listener.incoming().flatten() {
            match how {
                Socket::Stalls => kept.push(stream),
                Socket::Closes => drop(stream),
                Socket::Resets => resets(stream),
                Socket::Trickles => drop(std::thread::spawn(move || trickles(stream))),
                Socket::Mumbles => mumbles(stream),
            }
        }
    });
    port
}

fn resets(mut stream: TcpStream) {
    let mut first = [0; 16];
    // Whoever only connects sends nothing.
    let _read = stream.set_read_timeout(Some(Duration::from_millis(300))).and_then(|()| stream.read(&mut first));
    let socket = socket2::SockRef::from(&stream);
    // Closed at once, with what was not read thrown away.
    let _reset = socket.set_linger(Some(Duration::ZERO));
}

fn trickles(mut stream: TcpStream) {
    // Nobody is answered before they ask.
    if !stream.read(&mut [0; 1_024]).is_ok_and(|read| read > 0) {
        return;
    }
    for letter in "HTTP/1.1 200 OK\r\nx-harbour: ".bytes().chain(std::iter::repeat_n(b'a', 4_000)) {
        if stream.write_all(&[letter]).is_err() {
            return;
        }
        std::thread::sleep(Duration::from_millis(150));
    }
}

fn mumbles(mut stream: TcpStream) {
    // Nobody may be there any more.
    let _said = stream.write_all(b"220 quay.tern.example mail ready\r\n");
    let _read = stream.read(&mut [0; 64]);
}
