//! Hosts on which private keys lie that open each other.

use super::fleet::Fleet;
use super::{Fixed, key};
use lavrin_keys::key::container::openssh;
use lavrin_standin::Behaviour;

/// Lantern, skerry and mole: from each one gets to the next, since edda's key of the one lies on the other. Everybody knows the
/// office, which is root everywhere.
pub fn fleet() -> Fleet {
    let mut fleet = Fleet::with_people("edda", "until = 2027-01-31\nfrom = \"192.0.2.0/24\"\n");
    let line = |seed: u8, comment: &str| format!("{}\n", key(seed).public().line(comment));
    fleet.add_with("lantern", &line(3, "sten@lantern"), Behaviour::default(), "tags = [\"exposed\"]\n");
    fleet.add_with(
        "skerry",
        &(line(5, "lamp timer") + &line(1, "office")),
        Behaviour::default(),
        "tags = [\"lights\"]\n",
    );
    let mole = format!("{}restrict,command=\"tide\" {}", line(6, "backup"), line(7, "tide log"));
    fleet.add_with("mole", &mole, Behaviour::default(), "tags = [\"inner\"]\n");
    for (host, name, seed) in [(0, "timer", 5), (1, "backup", 6), (1, "tide", 7)] {
        let private = openssh::write(&key(seed), name, None, &Fixed).unwrap();
        fleet.hosts[host].leave_key(&format!("/home/edda/.ssh/{name}"), &private).unwrap();
    }
    drop(fleet.survey("").expect(0));
    fleet
}
