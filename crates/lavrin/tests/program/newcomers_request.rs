//! Somebody joins: the text that they send, and how it is taken in.

use crate::common::World;
use crate::common::agent::Agent;
use crate::common::terminal::talk;

fn world() -> World {
    let world = World::new();
    world.write("lavrin.toml", "name = \"Skerry lights\"\n", 0o644);
    let _ = world.put_pair(".ssh/runa", 5, "runa@home");
    world
}

const REQUEST: &str =
    "person request runa --what-for tides --challenge harbour-42 --identity home/.ssh/runa --out runa-request.txt";

#[test]
fn a_request_is_sent_checked_and_taken_in() {
    let world = world();
    let sent = world.typed(REQUEST).expect(0);
    insta::assert_snapshot!("person_request", format!("{}\n{sent}", world.read("runa-request.txt")));
    // Nobody is there who could compare the words.
    let asked = world.typed("person add --request runa-request.txt --challenge harbour-42").expect(2);
    insta::assert_snapshot!("person_add_request", asked);
    assert!(!world.path("people/runa.toml").exists());
    let (said, done) = talk(&world, "person add --request runa-request.txt", &[("[yes/no]", "no")]);
    assert!(!done && said.contains("nothing was changed") && !world.path("people/runa.toml").exists(), "{said}");
    drop(world.typed("person add --request runa-request.txt --team lights --yes").expect(0));
    let shown = world.typed("person show runa --format json").expect(0).json();
    assert_eq!((shown["name"].as_str(), shown["team"].as_str()), (Some("runa"), Some("lights")));
    assert_eq!(shown["keys"][0]["fingerprint"], crate::common::key(5).public().fingerprint().to_string());
    // The same request brings nothing new.
    drop(world.typed("person add --request runa-request.txt --yes").expect(4));
}

#[test]
fn what_does_not_fit_is_refused_and_changes_nothing() {
    let world = world();
    drop(world.typed(REQUEST).expect(0));
    let text = world.read("runa-request.txt");
    world.write("changed.txt", text.replace("tides", "lamps"), 0o644);
    world.write("cut.txt", &text[..text.len() / 2], 0o644);
    world.write("key.pub", world.read("home/.ssh/runa.pub"), 0o644);
    for (line, words) in [
        ("--request changed.txt", "the signature does not fit the text"),
        ("--request cut.txt", "is no request"),
        ("--request key.pub", "is no request"),
        ("--request runa-request.txt --challenge harbour-43", "answers another challenge"),
        ("sten --request runa-request.txt", "the request is of runa, not of sten"),
    ] {
        let run = world.typed(&format!("person add {line} --yes")).expect(4);
        assert!(run.stderr.contains(words), "{line}: {run}");
    }
    assert!(!world.path("people").exists());
    drop(world.typed(REQUEST).expect(2));
    // A plain public key works as ever.
    drop(world.typed("person add runa --key key.pub").expect(0));
    drop(world.typed("person add").expect(2));
}

#[test]
#[ignore = "needs a real agent: scripts/test.sh"]
fn a_key_that_the_agent_holds_signs_a_request() {
    let world = world();
    let agent = Agent::start(&world);
    let line = "person request runa --identity home/.ssh/runa.pub --out request.txt";
    let words: Vec<&str> = line.split(' ').collect();
    let variables = [("SSH_AUTH_SOCK", agent.socket.to_str().unwrap())];
    let run = world.run_with(&variables, &words).expect(2);
    assert!(run.stderr.contains("lavrin agent hold"), "{run}");
    drop(world.run_with(&variables, &["agent", "hold", "home/.ssh/runa"]).expect(0));
    drop(world.run_with(&variables, &words).expect(0));
    drop(world.typed("person add --request request.txt --yes").expect(0));
}
