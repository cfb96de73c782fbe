//! Where the service listens: who reaches what, under which name, and whether the way is encrypted.

use std::net::IpAddr;
use std::path::Path;
use std::time::Duration;

use reqwest::tls::TlsInfo;
use reqwest::{Certificate, Client};
use rstest::rstest;
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use wendor_e2e::ferry::{Ferry, Wishes, question};
use wendor_e2e::service::Service;
use wendor_e2e::waiting::until;
use wendor_standins::memory::Profile;

/// A certificate for 127.0.0.1 that signs itself, and the client that trusts it.
fn certify(folder: &Path) -> (Client, Vec<u8>) {
    let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".to_owned(), "localhost".to_owned()]).unwrap();
    let pem = made.cert.pem();
    // The key first: what is looked at between the two does not fit, and is looked at again.
    std::fs::write(folder.join("key.pem"), made.signing_key.serialize_pem()).unwrap();
    std::fs::write(folder.join("cert.pem"), &pem).unwrap();
    let trusted = Certificate::from_pem(pem.as_bytes()).unwrap();
    (Client::builder().no_proxy().tls_certs_only([trusted]).build().unwrap(), made.cert.der().to_vec())
}

struct Encrypted {
    ferry: Ferry,
    client: Client,
    der: Vec<u8>,
    folder: tempfile::TempDir,
}

async fn encrypted(more: Vec<(&'static str, String)>, quayside: Option<Profile>) -> Encrypted {
    let folder = tempfile::tempdir().unwrap();
    let _installed = rustls::crypto::ring::default_provider().install_default();
    let (client, der) = certify(folder.path());
    let file = |name: &str| folder.path().join(name).display().to_string();
    let mut settings = vec![("WENDOR_CERTIFICATE", file("cert.pem")), ("WENDOR_CERTIFICATE_KEY", file("key.pem"))];
    settings.extend(more);
    let patience = Some("60s");
    let wishes = Wishes { settings, quayside, patience, client: Some(client.clone()), ..Wishes::default() };
    let ferry = Ferry::with(wishes).await;
    Encrypted { ferry, client, der, folder }
}

/// The certificate that a new connection gets.
async fn shown(url: &str) -> Vec<u8> {
    let looking = Client::builder().no_proxy().tls_info(true).tls_danger_accept_invalid_certs(true).build().unwrap();
    let answer = looking.get(format!("{url}/livez")).send().await.unwrap();
    answer.extensions().get::<TlsInfo>().unwrap().peer_certificate().unwrap().to_vec()
}

fn address_of(url: &str) -> &str {
    url.split_once("://").unwrap().1
}

/// The certificate is replaced while 200 streams are open: none ends early, and who comes later gets the new one.
#[tokio::test]
async fn a_certificate_is_replaced_under_open_streams() {
    let quick = Profile::quick("quayside", &["dunlin-70b"]);
    let slow = Profile { tokens_per_second: 8, answer_tokens: (48, 48), ..quick };
    let Encrypted { ferry, client, der, folder } = encrypted(vec![], Some(slow)).await;
    let url = ferry.service.url.clone();
    assert_eq!(shown(&url).await, der);
    let ask = async |client: Client| {
        let answer = client
            .post(format!("{}/v1/chat/completions", ferry.service.url))
            .bearer_auth(&ferry.key)
            .json(&question("harbour", true))
            .send()
            .await
            .unwrap();
        assert_eq!(answer.status(), 200);
        answer
    };
    let trusted = Certificate::from_der(&der).unwrap();
    let older = Client::builder().no_proxy().http1_only().tls_certs_only([trusted]).build().unwrap();
    let clients = (0..200).map(|number| if number < 50 { client.clone() } else { older.clone() });
    let open = futures_util::future::join_all(clients.map(ask)).await;
    let (_, new) = certify(folder.path());
    until("the new certificate to be in force", || async { (shown(&url).await == new).then_some(()) }).await;
    let texts = futures_util::future::join_all(open.into_iter().map(|answer| answer.text())).await;
    for text in texts {
        assert!(text.unwrap().trim_end().ends_with("data: [DONE]"), "a stream ended early");
    }
    assert!(client.get(format!("{}/livez", ferry.service.url)).send().await.is_ok(), "an open connection goes on");
    let fresh = Client::builder().no_proxy().tls_certs_only([Certificate::from_der(&der).unwrap()]).build().unwrap();
    assert!(fresh.get(format!("{}/livez", ferry.service.url)).send().await.is_err(), "a new one gets the new one");
    // One that will not do changes nothing.
    std::fs::write(folder.path().join("cert.pem"), "no certificate").unwrap();
    until("it to be told", || async {
        ferry.service.logged("the new certificate cannot be used; the one before stays in force")
    })
    .await;
    assert_eq!(shown(&url).await, new);
}

#[tokio::test]
async fn an_encrypted_service_speaks_both_versions_and_guards_its_cookie() {
    let Encrypted { ferry, client, der, .. } = encrypted(vec![], None).await;
    let livez = client.get(format!("{}/livez", ferry.service.url)).send().await.unwrap();
    assert_eq!(livez.version(), reqwest::Version::HTTP_2);
    assert_eq!(livez.headers()["strict-transport-security"], "max-age=31536000");
    let trusted = Certificate::from_der(&der).unwrap();
    let older = Client::builder().no_proxy().http1_only().tls_certs_only([trusted]).build().unwrap();
    for (client, version) in [(&client, reqwest::Version::HTTP_2), (&older, reqwest::Version::HTTP_11)] {
        for stream in [false, true] {
            let ask = client.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
            let answer = ask.json(&question("harbour", stream)).send().await.unwrap();
            assert_eq!((answer.status().as_u16(), answer.version()), (200, version));
            assert!(answer.text().await.unwrap().contains("choices"));
        }
    }
    let one_time = ferry.one_time("lookout", "operator", None).await;
    let session = client.post(ferry.manage("/session")).json(&json!({ "one_time": one_time })).send().await.unwrap();
    let cookie = session.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.starts_with("__Host-wendor_session=wdt-"), "{cookie}");
    for part in ["HttpOnly", "SameSite=Strict", "Secure", "Path=/"] {
        assert!(cookie.split("; ").any(|found| found == part), "{part} in {cookie}");
    }
    let cookie = cookie.split(';').next().unwrap().to_owned();
    let me = client.get(ferry.manage("/me")).header("cookie", cookie).send().await.unwrap();
    assert_eq!(me.status(), 200);
    let page =
        ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).json(&json!({})).send().await.unwrap();
    assert!(page.text().await.unwrap().contains(&format!("{}/errors/", ferry.service.url)));
    // Handshakes that are never ended are.
    let mut half = TcpStream::connect(address_of(&ferry.service.url)).await.unwrap();
    half.write_all(&[0x16, 0x03, 0x01]).await.unwrap();
    let ended = tokio::time::timeout(Duration::from_secs(15), half.read(&mut [0; 64])).await;
    assert!(matches!(ended, Ok(Ok(0) | Err(_))), "{ended:?}");
}

