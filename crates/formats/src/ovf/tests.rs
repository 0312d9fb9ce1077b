use super::*;
use flate2::{Compression, write::GzEncoder};
use proptest::prelude::*;
use sha2::{Digest, Sha256};
use std::io::{Read, Write};
use zastrugi_core::{
    ovf::{Descriptor, Disk, File, Hardware, Item, RAW},
    units::Bytes,
};

fn item(hardware: Hardware) -> Item {
    Item {
        configurations: vec![],
        hardware,
    }
}

fn machine(disk: u64) -> Descriptor {
    Descriptor {
        name: "gate-01".into(),
        note: "at the <north> gate & beyond".into(),
        files: vec![File {
            id: "file1".into(),
            href: "gate-01-1.raw.gz".into(),
            gzip: true,
        }],
        disks: vec![Disk {
            id: "disk1".into(),
            file: Some("file1".into()),
            capacity: Bytes(disk),
            format: RAW.into(),
        }],
        networks: vec![("crew".into(), "VLAN 20".into())],
        items: vec![
            item(Hardware::Vcpus(4)),
            item(Hardware::Memory {
                size: Bytes::gib(8),
                kept: Some(Bytes::gib(2)),
            }),
            item(Hardware::Disk("disk1".into())),
            item(Hardware::Card {
                network: "crew".into(),
                mac: Some("02:5a:00:00:00:01".into()),
            }),
        ],
        ..Descriptor::default()
    }
}

fn gz(bytes: &[u8]) -> Vec<u8> {
    let mut out = GzEncoder::new(Vec::new(), Compression::fast());
    out.write_all(bytes).unwrap();
    out.finish().unwrap()
}

/// By the library's own writer, so that reading is not judged by what we write ourselves.
fn tar(members: &[(&str, Vec<u8>)]) -> Vec<u8> {
    let mut out = tar::Builder::new(Vec::new());
    for (name, bytes) in members {
        let mut header = tar::Header::new_ustar();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        // As it is, also where it leads elsewhere.
        header.as_mut_bytes()[..name.len()].copy_from_slice(name.as_bytes());
        header.set_cksum();
        out.append(&header, bytes.as_slice()).unwrap();
    }
    out.into_inner().unwrap()
}

fn sum(bytes: &[u8]) -> String {
    Sha256::digest(bytes)
        .iter()
        .map(|b| format!("{b:02x}"))
        .collect()
}

fn whole(d: &Descriptor, disk: &[u8]) -> Vec<(&'static str, Vec<u8>)> {
    let text = write(d).into_bytes();
    let disk = gz(disk);
    let lines = format!(
        "SHA256(gate-01.ovf)= {}\nSHA256(gate-01-1.raw.gz)= {}\n",
        sum(&text),
        sum(&disk)
    );
    vec![
        ("gate-01.ovf", text),
        ("gate-01.mf", lines.into_bytes()),
        ("gate-01-1.raw.gz", disk),
    ]
}

fn checked(bytes: &[u8]) -> Result<Checked, Wrong> {
    check(&mut &bytes[..])
}

/// If this fails, a machine comes back from an archive as another than it went in.
#[test]
fn what_is_written_is_read_again() {
    let d = machine(1 << 20);
    let found = checked(&tar(&whole(&d, &[7; 4096]))).unwrap();
    assert_eq!(found.package.descriptor, d);
    assert_eq!(found.minds, Vec::<String>::new());
    assert!(found.package.manifest);
    let system = found.package.descriptor.system(None);
    assert_eq!((system.vcpus, system.memory), (4, Bytes::gib(8)));
    assert_eq!(system.disks[0].capacity, Bytes(1 << 20));
}

/// If this fails, a damaged or cut archive is taken in, or nobody is told which member it is.
#[test]
fn bad_archives_are_refused_with_the_member_and_the_reason() {
    let d = machine(1 << 20);
    let good = whole(&d, &[7; 4096]);
    let says = |members: &[(&str, Vec<u8>)], member: &str, why: &str| {
        let wrong = checked(&tar(members)).unwrap_err();
        assert!(
            wrong.member.contains(member) && wrong.why.contains(why),
            "{wrong}"
        );
    };
    let mut flipped = good.clone();
    flipped[2].1[20] ^= 1;
    says(&flipped, "gate-01-1.raw.gz", "the manifest says");
    says(&good[..2], "gate-01-1.raw.gz", "not in the archive");
    says(
        &[good[2].clone(), good[0].clone()],
        "gate-01-1.raw.gz",
        "comes first",
    );
    says(&[good[0].clone(), good[0].clone()], "gate-01.ovf", "twice");
    says(
        &[good[0].clone(), ("../../x", vec![1])],
        "../../x",
        "no plain file name",
    );
    says(
        &[good[0].clone(), ("/etc/x", vec![1])],
        "/etc/x",
        "no plain file name",
    );
    says(
        &whole(&machine(1024), &[7; 4096]),
        "gate-01-1.raw.gz",
        "more than the disk",
    );
    let all = tar(&good);
    for cut in [100, 700, all.len() / 2, all.len() - 1100] {
        let wrong = checked(&all[..cut]).unwrap_err();
        assert!(
            wrong.why.contains("cut off") || wrong.why.contains("ends"),
            "{cut}: {wrong}"
        );
    }
    assert!(checked(b"not an archive").is_err());
    let bare = checked(&tar(&[good[0].clone(), good[2].clone()])).unwrap();
    assert!(bare.minds[0].contains("no manifest"), "{:?}", bare.minds);
    let old = [
        good[0].clone(),
        ("a.mf", b"SHA1(gate-01.ovf)= 00".to_vec()),
        good[2].clone(),
    ];
    assert!(checked(&tar(&old)).unwrap().minds[0].contains("no SHA-256"));
}

