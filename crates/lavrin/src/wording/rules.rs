//! What each rule is about, why it matters and what mends it: for `docs/rules.md` and `lavrin rule`.

/// A rule.
pub struct RuleWords {
    /// Its name.
    pub name: &'static str,
    /// What it is about.
    pub about: &'static str,
    /// Why it matters.
    pub why: &'static str,
    /// How it is mended. Words in capitals stand for what a finding names.
    pub mend: &'static str,
}

/// How severe a rule usually is, the gravest first.
pub fn usual(name: &str) -> Vec<&'static str> {
    let tables = lavrin_fleet::rules::with(lavrin_fleet::register::RegisterFault::RULES);
    let mut usual: Vec<_> = tables.filter(|(rule, _)| *rule == name).map(|(_, usual)| usual).collect();
    usual.sort_unstable();
    usual.dedup();
    usual.iter().rev().map(|severity| severity.name()).collect()
}

/// Every rule.
pub const RULES: &[RuleWords] = &[
    RuleWords {
        name: "weak-dsa",
        about: "a DSA key: 1024 bits, signs with SHA-1",
        why: "OpenSSH took DSA keys out, and 1024 bits with SHA-1 are within reach of those who have money.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-rsa-short",
        about: "an RSA key shorter than policy refuses or advises",
        why: "Short RSA keys were factored in public up to 829 bits, and 1024 bits is a matter of cost. Policy says from which size on a key is fine.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-even-modulus",
        about: "an RSA modulus that is even",
        why: "It is no product of two large primes, so everybody finds its factors.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-exponent-1",
        about: "an RSA exponent of 1: everybody can sign",
        why: "What is signed is the message itself, so everybody can make signatures.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-exponent-even",
        about: "an even RSA exponent, which no generator makes",
        why: "No private exponent fits such a key; something else than a generator made it.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-exponent-3",
        about: "an RSA exponent of 3: sound, but old",
        why: "It is sound with today's padding, but shows an old generator.",
        mend: "Nothing now; make the next one with: lavrin key generate",
    },
    RuleWords {
        name: "weak-exponent-huge",
        about: "an RSA exponent that may go with a short private one",
        why: "It may go with a private exponent that is so short that it is found from the public half (Wiener's attack).",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "rsa-odd-size",
        about: "an RSA size that no generator makes by itself",
        why: "No generator makes it by itself; it may have been damaged on the way, or be made on purpose.",
        mend: "Compare its fingerprint with the owner's; make the next one with: lavrin key generate",
    },
    RuleWords {
        name: "weak-small-factor",
        about: "an RSA modulus with a small factor",
        why: "Trial division finds a factor, and with it the private half.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-square-modulus",
        about: "an RSA modulus that is a square",
        why: "The square root is its prime, so everybody has the private half.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-prime-modulus",
        about: "an RSA modulus that is a prime itself",
        why: "A prime has no factors to hide: the private half follows from the public one.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-close-primes",
        about: "RSA primes so close together that they are found",
        why: "Fermat's method finds primes that lie close together within moments.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-structured-primes",
        about: "RSA primes of a generator known to be broken",
        why: "A generator with a known flaw made them; such keys are found by anybody who knows it.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-ecdsa-generator",
        about: "an ECDSA key whose private number everybody knows",
        why: "The private number of this key is known to everybody, since its public point is the generator of the curve.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-shared-prime",
        about: "two RSA keys with one prime: both are broken",
        why: "Whoever has both public halves computes both private ones by one greatest common divisor.",
        mend: "Replace both keys, and look at what made them: a device without randomness makes more of these. Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "weak-same-modulus",
        about: "two RSA keys with one modulus: both are broken",
        why: "Two keys with one modulus give each other away, whatever their exponents.",
        mend: "Replace both keys. Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "private-key-unprotected",
        about: "a private key without a passphrase",
        why: "Whoever gets the file has the key.",
        mend: "Keep it so only where a program uses it; else give it a passphrase: lavrin key convert FILE --to openssh --new-passphrase ask --out FILE --replace",
    },
    RuleWords {
        name: "private-key-readable-by-others",
        about: "a private key that other users can read",
        why: "Everybody on that machine can copy it, and the stock client refuses to use it.",
        mend: "chmod 600 FILE; where others had time to read it, treat the key as lost",
    },
    RuleWords {
        name: "private-key-in-paste",
        about: "a private key that came through a paste",
        why: "A private half that was mailed or pasted lies in mailboxes, logs and clipboards that nobody can clean.",
        mend: "Treat the key as lost: make a new one, and take the old one away wherever it is installed",
    },
    RuleWords {
        name: "same-key-two-names",
        about: "one key under two names",
        why: "A key that two people use says nothing about who signed in.",
        mend: "Ask both; a key belongs to one person or one machine",
    },
    RuleWords {
        name: "private-key-on-server",
        about: "a private key on a server",
        why: "Whoever becomes root there has the key, and with it everything that it opens.",
        mend: "If nothing there uses it, remove the file; else limit the entries that it fits (from=, command=), and see what it opens: lavrin paths ACCOUNT@HOST",
    },
    RuleWords {
        name: "private-key-in-key-file",
        about: "part of a private key in a key file",
        why: "A private half was written where a public one belongs; everybody who may read the file has it.",
        mend: "Take it out of the file, and replace that key everywhere",
    },
    RuleWords {
        name: "mode-too-open",
        about: "other users can write to it, so the server ignores the file",
        why: "With StrictModes the server ignores a key file that others could change, so nobody gets in by it; without, others could add a key.",
        mend: "lavrin mend ACCOUNT@HOST",
    },
    RuleWords {
        name: "mode-wider-than-policy",
        about: "a mode wider than it needs to be",
        why: "Others see whose keys open the account; the server takes the file all the same.",
        mend: "lavrin mend ACCOUNT@HOST",
    },
    RuleWords {
        name: "mode-too-closed",
        about: "the account cannot read its own key file",
        why: "The server reads the file with the account's rights and finds nothing.",
        mend: "lavrin mend ACCOUNT@HOST",
    },
    RuleWords {
        name: "wrong-owner",
        about: "another user owns it, so the server ignores the file",
        why: "Somebody else could change the file, so the server ignores it.",
        mend: "lavrin mend ACCOUNT@HOST",
    },
    RuleWords {
        name: "owned-by-root",
        about: "root owns a file of the account",
        why: "The account cannot change its own file, and with mode 600 the server cannot read it for the account.",
        mend: "lavrin mend ACCOUNT@HOST",
    },
    RuleWords {
        name: "wrong-kind-of-file",
        about: "a key file that is not a regular file",
        why: "The server reads regular files only; a folder, pipe or device is in the place of one.",
        mend: "Look at what is there (ls -ld FILE), and put a regular file in its place",
    },
    RuleWords {
        name: "unusable-line",
        about: "a line that the server skips",
        why: "The server skips it: a key broken over lines, two entries on one line, a wrong form, CR/LF within.",
        mend: "What is certain is repaired by: lavrin mend ACCOUNT@HOST; else write the key there on one line",
    },
    RuleWords {
        name: "duplicate-entry",
        about: "a key that is in the file twice",
        why: "Whoever removes a key finds one line and may leave the other.",
        mend: "One of the two is enough; look at both first, since their options may differ",
    },
    RuleWords {
        name: "unknown-key",
        about: "a key that is not in the register",
        why: "Nobody in the register is known for it, so nobody can say whether it should open anything.",
        mend: "Ask whose it is, then: lavrin register adopt; or take it away: lavrin remove FINGERPRINT ACCOUNT@HOST",
    },
    RuleWords {
        name: "key-of-leaver",
        about: "a key of somebody who has left",
        why: "Somebody who has left can still sign in.",
        mend: "lavrin offboard PERSON",
    },
    RuleWords {
        name: "retired-key",
        about: "a key that its owner does not use any more",
        why: "The key was replaced or given up and still opens an account.",
        mend: "lavrin enforce HOST",
    },
    RuleWords {
        name: "grant-over",
        about: "an entry whose grant is over",
        why: "The last day of the grant is past, and the entry is still there.",
        mend: "To take it away: lavrin enforce HOST; if it is needed: lavrin grant PERSON ACCOUNT --host HOST --until DATE",
    },
    RuleWords {
        name: "not-granted",
        about: "an entry that the register does not ask for",
        why: "The register knows the key and does not ask for it there: somebody put it there by hand, or a grant was withdrawn.",
        mend: "lavrin enforce HOST, or: lavrin grant PERSON ACCOUNT --host HOST",
    },
    RuleWords {
        name: "removed-entry-back",
        about: "an entry that was removed and is there again",
        why: "Something writes it again: configuration management, an agent of a cloud, a colleague.",
        mend: "Find what writes it before it is removed once more: lavrin history FINGERPRINT",
    },
    RuleWords {
        name: "old-entry",
        about: "an entry with a key older than policy allows",
        why: "The longer a key is in use, the more copies of it there are.",
        mend: "lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "entry-ends-soon",
        about: "an entry that the server refuses soon",
        why: "From that moment on the server refuses it, in the middle of somebody's work.",
        mend: "If it is needed for longer: lavrin grant PERSON ACCOUNT --host HOST --until DATE, then: lavrin enforce HOST",
    },
    RuleWords {
        name: "break-glass-used",
        about: "a break-glass key that was used",
        why: "The key for the day on which nothing else works was used: something went wrong, or somebody uses it every day.",
        mend: "Ask why it was needed; write an exception with the reason into lavrin.toml",
    },
    RuleWords {
        name: "break-glass-missing",
        about: "a host without a break-glass key, where policy asks for one",
        why: "When the usual keys are lost nobody gets in.",
        mend: "lavrin person add NAME --key KEY.pub --purpose break-glass, then: lavrin grant NAME root --host HOST",
    },
    RuleWords {
        name: "key-long-unused",
        about: "a key that was last used long ago",
        why: "A key that nobody uses is missed by nobody when it is stolen.",
        mend: "Ask whether it is still needed; logs show nothing before they begin",
    },
    RuleWords {
        name: "key-never-seen",
        about: "a key that does not show in the logs",
        why: "It does not show in the logs as far back as they go.",
        mend: "Ask whether it is needed",
    },
    RuleWords {
        name: "key-opens-root",
        about: "a private key without a passphrase that opens root on another host",
        why: "Whoever takes this host is root on others without typing anything.",
        mend: "See which and over what: lavrin paths ACCOUNT@HOST; which entry to take away: lavrin paths ACCOUNT@HOST --cut",
    },
    RuleWords {
        name: "forbidden-way",
        about: "a way over keys on hosts between tags that policy keeps apart",
        why: "Policy keeps these hosts apart, and keys that lie on hosts join them.",
        mend: "The entries that have to go are named by: lavrin paths FROM TO --cut",
    },
    RuleWords {
        name: "key-in-many-hands",
        about: "an unknown key under several names",
        why: "An unknown key under several comments is passed around.",
        mend: "Ask whose it is, then: lavrin register adopt",
    },
    RuleWords {
        name: "settings-broken",
        about: "a server that would not start again",
        why: "At its next start the server would not come up, and nobody gets in.",
        mend: "On the host: sshd -t; mend what it names before anything restarts the server",
    },
    RuleWords {
        name: "root-with-password",
        about: "root can log in with a password",
        why: "Everybody may guess root's password from outside.",
        mend: "When a key login as root works: lavrin keys-only HOST",
    },
    RuleWords {
        name: "passwords-on",
        about: "passwords open accounts beside keys",
        why: "As long as passwords open accounts, keys add convenience and no protection.",
        mend: "When every key works: lavrin keys-only HOST",
    },
    RuleWords {
        name: "empty-passwords",
        about: "accounts without a password are open to everyone",
        why: "An account without a password is open to everyone.",
        mend: "PermitEmptyPasswords no in the server's configuration, and a password or a lock for the account",
    },
    RuleWords {
        name: "strict-modes-off",
        about: "the server accepts key files that other users can write to",
        why: "Others on the host could write themselves into somebody's key file.",
        mend: "lavrin mend --all @HOST, then StrictModes yes in the server's configuration",
    },
    RuleWords {
        name: "clock-off",
        about: "a host whose clock is off by more than a minute",
        why: "Entries with an end, and everything that logs tell, go by that clock.",
        mend: "On the host: timedatectl set-ntp true",
    },
    RuleWords {
        name: "keys-off",
        about: "the server accepts no keys at all",
        why: "No key opens anything there, whatever the files say.",
        mend: "PubkeyAuthentication yes in the server's configuration",
    },
    RuleWords {
        name: "keys-from-elsewhere",
        about: "keys from outside the key files open accounts",
        why: "A command or a directory gives keys that no file shows, so what is seen is not all.",
        mend: "Ask whoever looks after that source which keys it gives",
    },
    RuleWords {
        name: "never-surveyed",
        about: "a host that was never surveyed",
        why: "Nothing is known of the host, which is not the same as nothing being wrong.",
        mend: "lavrin survey HOST",
    },
    RuleWords {
        name: "survey-old",
        about: "a host that was last surveyed long ago",
        why: "What is told of the host may not be so any more.",
        mend: "lavrin survey HOST",
    },
    RuleWords {
        name: "other-register",
        about: "a host that was last changed by a version of the register which this copy does not have",
        why: "Two people work from different registers: what one of them grants the other takes away.",
        mend: "Take the newest register from version control (git pull), then compare: lavrin compare HOST",
    },
    RuleWords {
        name: "not-reached",
        about: "a host that was not reached the last time",
        why: "The last look failed; what is told of it is older.",
        mend: "lavrin survey HOST",
    },
    RuleWords {
        name: "removal-owed",
        about: "a removal that is still owed",
        why: "A key that should be gone was not shown to be.",
        mend: "What is owed: lavrin offboard --status; to try again: lavrin enforce HOST",
    },
    RuleWords {
        name: "register-syntax",
        about: "a file of the register that cannot be read",
        why: "The file is no TOML, so nothing in it counts, and no host is changed while it is so.",
        mend: "Correct it at the line that is named",
    },
    RuleWords {
        name: "unknown-field",
        about: "a field that the register does not know",
        why: "A slip of the pen would otherwise be a limit that nobody applies.",
        mend: "Correct the name, or take it out",
    },
    RuleWords {
        name: "missing-field",
        about: "a field that has to be there",
        why: "Without it the entry means nothing.",
        mend: "Write it",
    },
    RuleWords {
        name: "wrong-kind",
        about: "a value of the wrong kind",
        why: "A number where a text belongs, or the other way round.",
        mend: "Correct it",
    },
    RuleWords {
        name: "bad-value",
        about: "a value that makes no sense",
        why: "The value cannot be meant.",
        mend: "Correct it",
    },
    RuleWords {
        name: "bad-key",
        about: "a key that cannot be read",
        why: "The line holds no key that can be read, so it opens nothing.",
        mend: "Paste it again: lavrin person add PERSON --key KEY.pub",
    },
    RuleWords {
        name: "named-twice",
        about: "one name for two things",
        why: "Which of the two is meant depends on who reads it.",
        mend: "Rename one: lavrin person rename, or: lavrin host rename",
    },
    RuleWords {
        name: "algorithm-not-allowed",
        about: "a key of an algorithm that policy does not allow",
        why: "Policy names the algorithms that may be used.",
        mend: "Make a new pair (lavrin key generate), put it beside the old one, prove it, then take the old one away: lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "shared-key",
        about: "one key of two people",
        why: "One key of two people says nothing about who signed in, and leaves with neither.",
        mend: "Ask both; a key belongs to one person or one machine",
    },
    RuleWords {
        name: "duplicate-key",
        about: "a key that is listed twice",
        why: "Whoever retires one leaves the other.",
        mend: "Take one of them out",
    },
    RuleWords {
        name: "old-key",
        about: "a key older than policy allows",
        why: "The longer a key is in use, the more copies of it there are.",
        mend: "lavrin rotate PERSON --from-file NEW.pub",
    },
    RuleWords {
        name: "comment-form",
        about: "a comment that policy wants otherwise",
        why: "Comments that say whose a key is help whoever reads a key file at night.",
        mend: "Correct it in the register; the next change of the entry writes it",
    },
    RuleWords {
        name: "automation-unlimited",
        about: "a grant for a program without a limit",
        why: "A program's key lies somewhere without a passphrase; without from= or command= whoever finds it has a shell.",
        mend: "Add a limit to the grant: from = \"192.0.2.0/24\" or command = \"/usr/local/bin/report\"",
    },
    RuleWords {
        name: "replaced-twice",
        about: "two keys that replace the same one",
        why: "Nobody can say which of the two goes on.",
        mend: "Take replaces out of one of them",
    },
    RuleWords {
        name: "replaces-itself",
        about: "a key that replaces itself",
        why: "A key cannot take its own place, nor go round in a circle.",
        mend: "Take replaces out",
    },
    RuleWords {
        name: "person-without-key",
        about: "a person without a key",
        why: "No grant of theirs opens anything.",
        mend: "lavrin person add PERSON --key KEY.pub; or ask them for: lavrin person request",
    },
    RuleWords {
        name: "unknown-name",
        about: "a name that is not in the register",
        why: "What names nobody opens nothing, or will open something once the name is there.",
        mend: "Correct the name, or add what it means",
    },
    RuleWords {
        name: "grant-matches-nothing",
        about: "a grant that covers no host",
        why: "It opens nothing today, and something as soon as a host gets that name or tag.",
        mend: "Correct the host or tag, or: lavrin withdraw",
    },
    RuleWords {
        name: "grant-ended",
        about: "a grant that is over",
        why: "It is over; the longer such lines stay, the less the register says.",
        mend: "lavrin withdraw PERSON ACCOUNT --until DATE",
    },
    RuleWords {
        name: "grant-ends-soon",
        about: "a grant whose last day is near",
        why: "On that day the entry goes, in the middle of somebody's work.",
        mend: "If it is needed for longer: lavrin grant PERSON ACCOUNT --host HOST --until DATE",
    },
    RuleWords {
        name: "grant-of-leaver",
        about: "a grant of somebody who has left",
        why: "It opens nothing, and would once the person is back under that name.",
        mend: "lavrin withdraw PERSON ACCOUNT --all",
    },
    RuleWords {
        name: "grant-without-key",
        about: "a grant of somebody without a key",
        why: "The grant opens nothing.",
        mend: "lavrin person add PERSON --key KEY.pub",
    },
    RuleWords {
        name: "group-forbidden",
        about: "a grant that puts an account into a group that policy forbids",
        why: "Policy says that no grant puts anybody into this group.",
        mend: "Take the group out of the grant",
    },
    RuleWords {
        name: "group-like-root",
        about: "a grant that puts an account into a group whose members can become root",
        why: "Members of this group usually become root, whatever the account is called.",
        mend: "Take the group out, or grant root so that everybody sees it",
    },
    RuleWords {
        name: "grant-twice",
        about: "a grant that is there twice",
        why: "Whoever withdraws one leaves the other.",
        mend: "Take one of them out: lavrin withdraw PERSON ACCOUNT",
    },
    RuleWords {
        name: "kept-not-managed",
        about: "a kept key of an account that the register does not manage",
        why: "The key is kept, and nobody puts it on the host.",
        mend: "Name the account under accounts of the host",
    },
    RuleWords {
        name: "kept-known-to-leaver",
        about: "a kept key of which somebody who left may have a copy",
        why: "They may have a copy of the private half, and it still opens the account.",
        mend: "lavrin rotate --account root@buoy-7",
    },
    RuleWords {
        name: "host-unpinned",
        about: "a host whose key is not pinned",
        why: "Another machine could answer in its place and would be believed.",
        mend: "With the fingerprint from its own console: lavrin host trust HOST",
    },
    RuleWords {
        name: "way-back-missing",
        about: "a host for which nobody has written down how to get in without a key",
        why: "A host that takes keys only is lost with the key, unless somebody knows another way in.",
        mend: "lavrin host set HOST --way-back 'HOW' --way-back-tried DATE",
    },
    RuleWords {
        name: "way-back-untried",
        about: "a way back to a host that was not tried for longer than policy allows",
        why: "A way back that was never tried is a hope.",
        mend: "Try it, then: lavrin host set HOST --way-back-tried DATE",
    },
    RuleWords {
        name: "shared-host-key",
        about: "two hosts with one host key, so one is a copy of the other",
        why: "Who has one of these hosts can be the other one; they were made from one image.",
        mend: "Make new host keys on one of them, then: lavrin host trust HOST --replace SHA256:…",
    },
    RuleWords {
        name: "through-loop",
        about: "hosts that are reached through each other in a loop",
        why: "Neither of them can be reached.",
        mend: "Correct through: lavrin host set HOST --through OTHER",
    },
    RuleWords {
        name: "old-algorithms",
        about: "a host that may be spoken to with SHA-1, which is broken",
        why: "Whoever is on the way can break what protects the connection.",
        mend: "Update the host's software, then take old_algorithms out",
    },
    RuleWords {
        name: "after-change-no-path",
        about: "something that has to run after a change and is no program by its whole path",
        why: "A name without its whole path may be another program there.",
        mend: "Write the whole path",
    },
    RuleWords {
        name: "runs-after-change",
        about: "a program that runs on a host after each change, by root where the login has root's rights",
        why: "Whoever may write the register has this run on the host, by root where the login has root's rights. It is told so that a review sees it.",
        mend: "If it is meant, nothing",
    },
    RuleWords {
        name: "account-not-of-login",
        about: "an account on a host that takes keys for the login only, or whose key file the register does not name",
        why: "The host takes keys for the account that signs in only, so this one cannot be managed.",
        mend: "Take the account out, or sign in as it: lavrin host set HOST --login ACCOUNT",
    },
    RuleWords {
        name: "account-without-way-in",
        about: "an account that no grant opens",
        why: "Nobody may use the account by the register, so enforce would leave it without a key.",
        mend: "lavrin grant PERSON ACCOUNT --host HOST, or take the account out of the host",
    },
    RuleWords {
        name: "account-never-seen",
        about: "a managed account that no survey has seen",
        why: "It may be a slip of the pen, or an account that is still to be made.",
        mend: "lavrin survey HOST; correct the name, or let a grant make it (create = true)",
    },
    RuleWords {
        name: "leave-by-comment",
        about: "an entry left alone by its comment instead of its fingerprint",
        why: "Whoever may write an entry may write its comment, so a comment leaves nothing alone.",
        mend: "Write its fingerprint under leave instead",
    },
    RuleWords {
        name: "leave-of-person",
        about: "an entry left alone although the key belongs to a person of the register",
        why: "The key belongs to somebody known, so grants decide about it.",
        mend: "Take it out of leave, and grant what is meant",
    },
    RuleWords {
        name: "exception-ended",
        about: "an exception that is over",
        why: "What it let pass counts again.",
        mend: "Take it out, or give it a new day",
    },
    RuleWords {
        name: "exception-unused",
        about: "an exception that is no longer needed",
        why: "It hides the next finding of its kind.",
        mend: "Take it out",
    },
];

