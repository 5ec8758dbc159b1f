//! The program as others get it: as a Debian package on whole machines, and as one file in an empty root.

use crate::common::machine::Machine;
use crate::common::site::{PLAIN, Site, wait_for};
use crate::common::{World, write_program};
use std::os::unix::fs::PermissionsExt as _;
use std::path::PathBuf;
use std::process::Command;

/// What `scripts/test.sh` has built.
fn built(variable: &str) -> PathBuf {
    let path = std::env::var_os(variable).map(PathBuf::from);
    path.unwrap_or_else(|| panic!("{variable} is not set: scripts/test.sh builds what it names"))
}

#[test]
#[ignore = "needs whole machines and the package: scripts/test.sh"]
fn the_package_is_installed_used_and_removed() {
    for suite in ["bookworm", "trixie"] {
        let world = World::new();
        drop(world.typed("key generate --passphrase none --folder home/keys --name root").expect(0));
        let machine = Machine::boot(suite, &world, |root, _, _| {
            std::fs::copy(built("LAVRIN_DEB"), root.join("root/lavrin.deb")).unwrap();
            let write = |path: &str, text: &str| {
                let path = root.join(path);
                std::fs::create_dir_all(path.parent().unwrap()).unwrap();
                std::fs::write(path, text).unwrap();
            };
            // The night begins when the timer is started.
            let timer = "[Timer]\nOnCalendar=\nOnActiveSec=1s\nRandomizedDelaySec=0\nAccuracySec=100ms\n";
            write("etc/systemd/system/lavrin-nightly.timer.d/test.conf", timer);
            write("etc/lavrin/tell", "#!/bin/sh\n{ echo \"unit $1\"; cat; } >>/var/lib/told\n");
            std::os::unix::fs::chown(root.join("etc/lavrin/tell"), Some(0), Some(0)).unwrap();
            drop(Command::new("chmod").arg("755").arg(root.join("etc/lavrin/tell")).status());
        });
        let run = |command: &str| {
            let output = machine.ssh(&world, &[], command);
            let said = String::from_utf8_lossy(&output.stdout).into_owned();
            let errors = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(output.status.success(), "{suite}: {command}: {said}{errors}");
            said
        };
        run("dpkg -i /root/lavrin.deb");
        assert!(run("lavrin version --long").contains("commit    "), "{suite}");
        for file in [
            "/usr/share/man/man1/lavrin-enforce.1.gz",
            "/usr/share/bash-completion/completions/lavrin",
            "/usr/share/zsh/vendor-completions/_lavrin",
            "/usr/share/fish/vendor_completions.d/lavrin.fish",
        ] {
            run(&format!("test -s {file}"));
        }
        run("lavrin register check --register /usr/share/doc/lavrin/register");
        let as_lavrin = |command: &str| {
            let register = "HOME=/var/lib/lavrin LAVRIN_REGISTER=/var/lib/lavrin/register";
            run(&format!("runuser -u lavrin -- env {register} {command}"))
        };
        as_lavrin("lavrin key generate --name survey-key --folder /var/lib/lavrin --passphrase none --comment night");
        as_lavrin("lavrin register begin /var/lib/lavrin/register --name night");
        run("cat /var/lib/lavrin/survey-key.pub >>/root/.ssh/authorized_keys");
        as_lavrin("lavrin person add night --key /var/lib/lavrin/survey-key.pub --purpose automation");
        let place = format!("--address {} --port {}", machine.address, machine.port);
        as_lavrin(&format!("lavrin host add self {place} --login root --account root"));
        as_lavrin(&format!("lavrin host trust self --expect-host-key {}", machine.host_key(&world)));
        as_lavrin("lavrin grant night root --host self");
        run("systemctl enable --now lavrin-nightly.timer");
        wait_for(|| machine.path("var/lib/told").exists());
        wait_for(|| machine.says(&world, "systemctl is-active lavrin-tell@*.service").trim() != "activating");
        let told = run("cat /var/lib/told");
        assert!(told.starts_with("unit lavrin-nightly.service") && told.contains("unknown-key"), "{suite}: {told}");
        assert!(run("cat /var/lib/lavrin/lavrin.prom").contains("lavrin_hosts{state=\"seen\"} 1"));
        assert!(run("head -c 15 /var/lib/lavrin/reports/access.html").starts_with("<!DOCTYPE html>"));
        // The next night brings nothing new, so nobody is told.
        run("systemctl start lavrin-nightly.service");
        assert_eq!(run("cat /var/lib/told"), told, "{suite}");
        let exposure = run("systemd-analyze security --no-pager lavrin-nightly.service | tail -1");
        assert!(exposure.contains("OK"), "{exposure}");
        run("dpkg -r lavrin");
        run("! command -v lavrin && ! systemctl is-active lavrin-nightly.timer");
        run("dpkg -P lavrin && test -s /var/lib/lavrin/register/hosts.toml");
    }
}

#[test]
#[ignore = "needs a real sshd and the static program: scripts/test.sh"]
fn one_file_is_enough_in_an_empty_root() {
    let site = Site::new(PLAIN);
    let root = tempfile::tempdir().unwrap();
    let program = root.path().join("lavrin");
    write_program(&program, &std::fs::read(built("LAVRIN_STATIC")).unwrap());
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
    let run = |line: &str| {
        let mut chroot = Command::new("/usr/sbin/chroot");
        chroot.arg(root.path()).arg("/lavrin").args(line.split(' ')).env_clear().env("HOME", "/");
        let output = chroot.output().unwrap();
        (
            output.status.code(),
            String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr),
        )
    };
    let (code, said) = run("version --long");
    assert!(code == Some(0) && said.contains("static"), "{said}");
    let (code, said) = run("key generate --name edda --folder / --passphrase none");
    assert_eq!(code, Some(0), "{said}");
    let (code, said) = run("register begin /register");
    assert_eq!(code, Some(0), "{said}");
    // It speaks to a real server, and keeps what it saw of it.
    let (server, print) = (&site.server, &site.server.host_key);
    let probe = format!("probe /edda.pub {} --port {} --expect-host-key {print}", site.target(), server.port);
    let (code, said) = run(&probe);
    assert!(code == Some(1) && said.contains("refused"), "{said}");
    let key = std::fs::read(root.path().join("edda.pub")).unwrap();
    let mut keys = std::fs::read(&site.root_keys.0).unwrap();
    keys.extend(key);
    std::fs::write(&site.root_keys.0, keys).unwrap();
    let add = format!("host add lantern --address 127.0.0.1 --port {} --login root --register /register", server.port);
    let trust = format!("host trust lantern --expect-host-key {print} --register /register");
    for line in [add, trust] {
        let (code, said) = run(&line);
        assert_eq!(code, Some(0), "{line}: {said}");
    }
    let (code, said) = run("survey --identity /edda --register /register");
    assert!(code == Some(0) && said.contains("1 surveyed"), "{said}");
}
