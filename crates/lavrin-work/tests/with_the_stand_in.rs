//! What a server says from outside, against the stand-in.

use lavrin_keys::key::container::openssh;
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::key::{PrivateKey, PublicKey};
use lavrin_reach::ssh::{ConnectFault, Credential, ExecFault, Target};
use lavrin_standin::StandIn;
use lavrin_work::{AskTerms, Heard, Holder, NoProof, Penalties, prove};
use std::os::unix::fs::PermissionsExt as _;
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

fn target(stand_in: &StandIn) -> Target {
    Target {
        through: None,
        pinned_as: None,
        host: "127.0.0.1".into(),
        port: stand_in.address().port(),
        known_hosts: Vec::new(),
        expected: Some(stand_in.host_key()),
        required: None,
        revoked_in: std::sync::Arc::default(),
        old_algorithms: false,
    }
}

fn key(seed: u8) -> PrivateKey {
    PrivateKey::ed25519(&[seed; 32]).unwrap()
}

fn put_key(stand_in: &StandIn, key: &PublicKey) {
    let folder = stand_in.file("/home/edda/.ssh");
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o700)).unwrap();
    let file = folder.join("authorized_keys");
    std::fs::write(&file, key.line("edda")).unwrap();
    std::fs::set_permissions(file, std::fs::Permissions::from_mode(0o600)).unwrap();
}

fn terms(penalties: &Penalties) -> AskTerms<'_> {
    AskTerms { randomness: &SystemSource, penalties, login: None, patience: Duration::from_secs(5) }
}

#[tokio::test(flavor = "multi_thread")]
async fn each_kind_of_proof() {
    let stand_in = StandIn::harbour_office().await.unwrap();
    let target = target(&stand_in);
    let (proof, _) = prove(&target, "edda", key(1).public(), None, &terms(&Penalties::default())).await;
    assert!(matches!(proof, Heard::Refuses), "{proof:?}");
    put_key(&stand_in, key(1).public());
    let (proof, _) = prove(&target, "edda", key(1).public(), None, &terms(&Penalties::default())).await;
    assert!(matches!(proof, Heard::Accepts), "{proof:?}");
    let holder = Holder { key: std::sync::Arc::new(key(1)), source: "test".to_owned() };
    let (proof, connection) =
        prove(&target, "edda", key(1).public(), Some(&holder), &terms(&Penalties::default())).await;
    assert!(matches!(proof, Heard::LoggedIn(signed) if signed.key == Some(key(1).public().fingerprint())));
    let ran = connection.unwrap().run("echo tide", std::time::Duration::from_secs(10)).await.unwrap();
    assert_eq!((ran.output.as_slice(), ran.status), (&b"tide\n"[..], Some(0)));
    // Another thing than a command: what is written comes back, and what is not there is refused.
    let second = Duration::from_secs(10);
    let (_, connection) = prove(&target, "edda", key(1).public(), Some(&holder), &terms(&Penalties::default())).await;
    let connection = connection.unwrap();
    let mut echo = connection.subsystem("echo@lavrin", second).await.unwrap();
    let mut said = [0; 4];
    echo.write_all(b"tide").await.unwrap();
    echo.read_exact(&mut said).await.unwrap();
    assert_eq!(&said, b"tide");
    assert_eq!(connection.subsystem("sftp", second).await.err(), Some(ExecFault::Refused));
    // What is found to be another host is not asked.
    let wrong = Target { expected: Some(key(9).public().fingerprint()), ..target.clone() };
    let (proof, _) = prove(&wrong, "edda", key(1).public(), None, &terms(&Penalties::default())).await;
    let Heard::Nothing(NoProof::NoConnection(fault)) = proof else { panic!("{proof:?}") };
    assert!(matches!(*fault, ConnectFault::HostKeyChanged { line: None, .. }));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_stand_in_refuses_what_a_server_refuses() {
    let stand_in = StandIn::harbour_office().await.unwrap();
    put_key(&stand_in, key(1).public());
    let file = stand_in.file("/home/edda/.ssh/authorized_keys");
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o666)).unwrap();
    let (proof, _) = prove(&target(&stand_in), "edda", key(1).public(), None, &terms(&Penalties::default())).await;
    assert!(matches!(proof, Heard::Refuses), "{proof:?}");
    let mut connection = target(&stand_in).connect().await.unwrap();
    let wrong = zeroize::Zeroizing::new("high water".to_owned());
    let text = openssh::write(&key(2), "", None, &SystemSource).unwrap();
    assert!(text.starts_with("-----BEGIN"));
    let credentials =
        [Credential::Key { key: std::sync::Arc::new(key(2)), source: "two".into() }, Credential::Password(wrong)];
    let rejected = connection.sign_in("edda", &credentials, &[]).await.unwrap_err();
    let methods: Vec<&str> = rejected.tried.iter().map(|tried| tried.method).collect();
    assert_eq!(methods, ["publickey", "password"]);
    assert_eq!(rejected.offered, ["publickey", "password"]);
    let tree = stand_in.tree().to_owned();
    drop(stand_in);
    assert!(!tree.exists());
}

#[tokio::test(flavor = "multi_thread")]
async fn many_keys_are_asked_about_without_ending_the_connection() {
    use lavrin_work::hear;
    let line = key(1).public().line("edda");
    let accounts = [lavrin_standin::TreeAccount { name: "edda", shell: "/bin/sh", keys: Some(&line) }];
    let behaviour = lavrin_standin::Behaviour::default();
    let stand_in = StandIn::with("lantern", &accounts, behaviour).await.unwrap();
    let target = target(&stand_in);
    let keys: Vec<_> = (2..=6).chain([1]).chain(7..=20).map(|seed| key(seed).public().clone()).collect();
    let heard = hear(&target, "edda", &keys, &terms(&Penalties::default())).await;
    let is = |fits: fn(&Heard) -> bool| heard.iter().filter(|heard| fits(heard)).count();
    assert_eq!(heard.len(), keys.len());
    assert!(matches!(heard[5], Heard::Accepts), "{heard:?}");
    assert_eq!(is(|heard| matches!(heard, Heard::Refuses)), 11);
    assert_eq!(is(|heard| matches!(heard, Heard::LeftOut)), keys.len() - 12);
    // Nothing listens there.
    let mut closed = target.clone();
    closed.port = 1;
    let heard = hear(&closed, "edda", &keys[..2], &terms(&Penalties::default())).await;
    assert!(heard.iter().all(|heard| matches!(heard, Heard::Nothing(_))), "{heard:?}");
}