fn refused(text: &str) -> String {
    read("a.ovf", text).unwrap_err().why
}

fn envelope(inside: &str) -> String {
    format!(
        "<Envelope xmlns=\"http://schemas.dmtf.org/ovf/envelope/2\" xmlns:ovf=\"http://schemas.dmtf.org/ovf/envelope/2\">{inside}</Envelope>"
    )
}

const HARDWARE: &str = "<VirtualHardwareSection><Item><ResourceType>3</ResourceType><VirtualQuantity>2</VirtualQuantity></Item>\
    <Item ovf:configuration=\"big\"><ResourceType>4</ResourceType><AllocationUnits>byte * 2^20</AllocationUnits><VirtualQuantity>4096</VirtualQuantity></Item>\
    <Item ovf:configuration=\"small\"><ResourceType>4</ResourceType><AllocationUnits>MegaBytes</AllocationUnits><VirtualQuantity>1024</VirtualQuantity></Item>\
    </VirtualHardwareSection>";

/// If this fails, what an author asks for is passed over in silence.
#[test]
fn a_descriptor_of_others_is_read_or_refused_in_words() {
    let text = envelope(&format!(
        "<DeploymentOptionSection><Configuration ovf:id=\"small\"><Label>Small</Label></Configuration><Configuration ovf:id=\"big\" \
         ovf:default=\"true\"/></DeploymentOptionSection><VirtualSystem ovf:id=\"v\">{HARDWARE}<EulaSection><License>Be kind &amp; &#x41;wake.</License>\
         </EulaSection><ProductSection ovf:class=\"net\"><Property ovf:key=\"dns\" ovf:value=\"10.1.2.53\" ovf:userConfigurable=\"true\"/>\
         </ProductSection><StartUpSection ovf:required=\"false\"/></VirtualSystem>"
    ));
    let d = read("a.ovf", &text).unwrap();
    assert_eq!(d.system(None).memory, Bytes::gib(4), "the usual one");
    assert_eq!(d.system(Some("small")).memory, Bytes::gib(1));
    assert_eq!(d.licences, ["Be kind & Awake."]);
    assert_eq!(
        (d.properties[0].key.as_str(), d.properties[0].asked),
        ("net.dns", true)
    );
    assert_eq!(d.left_out, ["StartUpSection"]);

    let system = |inside: &str| {
        envelope(&format!(
            "<VirtualSystem ovf:id=\"v\">{HARDWARE}{inside}</VirtualSystem>"
        ))
    };
    assert!(refused(&system("<ScaleSection/>")).contains("ScaleSection that is required"));
    assert!(refused(&envelope("<VirtualSystemCollection/>")).contains("several machines"));
    assert!(refused("<!DOCTYPE a [<!ENTITY x \"y\">]><Envelope/>").contains("document type"));
    assert!(
        refused(&system(
            "<EulaSection><License>&boom;</License></EulaSection>"
        ))
        .contains("&boom;")
    );
    assert!(refused("<Envelope><a></Envelope>").contains("well-formed"));
    assert!(refused("<Envelope>\u{0}</Envelope>").contains("U+0000"));
    assert!(
        !refused(&system(
            "<EulaSection><License>&#0;</License></EulaSection>"
        ))
        .is_empty()
    );
    assert!(refused("<Envelope").contains("well-formed"));
    assert!(refused(&"<a>".repeat(60)).contains("deeply"));
    let twice = "<Envelope><References><File ovf:id=\"a\" ovf:id=\"b\" ovf:href=\"x\"/></References></Envelope>";
    assert!(refused(twice).contains("attribute"));
    let packed = envelope(
        "<References><File ovf:id=\"a\" ovf:href=\"x\" ovf:compression=\"bzip2\"/></References><VirtualSystem/>",
    );
    assert!(refused(&packed).contains("bzip2"));
    let odd = "<VirtualHardwareSection><Item><ElementName>a tape</ElementName><ResourceType>22</ResourceType></Item></VirtualHardwareSection>";
    assert!(
        refused(&envelope(&format!("<VirtualSystem>{odd}</VirtualSystem>"))).contains("a tape")
    );
}

#[test]
fn units_are_those_of_the_standard() {
    for (text, bytes) in [
        ("byte", 1),
        ("byte * 2^30", 1 << 30),
        ("byte*10^6", 1_000_000),
        ("MegaBytes", 1 << 20),
        ("byte * 2^99", 0),
        ("furlong", 0),
    ] {
        assert_eq!(super::read::unit(text).unwrap_or(0), bytes, "{text}");
    }
}

/// A reader that gives a few bytes at a time.
struct Slow<'a>(&'a [u8], usize);

impl Read for Slow<'_> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let n = self.1.min(self.0.len()).min(into.len());
        into[..n].copy_from_slice(&self.0[..n]);
        self.0 = &self.0[n..];
        Ok(n)
    }
}

proptest! {
    /// If this fails, an archive from outside brings the reader down.
    #[test]
    fn any_bytes_are_read_or_refused(at in any::<prop::sample::Index>(), with in any::<u8>(), step in 1usize..2000) {
        let mut bytes = tar(&whole(&machine(1 << 20), &[7; 4096]));
        let at = at.index(bytes.len());
        bytes[at] = with;
        let quick = checked(&bytes);
        let slow = check(&mut Slow(&bytes, step));
        prop_assert_eq!(quick, slow);
    }

    #[test]
    fn any_text_is_a_descriptor_or_refused(text in "[<>/a-zA-Z&;:=\" ]{0,200}") {
        let _ = read("a.ovf", &envelope(&text));
    }
}