fn split() -> Wishes {
    Wishes { settings: vec![("WENDOR_MANAGE_LISTEN", "127.0.0.1:0".to_owned())], ..Wishes::default() }
}

/// What is for people is not where apps ask, however the path is written, and the other way round.
#[tokio::test]
async fn apps_and_people_have_listeners_of_their_own() {
    let ferry = Ferry::with(split()).await;
    let apps = ferry.service.url.clone();
    let people = ferry.service.manage_url.clone();
    assert_ne!(apps, people);
    let status =
        async |url: String| ferry.http.get(url).bearer_auth(&ferry.owner).send().await.unwrap().status().as_u16();
    for path in [
        "/manage/v1/people",
        "/%6danage/v1/people",
        "/manage%2fv1/people",
        "//manage/v1/people",
        "/v1/../manage/v1/people",
        "/v1/%2e%2e/manage/v1/people",
        "/console/",
        "/%63onsole/",
        "/metrics",
        "/%6detrics",
    ] {
        assert_eq!(status(format!("{apps}{path}")).await, 404, "{path}");
    }
    assert_eq!(status(format!("{people}/manage/v1/people")).await, 200);
    assert_eq!(status(format!("{people}/metrics")).await, 200);
    let ready = async |base: &str| ferry.http.get(format!("{base}/readyz")).send().await.unwrap().text().await.unwrap();
    assert_eq!(ready(&apps).await, "ready\n");
    assert!(ready(&people).await.contains("spool_pending"));
    for base in [&apps, &people] {
        assert_eq!(status(format!("{base}/livez")).await, 200);
    }
    let asked = ferry.http.post(format!("{people}/v1/chat/completions")).bearer_auth(&ferry.key);
    assert_eq!(asked.json(&question("harbour", false)).send().await.unwrap().status(), 404);
    assert_eq!(ferry.ask(&question("harbour", false)).await.status(), 200);
    let code = ferry.get("/routes/harbour/code").await;
    assert!(code["url"].as_str().unwrap().starts_with("http://127.0.0.1"), "{}", code["url"]);
}

