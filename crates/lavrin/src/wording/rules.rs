//! What each rule is about, in a few words: for `docs/rules.md`.

/// A rule and what it is about.
pub const RULES: &[(&str, &str)] = &[
    ("weak-dsa", "a DSA key: 1024 bits, signs with SHA-1"),
    ("weak-rsa-short", "an RSA key shorter than policy refuses or advises"),
    ("weak-even-modulus", "an RSA modulus that is even"),
    ("weak-exponent-1", "an RSA exponent of 1: everybody can sign"),
    ("weak-exponent-even", "an even RSA exponent, which no generator makes"),
    ("weak-exponent-3", "an RSA exponent of 3: sound, but old"),
    ("weak-exponent-huge", "an RSA exponent that may go with a short private one"),
    ("rsa-odd-size", "an RSA size that no generator makes by itself"),
    ("weak-small-factor", "an RSA modulus with a small factor"),
    ("weak-square-modulus", "an RSA modulus that is a square"),
    ("weak-prime-modulus", "an RSA modulus that is a prime itself"),
    ("weak-close-primes", "RSA primes so close together that they are found"),
    ("weak-structured-primes", "RSA primes of a generator known to be broken"),
    ("weak-ecdsa-generator", "an ECDSA key whose private number everybody knows"),
    ("weak-shared-prime", "two RSA keys with one prime: both are broken"),
    ("weak-same-modulus", "two RSA keys with one modulus: both are broken"),
    ("private-key-unprotected", "a private key without a passphrase"),
    ("private-key-readable-by-others", "a private key that other users can read"),
    ("private-key-in-paste", "a private key that came through a paste"),
    ("same-key-two-names", "one key under two names"),
    ("private-key-on-server", "a private key on a server"),
    ("private-key-in-key-file", "part of a private key in a key file"),
    ("mode-too-open", "other users can write to it, so the server ignores the file"),
    ("mode-wider-than-policy", "a mode wider than it needs to be"),
    ("mode-too-closed", "the account cannot read its own key file"),
    ("wrong-owner", "another user owns it, so the server ignores the file"),
    ("owned-by-root", "root owns a file of the account"),
    ("wrong-kind-of-file", "a key file that is not a regular file"),
    ("unusable-line", "a line that the server skips"),
    ("duplicate-entry", "a key that is in the file twice"),
    ("unknown-key", "a key that is not in the register"),
    ("key-of-leaver", "a key of somebody who has left"),
    ("retired-key", "a key that its owner does not use any more"),
    ("grant-over", "an entry whose grant is over"),
    ("not-granted", "an entry that the register does not ask for"),
    ("removed-entry-back", "an entry that was removed and is there again"),
    ("old-entry", "an entry with a key older than policy allows"),
    ("entry-ends-soon", "an entry that the server refuses soon"),
    ("break-glass-used", "a break-glass key that was used"),
    ("break-glass-missing", "a host without a break-glass key, where policy asks for one"),
    ("key-long-unused", "a key that was last used long ago"),
    ("key-never-seen", "a key that does not show in the logs"),
    ("key-opens-root", "a private key without a passphrase that opens root on another host"),
    ("forbidden-way", "a way over keys on hosts between tags that policy keeps apart"),
    ("key-in-many-hands", "an unknown key under several names"),
    ("settings-broken", "a server that would not start again"),
    ("root-with-password", "root can log in with a password"),
    ("passwords-on", "passwords open accounts beside keys"),
    ("empty-passwords", "accounts without a password are open to everyone"),
    ("strict-modes-off", "the server accepts key files that other users can write to"),
    ("clock-off", "a host whose clock is off by more than a minute"),
    ("keys-off", "the server accepts no keys at all"),
    ("keys-from-elsewhere", "keys from outside the key files open accounts"),
    ("never-surveyed", "a host that was never surveyed"),
    ("survey-old", "a host that was last surveyed long ago"),
    ("not-reached", "a host that was not reached the last time"),
    ("removal-owed", "a removal that is still owed"),
    ("register-syntax", "a file of the register that cannot be read"),
    ("unknown-field", "a field that the register does not know"),
    ("missing-field", "a field that has to be there"),
    ("wrong-kind", "a value of the wrong kind"),
    ("bad-value", "a value that makes no sense"),
    ("bad-key", "a key that cannot be read"),
    ("named-twice", "one name for two things"),
    ("algorithm-not-allowed", "a key of an algorithm that policy does not allow"),
    ("shared-key", "one key of two people"),
    ("duplicate-key", "a key that is listed twice"),
    ("old-key", "a key older than policy allows"),
    ("comment-form", "a comment that policy wants otherwise"),
    ("automation-unlimited", "a grant for a program without a limit"),
    ("replaced-twice", "two keys that replace the same one"),
    ("replaces-itself", "a key that replaces itself"),
    ("person-without-key", "a person without a key"),
    ("unknown-name", "a name that is not in the register"),
    ("grant-matches-nothing", "a grant that covers no host"),
    ("grant-ended", "a grant that is over"),
    ("grant-ends-soon", "a grant whose last day is near"),
    ("grant-of-leaver", "a grant of somebody who has left"),
    ("grant-without-key", "a grant of somebody without a key"),
    ("group-forbidden", "a grant that puts an account into a group that policy forbids"),
    ("group-like-root", "a grant that puts an account into a group whose members can become root"),
    ("grant-twice", "a grant that is there twice"),
    ("kept-not-managed", "a kept key of an account that the register does not manage"),
    ("kept-known-to-leaver", "a kept key of which somebody who left may have a copy"),
    ("host-unpinned", "a host whose key is not pinned"),
    ("way-back-missing", "a host for which nobody has written down how to get in without a key"),
    ("way-back-untried", "a way back to a host that was not tried for longer than policy allows"),
    ("shared-host-key", "two hosts with one host key, so one is a copy of the other"),
    ("through-loop", "hosts that are reached through each other in a loop"),
    ("old-algorithms", "a host that may be spoken to with SHA-1, which is broken"),
    ("after-change-no-path", "something that has to run after a change and is no program by its whole path"),
    ("runs-after-change", "a program that runs on a host after each change, by root where the login has root's rights"),
    (
        "account-not-of-login",
        "an account on a host that takes keys for the login only, or whose key file the register does not name",
    ),
    ("account-without-way-in", "an account that no grant opens"),
    ("account-never-seen", "a managed account that no survey has seen"),
    ("leave-by-comment", "an entry left alone by its comment instead of its fingerprint"),
    ("leave-of-person", "an entry left alone although the key belongs to a person of the register"),
    ("exception-ended", "an exception that is over"),
    ("exception-unused", "an exception that is no longer needed"),
];

