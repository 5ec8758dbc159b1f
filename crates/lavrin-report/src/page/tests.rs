//! The page as text; how it looks and works in a browser is tested with the program.

use super::*;

fn page() -> Page {
    let owner = |kind, id: &str| PageOwner {
        kind,
        id: id.to_owned(),
        name: format!("{id} <b>"),
        team: Some("lights".to_owned()),
        left: None,
        keys: vec!["main ssh-ed25519".to_owned()],
    };
    let host = |id: &str| PageHost {
        id: id.to_owned(),
        address: "192.0.2.7".to_owned(),
        tags: vec!["buoys".to_owned()],
        site: None,
        seen: Some("2026-11-29".to_owned()),
        not_read: Vec::new(),
        accounts: 2,
        more_missing: 0,
        findings: vec![("high", "not-granted", 2)],
    };
    let way = |host, owner, state| PageWay { host, owner, account: 1, key: 2, limits: 0, state };
    Page {
        register: "Halvmark & co".to_owned(),
        at: "2026-11-29 12:00 UTC".to_owned(),
        version: "0.1.0".to_owned(),
        owners: vec![owner(OwnerKind::Person, "sten"), owner(OwnerKind::Nobody, "owner unknown")],
        hosts: vec![host("buoy-4"), host("lantern")],
        ways: vec![way(0, 0, WayMark::AsRegistered), way(1, 0, WayMark::Missing), way(1, 1, WayMark::NotRegistered)],
        words: vec![String::new(), "keeper".to_owned(), "</script><script>alert(1)</script>".to_owned()],
        ..Page::default()
    }
}

fn written(page: &Page) -> String {
    let mut bytes = Vec::new();
    page.write(&mut bytes).unwrap();
    String::from_utf8(bytes).unwrap()
}

#[test]
fn what_comes_from_elsewhere_is_text_and_never_markup() {
    let text = written(&page());
    assert_eq!(text.matches("<script>").count(), 1);
    assert!(text.contains("&lt;/script&gt;&lt;script&gt;alert(1)") && text.contains("Halvmark &amp; co"));
    assert!(text.contains("sten &lt;b&gt;") && !text.contains("sten <b>"));
}

#[test]
fn the_policy_lets_nothing_in_but_the_one_script() {
    use base64::Engine as _;
    use sha2::Digest as _;
    let hash = base64::engine::general_purpose::STANDARD.encode(sha2::Sha256::digest(SCRIPT));
    assert_eq!(SCRIPT_HASH.trim(), hash, "put this into script.sha256");
    let text = written(&page());
    assert!(text.contains(&format!("default-src 'none'; style-src 'unsafe-inline'; script-src 'sha256-{hash}'")));
    // The names of the SVG form are no addresses that anybody asks.
    let rest = text.replace("http://www.w3.org/2000/svg", "");
    for word in ["http:", "https:", "src=", "@import", "url("] {
        assert!(!rest.contains(word), "{word}");
    }
}

#[test]
fn each_way_in_stands_in_the_matrix_and_in_the_sections_of_both_sides() {
    let text = written(&page());
    assert_eq!(text.matches("<li data-state=").count(), 3);
    for state in ["as-registered", "missing", "not-registered"] {
        assert_eq!(text.matches(&format!("data-state=\"{state}\"")).count(), 1, "{state}");
    }
    assert!(text.contains("<a href=\"#host-lantern\">lantern</a>") && text.contains("id=\"host-lantern\""));
}

#[test]
fn of_too_many_teams_and_tags_are_told_and_every_section_stays() {
    let mut page = page();
    page.hosts = (0..80)
        .map(|number| PageHost {
            id: format!("buoy-{number}"),
            tags: vec![format!("sea-{}", number % 3)],
            ..copied(&page.hosts[0])
        })
        .collect();
    page.ways = (0..80).map(|host| PageWay { host, ..page.ways[0] }).collect();
    let text = written(&page);
    assert!(text.contains("One table cannot show so many people and hosts"));
    assert!(text.contains("27 ways into 27 hosts") && text.contains("26 ways into 26 hosts"));
    assert_eq!(text.matches("class=\"in\" id=\"host-").count(), 80);
    assert!(text.contains("buoy-79</a>"));
}

fn copied(host: &PageHost) -> PageHost {
    PageHost {
        tags: host.tags.clone(),
        address: host.address.clone(),
        findings: host.findings.clone(),
        id: String::new(),
        site: None,
        seen: host.seen.clone(),
        not_read: Vec::new(),
        accounts: 2,
        more_missing: 0,
    }
}

#[test]
fn ways_through_are_drawn_in_layers_and_told_as_a_list() {
    let node = |host: &str, layer| HopNode { host: host.to_owned(), accounts: vec!["root".to_owned()], layer };
    let hops = Hops {
        from: "buoy-7".to_owned(),
        hosts: 2,
        nodes: vec![node("buoy-7", 0), node("a-lamp-with-a-very-long-name-indeed", 1), node("office", 2)],
        edges: vec![
            HopEdge { from: 0, to: 1, certain: true, evidence: "key <x>".to_owned() },
            HopEdge { from: 1, to: 2, certain: false, evidence: "key y".to_owned() },
        ],
    };
    let text = written(&Page { hops: vec![hops], ..page() });
    assert!(text.contains("buoy-7 to a-lamp-with-a-very-long-name-indeed") && text.contains("edge doubt"));
    assert!(text.contains("a-lamp-with-a-very-long…") && text.contains("key &lt;x&gt;"));
}

#[test]
fn a_large_report_marks_what_differs_and_says_so() {
    let mut page = page();
    page.hosts = (0..100).map(|number| PageHost { id: format!("buoy-{number}"), ..copied(&page.hosts[0]) }).collect();
    page.ways =
        (0..6_000).map(|number| PageWay { host: number / 60, state: WayMark::AsRegistered, ..page.ways[0] }).collect();
    page.ways[0].state = WayMark::Missing;
    let text = written(&page);
    assert_eq!(text.matches("What has no mark is as registered").count(), 2);
    assert!(text.len() < 6_000 * 40, "{}", text.len());
    let hosts = text.split("id=\"hosts\"").nth(1).unwrap();
    assert_eq!(hosts.matches("class=\"m warn\"").count(), 1);
    assert_eq!(hosts.matches("class=\"m ").count(), 1);
}
