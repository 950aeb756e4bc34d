//! `rtmps://` to a real TLS endpoint (nginx), with a test authority in the place of the system's.

use std::process::Command;
use std::time::Duration;

use crate::common::*;
use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair};

/// An authority, and a server's certificate and key signed by it, in PEM.
struct Authority {
    root: String,
    certificate: String,
    key: String,
}

fn authority(server: &str) -> Authority {
    let mut params = CertificateParams::new(Vec::new()).unwrap();
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let root = CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap();
    let key = KeyPair::generate().unwrap();
    let certificate = CertificateParams::new(vec![server.to_owned()]).unwrap().signed_by(&key, &root).unwrap();
    Authority { root: root.pem(), certificate: certificate.pem(), key: key.serialize_pem() }
}

/// A moth that trusts this root and no other.
fn trusting(root: &str, to: &str) -> (Moth, tempfile::TempDir) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("roots.pem");
    std::fs::write(&path, root).unwrap();
    let mut command = Command::new("env");
    command.env("SSL_CERT_FILE", &path).env_remove("SSL_CERT_DIR");
    (Moth::watching(command, &[to]), dir)
}

#[test]
fn a_broadcast_over_tls_arrives_whole_and_its_accounts_are_exact() {
    if !have(&["nginx", "nginx-stream", "ffmpeg", "ffprobe"]) {
        return;
    }
    let authority = authority("localhost");
    let (nginx, port) = Nginx::behind_tls(&authority.certificate, &authority.key);
    let (moth, _roots) = trusting(&authority.root, &format!("rtmps://localhost:{port}/live"));
    let copy = moth.dir.path().join("copy.flv");
    ended_well(publish_and_keep(Command::new("env"), &moth.publish_to(), 8, 2000, &copy));
    let last = wait_for("the last frames", Duration::from_secs(15), || {
        let last = moth.lines().pop()?;
        (last["state"].is_null() && last["frames"]["offered"] == 240 && last["frames"]["queued"] == 0).then_some(last)
    });
    assert_eq!(last["frames"]["dropped"], 0, "{last}");
    let recordings = nginx.recordings();
    assert_eq!(frames(&recordings[0], "v"), last["frames"]["delivered"].as_u64().unwrap());
    assert_eq!(hash(&recordings[0]), hash(&copy));
    let (status, lines) = moth.stop();
    assert_eq!(status, Some(0));
    let on_air = lines.iter().filter(|l| l["state"] == "steady");
    // A frame is delivered when its last byte on the wire is acknowledged, not when the program stops.
    assert!(on_air.clone().count() >= 6 && on_air.skip(2).all(|l| l["frames"]["queued"].as_u64().unwrap() < 15));
}

#[test]
fn a_certificate_that_is_not_the_servers_is_refused_and_said_so() {
    if !have(&["nginx", "nginx-stream", "ffmpeg"]) {
        return;
    }
    let good = authority("localhost");
    let other_name = authority("aldmoor.example");
    let cases = [
        // Signed by an authority that is not trusted; for another name.
        (&good, authority("localhost").root),
        (&other_name, other_name.root.clone()),
    ];
    for (server, root) in cases {
        let (nginx, port) = Nginx::behind_tls(&server.certificate, &server.key);
        let (moth, _roots) = trusting(&root, &format!("rtmps://localhost:{port}/live"));
        let ffmpeg = publish(Command::new("env"), &moth.publish_to(), 4, 500);
        let line =
            wait_for("the verdict", Duration::from_secs(10), || moth.lines().pop().filter(|l| l["fault"] == "network"));
        assert!(line["sentence"].as_str().unwrap().contains("certificate is refused"), "{line}");
        ended_well(ffmpeg);
        assert!(nginx.recordings().is_empty(), "nothing was sent to it");
        assert_eq!(moth.stop().0, Some(0));
    }
}

#[test]
fn a_server_without_tls_is_told_apart() {
    if !have(&["nginx", "ffmpeg"]) {
        return;
    }
    let nginx = Nginx::new();
    let moth = Moth::here(&[&nginx.address().replace("rtmp://", "rtmps://")]);
    let ffmpeg = publish(Command::new("env"), &moth.publish_to(), 12, 500);
    let line = wait_for("the reason", Duration::from_secs(10), || {
        moth.lines().pop().filter(|l| l["sentence"].as_str().unwrap().contains("without TLS begins with rtmp://"))
    });
    assert_eq!((line["state"].as_str(), line["fault"].as_str()), (Some("dark"), Some("network")), "{line}");
    drop(moth);
    let _ = ffmpeg.wait_with_output();
}