#[cfg(test)]
mod tests {
    use super::RULES;
    use lavrin_fleet::register::RegisterFault;
    use lavrin_fleet::rules;
    use std::fmt::Write as _;

    /// `LAVRIN_WRITE_SCHEMAS` writes it anew, as it does with the schemas.
    #[test]
    fn the_list_of_rules_is_that_of_the_tables() {
        let tables: Vec<_> = rules::with(RegisterFault::RULES).collect();
        let mut text = String::from(
            "# Rules\n\nEach finding goes by one name, wherever it appears: in the audit of a host or a fleet, in the check of a register, in\n`[policy.severity]` and in exceptions. A severity can be changed there: `weak-rsa-short = \"low\"`, or `\"off\"`.\n\n| rule | usual severity | about |\n| --- | --- | --- |\n",
        );
        for (rule, about) in RULES {
            let mut usual: Vec<_> = tables.iter().filter(|(name, _)| name == rule).map(|(_, usual)| *usual).collect();
            assert!(!usual.is_empty(), "no table has the rule {rule}");
            usual.sort_unstable();
            usual.dedup();
            let usual: Vec<&str> = usual.iter().rev().map(|severity| severity.name()).collect();
            let _ = writeln!(text, "| `{rule}` | {} | {about} |", usual.join(" or "));
        }
        for (rule, _) in &tables {
            assert_eq!(RULES.iter().filter(|(known, _)| known == rule).count(), 1, "{rule} is described once");
        }
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/rules.md");
        if std::env::var_os("LAVRIN_WRITE_SCHEMAS").is_some() {
            std::fs::write(path, &text).unwrap();
        }
        assert_eq!(std::fs::read_to_string(path).unwrap_or_default(), text);
    }
}