#[cfg(test)]
mod tests {
    use super::{RULES, usual};
    use lavrin_fleet::register::RegisterFault;
    use lavrin_fleet::rules;
    use std::fmt::Write as _;

    /// `LAVRIN_WRITE_SCHEMAS` writes it anew, as it does with the schemas.
    #[test]
    fn the_list_of_rules_is_that_of_the_tables() {
        let tables: Vec<_> = rules::with(RegisterFault::RULES).collect();
        let mut text = String::from(
            "# Rules\n\nEach finding goes by one name, wherever it appears: in the audit of a host or a fleet, in the check of a register, in\n`[policy.severity]` and in exceptions. A severity can be changed there: `weak-rsa-short = \"low\"`, or `\"off\"`. `lavrin rule NAME` prints one.\nWords in capitals stand for what a finding names; a finding itself names the command that mends it.\n",
        );
        for rule in RULES {
            let usual = usual(rule.name);
            assert!(!usual.is_empty(), "no table has the rule {}", rule.name);
            let (name, about, why, mend) = (rule.name, rule.about, rule.why, rule.mend);
            let _ =
                write!(text, "\n## {name}\n\nUsually {}: {about}.\n\n{why}\n\n**Mend**: {mend}.\n", usual.join(" or "));
        }
        for (rule, _) in &tables {
            assert_eq!(RULES.iter().filter(|known| known.name == *rule).count(), 1, "{rule} is described once");
        }
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/rules.md");
        if std::env::var_os("LAVRIN_WRITE_SCHEMAS").is_some() {
            std::fs::write(path, &text).unwrap();
        }
        assert_eq!(std::fs::read_to_string(path).unwrap_or_default(), text);
    }
}
