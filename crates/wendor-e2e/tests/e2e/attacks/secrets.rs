//! What an operator could read of the service's secrets, or a server have sent elsewhere.

use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{ChaCha20Poly1305, Nonce};
use rstest::rstest;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use wendor_e2e::ferry::{Ferry, Wishes, question};
use wendor_e2e::waiting::until;
use wendor_e2e::wendor::wendor;
use wendor_standins::manners::Manners;
use wendor_standins::server::{Profile, StandIn};

const SECRET: &str = "the tide waits for nobody, not even for ferries";
const KEY: &str = "planted-key-of-the-pier";

async fn ferry(more: &[(&'static str, &str)]) -> Ferry {
    let settings = [("WENDOR_SECRET", SECRET)].iter().chain(more).map(|(name, value)| (*name, (*value).to_owned()));
    Ferry::with(Wishes { settings: settings.collect(), ..Wishes::default() }).await
}

async fn pier() -> StandIn {
    StandIn::start(Profile { credential: Some(KEY.into()), ..Profile::quick("pier", &["dunlin-7b"]) }).await.unwrap()
}

/// Brings the pier in with a key that Wendor keeps, and a route to it. Gives the id of what is kept.
async fn kept(ferry: &Ferry, pier: &StandIn) -> String {
    let settings = json!({ "address": format!("http://{}", pier.address()), "dialect": "chat-completions",
                           "credential": { "value": KEY }, "offers": [{ "model": "dunlin-7b" }] });
    ferry.post("/upstreams", &json!({ "name": "pier", "settings": settings })).await;
    ferry.post("/routes", &json!({ "name": "deck-plans", "offers": ["pier/dunlin-7b"] })).await;
    assert_eq!(ferry.ask(&question("deck-plans", false)).await.status(), 200);
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    let id = text.split("kept = \"").nth(1).and_then(|rest| rest.split('"').next());
    id.unwrap().to_owned()
}

async fn again(ferry: &mut Ferry) {
    ferry.service.terminate();
    assert!(ferry.service.ended().await);
    ferry.restart().await;
}

fn heard(server: &StandIn) -> String {
    format!("{:?} {:?}", server.last_seen(), server.last_look())
}

/// Nothing of the service can be named but what is meant for upstreams.
#[rstest]
#[case::any_variable(json!({ "env": "WENDOR_SECRET" }))]
#[case::database(json!({ "env": "WENDOR_DATABASE_URL" }))]
#[case::any_file(json!({ "file": "/etc/hostname" }))]
#[case::above_the_folder(json!({ "file": "../../etc/hostname" }))]
#[tokio::test]
async fn a_draft_names_no_other_secret(#[case] credential: Value) {
    let ferry = ferry(&[]).await;
    let mine = StandIn::start(Profile::quick("mine", &["dunlin-7b"])).await.unwrap();
    let operator = ferry.sign_in("lookout", "operator", None).await;
    let draft = json!({ "address": format!("http://{}", mine.address()), "dialect": "chat-completions", "credential": credential });
    let call = ferry.http.post(ferry.manage("/upstreams/check")).bearer_auth(operator).json(&json!({ "draft": draft }));
    let text = call.send().await.unwrap().text().await.unwrap();
    let hostname = std::fs::read_to_string("/etc/hostname").unwrap_or_default();
    assert!(!heard(&mine).contains(SECRET) && !heard(&mine).contains(hostname.trim()), "{}", heard(&mine));
    let says = ["is not a variable for a credential", "has no folder of credentials", "is not a file for a credential"];
    assert!(says.iter().any(|why| text.contains(why)), "{text}");
    // The same in a file of the whole catalogue.
    let (word, value) = credential.as_object().unwrap().iter().next().unwrap();
    let file = format!(
        "[upstreams.mine]\naddress = \"http://{}\"\nhosting = \"own\"\ncredential = {{ {word} = {value} }}\noffers.dunlin-7b = {{}}\n\
         [routes.mine]\nstages = [{{ offers = [\"mine/dunlin-7b\"] }}]\n[teams.timetables]\n",
        mine.address()
    );
    let call = ferry.http.post(ferry.manage("/catalogue")).bearer_auth(&ferry.owner);
    let applied = call.json(&json!({ "text": file, "base": 1, "note": "" })).send().await.unwrap();
    if applied.status() == 200 {
        assert_ne!(ferry.ask(&question("mine", false)).await.status(), 200);
    }
    assert!(!heard(&mine).contains(SECRET) && !heard(&mine).contains(hostname.trim()), "{}", heard(&mine));
}

/// What is kept for one host goes to no other, whoever writes the address.
#[tokio::test]
async fn a_kept_key_goes_nowhere_else() {
    let ferry = ferry(&[]).await;
    let pier = pier().await;
    let id = kept(&ferry, &pier).await;
    // The attacker's server stands at another host of the same machine.
    let mine = StandIn::start(Profile::quick("mine", &["dunlin-7b"])).await.unwrap();
    let mine_at = format!("http://localhost:{}", mine.address().port());
    let draft = json!({ "address": mine_at, "dialect": "chat-completions", "credential": { "kept": id } });
    let report = ferry.post("/upstreams/check", &json!({ "draft": draft })).await.to_string();
    assert!(report.contains("is for pier at 127.0.0.1 and is not sent elsewhere"), "{report}");

    let moved = json!({ "change": { "setting": "address", "to": mine_at } });
    let call = ferry.http.post(ferry.manage("/upstreams/pier/mend")).bearer_auth(&ferry.owner).json(&moved);
    let refused = call.send().await.unwrap();
    assert_eq!(refused.status(), 400);
    assert!(refused.text().await.unwrap().contains("leads to another host, localhost"));

    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    ferry.apply(&text.replace(&format!("http://{}", pier.address()), &mine_at)).await;
    let answer = ferry.ask(&question("deck-plans", false)).await;
    let answered = answer.text().await.unwrap();
    assert!(answered.contains("misconfigured") && answered.contains("set the one for localhost"), "{answered}");
    // Nor under another name at the same host.
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    let renamed = text.replace("upstreams.pier", "upstreams.jetty").replace("\"pier/", "\"jetty/");
    ferry.apply(&renamed.replace(&mine_at, &format!("http://{}", mine.address()))).await;
    assert_ne!(ferry.ask(&question("deck-plans", false)).await.status(), 200);
    assert!(!heard(&mine).contains(KEY), "{}", heard(&mine));
}

/// A server that leads elsewhere gets nobody to send the key there by mending.
#[tokio::test]
async fn a_remedy_takes_the_key_to_no_other_host_unasked() {
    let ferry = ferry(&[]).await;
    let mine = StandIn::start(Profile::quick("mine", &["dunlin-7b"])).await.unwrap();
    let leads_to = Some(format!("http://localhost:{}/v1/models", mine.address().port()));
    let leading =
        Profile { manners: Manners { leads_to, ..Manners::default() }, ..Profile::quick("leading", &["dunlin-7b"]) };
    let leading = StandIn::start(leading).await.unwrap();
    let environment = [("WENDOR_URL", ferry.service.url.as_str()), ("WENDOR_TOKEN", ferry.owner.as_str())];
    let address = format!("http://{}", leading.address());
    let add = |more: &[&str]| {
        let args = ["upstream", "add", &address, "--name", "pier", "--key-stdin", "--mend", "--yes"];
        let args: Vec<String> = args.iter().chain(more).map(|arg| (*arg).to_owned()).collect();
        async move {
            let args: Vec<&str> = args.iter().map(String::as_str).collect();
            wendor(&args, &environment, &format!("{KEY}\n")).await
        }
    };
    let refused = add(&[]).await;
    assert_ne!(refused.status, 0);
    assert!(
        refused.err.contains("leads to another host, localhost") && refused.err.contains("--to-host"),
        "{}",
        refused.err
    );
    assert!(!heard(&mine).contains(KEY), "{}", heard(&mine));
    let meant = add(&["--to-host", "localhost"]).await;
    assert_eq!(meant.status, 0, "{}", meant.err);
    assert!(heard(&mine).contains(KEY), "{}", heard(&mine));
}

/// What a name leads to counts, when requests are sent as when it is checked.
#[tokio::test]
async fn nothing_is_sent_to_services_that_hand_out_credentials() {
    let folder = tempfile::tempdir().unwrap();
    let hosts = folder.path().join("hosts");
    std::fs::write(&hosts, "169.254.169.254 pier.tern.example\n").unwrap();
    let ferry = ferry(&[("WENDOR_HOSTS", hosts.to_str().unwrap())]).await;
    for (number, address) in
        ["http://169.254.169.254", "http://[::ffff:169.254.169.254]", "http://pier.tern.example"].iter().enumerate()
    {
        let draft = json!({ "address": address, "dialect": "chat-completions" });
        let report = ferry.post("/upstreams/check", &json!({ "draft": draft })).await.to_string();
        assert!(report.contains("address-refused"), "{report}");
        let settings =
            json!({ "address": address, "dialect": "chat-completions", "offers": [{ "model": "dunlin-7b" }] });
        let name = format!("far-{number}");
        ferry.post("/upstreams", &json!({ "name": name, "settings": settings })).await;
        ferry.post("/routes", &json!({ "name": name, "offers": [format!("{name}/dunlin-7b")] })).await;
        let text = ferry.ask(&question(&name, false)).await.text().await.unwrap();
        assert!(text.contains("hands out a machine") || text.contains("hand out a machine"), "{text}");
    }
}

/// A credential as the first release kept it: bound to its id alone.
fn first_form(id: &str) -> Vec<u8> {
    let purpose: &[u8] = b"wendor upstream credentials, first form\0";
    let key: [u8; 32] = Sha256::new().chain_update(purpose).chain_update(SECRET).finalize().into();
    let payload = Payload { msg: KEY.as_bytes(), aad: id.as_bytes() };
    let sealed = ChaCha20Poly1305::new(&key.into()).encrypt(&Nonce::from([7; 12]), payload).unwrap();
    [&[7; 12][..], &sealed].concat()
}

#[tokio::test]
async fn what_an_earlier_release_kept_is_bound_at_the_next_start() {
    let mut ferry = ferry(&[]).await;
    let pier = pier().await;
    let id = kept(&ferry, &pier).await;
    let mut database = ferry.database.connect().await;
    sqlx::query("update upstream_credential set sealed = $2, host = null, kept_under = null where id = $1")
        .bind(&id)
        .bind(first_form(&id))
        .execute(&mut database)
        .await
        .unwrap();
    again(&mut ferry).await;
    assert_eq!(ferry.ask(&question("deck-plans", false)).await.status(), 200);
    let row: (String, Vec<u8>) = sqlx::query_as("select host, sealed from upstream_credential where id = $1")
        .bind(&id)
        .fetch_one(&mut database)
        .await
        .unwrap();
    assert_eq!(row.0, "127.0.0.1");
    assert_ne!(row.1, first_form(&id));
}

#[tokio::test]
async fn the_secret_is_replaced_while_requests_are_served() {
    let mut ferry = ferry(&[]).await;
    let pier = pier().await;
    kept(&ferry, &pier).await;
    let new = "another tide table, for the winter of ferries";
    let with = |ferry: &mut Ferry, secret: &str, before: Option<&str>| {
        ferry.start.environment.retain(|(name, _)| !name.starts_with("WENDOR_SECRET"));
        ferry.start.environment.push(("WENDOR_SECRET".into(), secret.into()));
        ferry.start.environment.extend(before.map(|before| ("WENDOR_SECRET_BEFORE".into(), before.into())));
    };
    with(&mut ferry, new, Some(SECRET));
    again(&mut ferry).await;
    assert_eq!(ferry.ask(&question("deck-plans", false)).await.status(), 200);
    let shown = ferry.wendor(&["secret", "show"]).await.out;
    assert!(
        shown.contains("the one before is there too") && shown.contains("`wendor secret rotate` moves them"),
        "{shown}"
    );
    let operator = ferry.sign_in("lookout", "operator", None).await;
    let call = ferry.http.post(ferry.manage("/secret/rotate")).bearer_auth(operator);
    assert_eq!(call.send().await.unwrap().status(), 403, "an owner's");
    let rotated = ferry.wendor(&["secret", "rotate"]).await;
    assert!(rotated.out.starts_with("1 credential is under the secret"), "{} {}", rotated.out, rotated.err);
    with(&mut ferry, new, None);
    again(&mut ferry).await;
    assert_eq!(ferry.ask(&question("deck-plans", false)).await.status(), 200);
    assert_eq!(ferry.wendor(&["secret", "rotate"]).await.status, 0, "nothing is left to be done");
}

#[tokio::test]
async fn what_no_upstream_uses_is_erased() {
    let ferry = ferry(&[("WENDOR_INVENTORY_EVERY", "200ms")]).await;
    let pier = pier().await;
    let id = kept(&ferry, &pier).await;
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    let without = text.replace(&format!("credential = {{ kept = \"{id}\" }}\n"), "");
    assert_ne!(without, text);
    ferry.apply(&without).await;
    let mut database = ferry.database.connect().await;
    let older = "update upstream_credential set added_at = added_at - interval '2 hours' where id = $1";
    sqlx::query(older).bind(&id).execute(&mut database).await.unwrap();
    until("it is erased", || async {
        let mut database = ferry.database.connect().await;
        let sealed: Option<Vec<u8>> = sqlx::query_scalar("select sealed from upstream_credential where id = $1")
            .bind(&id)
            .fetch_one(&mut database)
            .await
            .unwrap();
        sealed.is_none().then_some(())
    })
    .await;
}
