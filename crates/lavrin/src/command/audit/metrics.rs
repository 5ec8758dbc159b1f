//! Numbers of an audit for monitoring, as `OpenMetrics` text (its version 1.0.0): a file that a collector of a machine's numbers picks up.

use crate::error::CommandError;
use crate::out_file::OutFile;
use lavrin_fleet::fleet::FleetReport;
use lavrin_server::finding::Severity;
use lavrin_store::database::Look;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::io::Read as _;
use std::path::Path;

/// What every such file begins with.
const OWN: &[u8; 14] = b"# TYPE lavrin_";

/// What is counted.
pub struct CountedAudit<'a> {
    pub report: &'a FleetReport,
    /// The hosts that were asked about, and the last look at each.
    pub looks: Vec<Option<&'a Look>>,
    /// Removals that are owed.
    pub owed: usize,
    /// Now, in seconds since 1970.
    pub now: i64,
}

/// Writes the file, whole or not at all; everybody may read it, since it names no one.
pub fn write(path: &Path, counted: &CountedAudit<'_>) -> Result<(), CommandError> {
    // Another file under that name is never overwritten.
    if path.symlink_metadata().is_ok() && !begins_as_ours(path) {
        let shown = crate::paths::shown(path);
        return Err(CommandError::usage(format!("{shown} is another file and is not overwritten"))
            .again("another name", "--metrics FILE"));
    }
    OutFile::own(path).readable().put(text(counted).as_bytes()).map(drop)
}

/// Reads no more than the beginning, however large the file is; a pipe or a device is not opened.
fn begins_as_ours(path: &Path) -> bool {
    let mut start = [0; OWN.len()];
    let is_file = path.symlink_metadata().is_ok_and(|meta| meta.is_file());
    is_file && std::fs::File::open(path).is_ok_and(|mut file| file.read_exact(&mut start).is_ok()) && start == *OWN
}

fn text(counted: &CountedAudit<'_>) -> String {
    let CountedAudit { report, looks, owed, now } = counted;
    let mut text = String::new();
    let mut family = |name: &str, help: &str, samples: Vec<(String, i64)>| {
        let _ = writeln!(text, "# TYPE lavrin_{name} gauge\n# HELP lavrin_{name} {help}");
        for (labels, value) in samples {
            let _ = writeln!(text, "lavrin_{name}{labels} {value}");
        }
    };
    let number = |number: usize| i64::try_from(number).unwrap_or(i64::MAX);
    let state = |name: &str, count: usize| (format!("{{state=\"{name}\"}}"), number(count));
    let known = || looks.iter().flatten();
    let failed = known().filter(|look| look.fault.is_some()).count();
    let fine = known().filter(|look| look.fault.is_none() && look.seen.is_some()).count();
    let never = looks.len() - failed - fine;
    family(
        "hosts",
        "Hosts of the register by how the last look at them ended.",
        vec![state("seen", fine), state("failed", failed), state("never", never)],
    );
    let severity =
        |severity: Severity| (format!("{{severity=\"{}\"}}", severity.name()), number(report.count(severity)));
    family("open_findings", "Open findings by severity.", Severity::URGENT_FIRST.into_iter().map(severity).collect());
    let mut rules: BTreeMap<(&str, &str), usize> = BTreeMap::new();
    for found in &report.findings {
        *rules.entry((found.finding.fault.rule(), found.severity.name())).or_default() += 1;
    }
    let rule = |((rule, severity), count): ((&str, &str), usize)| {
        (format!("{{rule=\"{rule}\",severity=\"{severity}\"}}"), number(count))
    };
    family("findings", "Open findings by rule.", rules.into_iter().map(rule).collect());
    family(
        "not_checked",
        "Places that could not be looked at.",
        vec![(String::new(), number(report.not_checked.len()))],
    );
    family("entries", "Entries in key files.", vec![(String::new(), number(report.entries.len()))]);
    family("owed", "Removals that are owed.", vec![(String::new(), number(*owed))]);
    let age = |name: &str, time: Option<i64>| time.map(|time| (format!("{{look=\"{name}\"}}"), (now - time).max(0)));
    family(
        "survey_age_seconds",
        "Age of the last looks at hosts: of the oldest one and of the newest one.",
        age("oldest", known().filter_map(|look| look.seen).min())
            .into_iter()
            .chain(age("newest", known().filter_map(|look| look.seen).max()))
            .collect(),
    );
    family("audit_time_seconds", "When this audit was, in seconds since 1970.", vec![(String::new(), *now)]);
    text + "# EOF\n"
}
