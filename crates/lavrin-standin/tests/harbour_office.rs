//! The demo's host: what lies in its tree, and that it goes when it is dropped.

use lavrin_keys::key::container::private_key_head;
use lavrin_keys::keysfile::KeysFile;
use lavrin_server::account::read_passwd;
use lavrin_standin::StandIn;
use std::os::unix::fs::PermissionsExt as _;

fn mode(stand_in: &StandIn, path: &str) -> u32 {
    std::fs::metadata(stand_in.file(path)).unwrap().permissions().mode() & 0o777
}

fn keys(stand_in: &StandIn, account: &str) -> KeysFile {
    let path = stand_in.file(&format!("/home/{account}/.ssh/authorized_keys"));
    KeysFile::parse(&std::fs::read(path).unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tree_holds_the_mistakes_that_the_demo_shows() {
    let stand_in = StandIn::harbour_office().await.unwrap();
    let accounts = read_passwd(&std::fs::read(stand_in.file("/etc/passwd")).unwrap());
    let names: Vec<&str> = accounts.iter().map(|account| account.name.as_str()).collect();
    assert_eq!(names, ["root", "daemon", "edda", "sten", "runa", "tidelog"]);
    assert_eq!(mode(&stand_in, "/home/sten/.ssh/authorized_keys"), 0o666);
    assert_eq!(mode(&stand_in, "/home/runa/.ssh/authorized_keys"), 0o644);
    assert!(!stand_in.file("/home/edda/.ssh").exists());
    let sten = keys(&stand_in, "sten");
    let bits: Vec<usize> = sten.entries().map(|(_, entry)| entry.key.bits()).collect();
    assert_eq!(bits, [256, 1024, 256]);
    let prints: Vec<_> = sten.entries().map(|(_, entry)| entry.fingerprint).collect();
    assert_eq!(prints[0], prints[2]);
    let tidelog = keys(&stand_in, "tidelog");
    assert_eq!((tidelog.entries().count(), tidelog.unusable().count()), (1, 2));
    let stray = std::fs::read(stand_in.file("/home/tidelog/.ssh/buoy-7")).unwrap();
    assert_eq!(private_key_head(&stray), Some(Some(false)));
}

#[tokio::test(flavor = "multi_thread")]
async fn two_hosts_share_neither_keys_nor_passwords_nor_trees() {
    let (one, two) = (StandIn::harbour_office().await.unwrap(), StandIn::harbour_office().await.unwrap());
    assert_ne!(one.host_key(), two.host_key());
    assert_ne!(one.password("edda"), two.password("edda"));
    assert_eq!(one.password("sten"), None);
    assert_ne!(one.address(), two.address());
    assert!(one.address().ip().is_loopback());
    let first = |stand_in: &StandIn| keys(stand_in, "runa").entries().next().map(|(_, entry)| entry.fingerprint);
    assert_ne!(first(&one), first(&two));
    let tree = one.tree().to_owned();
    assert!(tree.exists());
    drop(one);
    assert!(!tree.exists());
    assert!(two.tree().exists());
}