/// Where one listener is for everybody, an escaped beginning does not get round whoever looks at beginnings in front.
#[rstest]
#[case("/%6danage/v1/people")]
#[case("/%6Danage/v1/me")]
#[case("/%6detrics")]
#[case("/%63onsole/")]
#[tokio::test]
async fn an_escaped_beginning_is_another_path(#[case] path: &str) {
    let ferry = Ferry::begin().await;
    let asked = ferry.http.get(format!("{}{path}", ferry.service.url)).bearer_auth(&ferry.owner);
    assert_eq!(asked.send().await.unwrap().status(), 404);
}

#[tokio::test]
async fn what_others_could_reach_unencrypted_does_not_start() {
    let ferry = Ferry::begin().await;
    for (name, value) in [("WENDOR_LISTEN", "0.0.0.0:0"), ("WENDOR_MANAGE_LISTEN", "0.0.0.0:0")] {
        let mut start = ferry.start.clone();
        start.spool = ferry.folder().join("another-spool");
        start.environment.push((name.to_owned(), value.to_owned()));
        let refusal = Service::refused(&start).await;
        for remedy in ["127.0.0.1:0", "certificate_key", "trusted_proxies"] {
            assert!(refusal.contains(remedy), "{refusal}");
        }
    }
}

/// The address that the audit tells is the one that a trusted proxy has told, and nobody else's word counts.
#[rstest]
#[case::trusted("127.0.0.1", "198.51.100.7", "198.51.100.7")]
#[case::a_stranger("10.0.0.0/8", "198.51.100.7", "127.0.0.1")]
#[tokio::test]
async fn where_a_call_comes_from(#[case] proxies: &str, #[case] said: &str, #[case] told: &str) {
    let settings = vec![("WENDOR_TRUSTED_PROXIES", proxies.to_owned())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let call = ferry.http.post(ferry.manage("/keys")).bearer_auth(&ferry.owner);
    let call = call.header("x-forwarded-for", format!("203.0.113.1, {said}")).header("x-forwarded-proto", "https");
    let issued = call.json(&json!({ "team": "timetables", "label": "x" })).send().await.unwrap();
    assert_eq!(issued.status(), 200);
    let audit = ferry.get("/audit?action=key-issued&limit=1").await;
    let address: IpAddr = audit["entries"][0]["address"].as_str().unwrap().parse().unwrap();
    assert_eq!(address, told.parse::<IpAddr>().unwrap());
    let one_time = ferry.one_time("lookout", "operator", None).await;
    let session = ferry.http.post(ferry.manage("/session")).header("x-forwarded-proto", "https");
    let session = session.json(&json!({ "one_time": one_time })).send().await.unwrap();
    let cookie = session.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert_eq!(cookie.starts_with("__Host-"), told == said, "{cookie}");
    let _body: Value = session.json().await.unwrap();
}

/// A page of the public address is a page of this service; links lead there.
#[tokio::test]
async fn the_public_address_is_the_services_own() {
    let settings = vec![("WENDOR_PUBLIC_URL", "https://models.example".to_owned())];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let ask = |origin: &'static str| {
        let call = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).bearer_auth(&ferry.key);
        call.header("origin", origin).json(&question("harbour", false)).send()
    };
    assert_eq!(ask("https://models.example").await.unwrap().status(), 200);
    assert_eq!(ask("https://other.example").await.unwrap().status(), 403);
    let refused = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url)).json(&json!({})).send().await;
    let refused = refused.unwrap();
    assert_eq!(refused.headers()["strict-transport-security"], "max-age=31536000");
    assert!(refused.text().await.unwrap().contains("https://models.example/errors/"));
    assert_eq!(ferry.get("/routes/harbour/code").await["url"], "https://models.example");
}
