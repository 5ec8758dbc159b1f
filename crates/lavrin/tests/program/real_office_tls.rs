//! The line to the database over the network: encrypted, and only to the server that it should be.

use crate::common::World;
use lavrin_standin::DatabaseServer;
use std::net::TcpListener;
use std::path::Path;
use std::process::Command;

/// A certificate for `localhost`, by an authority of its own; their files.
fn certificates(folder: &Path) {
    let openssl = |arguments: &[&str]| {
        let done = Command::new("openssl").args(arguments).current_dir(folder).output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    };
    std::fs::write(folder.join("names"), "subjectAltName=DNS:localhost\n").unwrap();
    for name in ["ca", "other"] {
        let (key, cert, subject) =
            (format!("{name}.key"), format!("{name}.crt"), format!("/CN=the {name} of the harbour"));
        openssl(&[
            "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-keyout", &key, "-out", &cert, "-subj",
            &subject,
        ]);
    }
    openssl(&[
        "req",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        "server.key",
        "-out",
        "server.csr",
        "-subj",
        "/CN=localhost",
    ]);
    openssl(&[
        "x509",
        "-req",
        "-in",
        "server.csr",
        "-CA",
        "ca.crt",
        "-CAkey",
        "ca.key",
        "-CAcreateserial",
        "-days",
        "2",
        "-extfile",
        "names",
        "-out",
        "server.crt",
    ]);
}

#[test]
#[ignore = "starts a real PostgreSQL"]
fn the_certificate_decides_and_the_password_lies_in_its_usual_file() {
    let world = World::new();
    certificates(&world.path(""));
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let mut server = DatabaseServer::start(&[]).expect("PostgreSQL is installed");
    server.run("postgres", "CREATE DATABASE lights").unwrap();
    server
        .run(
            "postgres",
            "SET password_encryption = 'scram-sha-256'; CREATE ROLE edda SUPERUSER LOGIN PASSWORD 'low water'",
        )
        .unwrap();
    server.put("server.crt", &std::fs::read(world.path("server.crt")).unwrap()).unwrap();
    server.put("server.key", &std::fs::read(world.path("server.key")).unwrap()).unwrap();
    server
        .put(
            "data/pg_hba.conf",
            b"local all postgres trust\nlocal all all peer\nhostssl all all 127.0.0.0/8 scram-sha-256\n",
        )
        .unwrap();
    let folder = server.folder().display().to_string();
    let settings = format!(
        "\nlisten_addresses = '127.0.0.1'\nport = {port}\nssl = on\nssl_cert_file = '{folder}/server.crt'\nssl_key_file = '{folder}/server.key'\n"
    );
    server.restart_with(&settings, port).unwrap();
    world.write("home/.pgpass", "localhost:*:lights:edda:low water\n127.0.0.1:*:*:*:low water\n", 0o600);
    let set_up = |host: &str, rest: &str| {
        world.run(&["store", "set-up", &format!("postgresql://edda@{host}:{port}/lights?{rest}")])
    };
    let ca = |name: &str| format!("sslrootcert={}", world.path(name).display());
    // Nothing said: the server has to be the one that it should be.
    let done = set_up("localhost", &ca("ca.crt")).expect(0);
    assert!(done.stdout.contains("form 1"), "{done}");
    let other = set_up("localhost", &ca("other.crt"));
    assert!(other.status == 4 && other.stderr.contains("certificate"), "{other}");
    let name = set_up("127.0.0.1", &format!("{}&sslmode=verify-full", ca("ca.crt")));
    assert!(name.status == 4 && name.stderr.contains("certificate"), "{name}");
    let _ = set_up("127.0.0.1", &format!("{}&sslmode=verify-ca", ca("ca.crt"))).expect(0);
    let _ = set_up("127.0.0.1", "sslmode=require").expect(0);
    let plain = set_up("127.0.0.1", "sslmode=disable");
    assert!(plain.status == 4 && !plain.stderr.contains("low water"), "{plain}");
    // On a socket the system says who somebody is.
    let name = "id -un";
    let user = Command::new("sh").args(["-c", name]).output().unwrap();
    let user = String::from_utf8(user.stdout).unwrap().trim().to_owned();
    server.run("lights", &format!("CREATE ROLE {user} SUPERUSER LOGIN; CREATE ROLE liv SUPERUSER LOGIN")).unwrap();
    let socket = folder.replace('/', "%2F");
    let by_socket =
        |name: &str| world.run(&["store", "set-up", &format!("postgresql://{name}@{socket}:{port}/lights")]);
    let _ = by_socket(&user).expect(0);
    let refused = by_socket("liv").expect(4);
    assert!(refused.stderr.contains("authentication failed"), "{refused}");
    // A file that others may read counts for nothing.
    world.set_mode("home/.pgpass", 0o644);
    let open = set_up("localhost", &ca("ca.crt"));
    assert!(open.status == 4 && open.stderr.contains("password"), "{open}");
}
