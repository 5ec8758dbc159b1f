//! Changes of the server itself and of an account, taken back on a real server: nothing makes them but the way back from the journal
//! needs no more than the journal says.

use crate::common::servers::system;
use crate::common::site::{PLAIN, Site, wait_for};
use lavrin_server::steps::{AccountChange, Change, ServerChange};
use lavrin_store::{ChangeOutcome, Event, JournalEntry, KeptChange, State};

const BACK: &str = "undo change --login root --identity home/keys/root --yes";

/// Puts changes of the account on record, as a run that has made them.
fn on_record(site: &Site, changes: &[Change]) {
    let state = State::at(&site.world.path("home/.local/state/lavrin"));
    let kept = changes.iter().map(|change| KeptChange::of(change, |bytes| state.back_up(bytes)).unwrap()).collect();
    let intent = Event::Intent {
        command: "test".to_owned(),
        place: "127.0.0.1".to_owned(),
        account: site.account.name.clone(),
        login: Some("root".to_owned()),
        key: None,
        files: Vec::new(),
        reason: None,
        run: None,
        came: Vec::new(),
        gone: Vec::new(),
        changes: kept,
    };
    let entry = |event| JournalEntry::new("change", "2026-11-23T07:00:00Z", event);
    state.write_down(&entry(intent)).unwrap();
    let outcome = Event::Outcome { outcome: ChangeOutcome::Done, detail: "read back".to_owned() };
    state.write_down(&entry(outcome)).unwrap();
}

fn ends(site: &Site) -> String {
    let line = system("getent", &["shadow", &site.account.name]);
    line.split(':').nth(7).unwrap().to_owned()
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn an_account_that_was_ended_begins_again_and_the_server_reads_its_configuration() {
    let site = Site::new(PLAIN);
    let key = site.world.read("home/keys/edda.pub");
    site.account.put(".ssh/authorized_keys", &key, "600", &site.account.name);
    let expire = AccountChange::Expire { account: site.account.name.clone(), from: None, to: Some(20_000) };
    on_record(&site, &[expire.into(), ServerChange::Reload.into()]);
    system("chage", &["-E", "20000", &site.account.name]);
    assert!(!site.client_gets_in("edda"));
    let config = site.config_name();
    let text = site.world.read(&config);
    // What the server's own test refuses is not read, and everything is as it was.
    site.world.write(&config, format!("{text}Lighthouse yes\n"), 0o644);
    let refused = site.run(BACK);
    assert!(
        refused.status >= 4 && refused.stderr.contains("the server's own test refuses the configuration"),
        "{refused}"
    );
    assert_eq!(ends(&site), "20000");
    site.world.write(&config, format!("DenyUsers {}\n{text}", site.account.name), 0o644);
    let run = site.run(BACK).expect(0);
    assert!(run.stderr.contains("reload the server's configuration"), "{run}");
    assert_eq!(ends(&site), "");
    // It has read the new line, so nothing but that keeps the account out.
    assert!(!site.client_gets_in("edda"));
    site.world.write(&config, text, 0o644);
    site.server.reload();
    wait_for(|| site.client_gets_in("edda"));
}
