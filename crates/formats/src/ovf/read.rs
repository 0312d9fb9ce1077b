//! A descriptor's text becomes what it says.

use super::{
    Wrong,
    tree::{Node, parse},
};
use zastrugi_core::{
    ovf::{Configuration, Descriptor, Disk, File, Hardware, Item, Property},
    units::Bytes,
};

/// Sections that are understood, or that say nothing that a machine needs.
const KNOWN: [&str; 14] = [
    "References",
    "DiskSection",
    "NetworkSection",
    "DeploymentOptionSection",
    "VirtualSystem",
    "VirtualHardwareSection",
    "EulaSection",
    "ProductSection",
    "AnnotationSection",
    "OperatingSystemSection",
    "Strings",
    "Info",
    "Name",
    "InstallSection",
];

/// Reads the text of a descriptor that is called so in its archive.
///
/// # Errors
/// [`Wrong`] where it can't be read, or asks for what is not known.
pub fn read(name: &str, text: &str) -> Result<Descriptor, Wrong> {
    described(text).map_err(|why| Wrong::new(name, why))
}

fn described(text: &str) -> Result<Descriptor, String> {
    let root = parse(text)?;
    if root.name != "Envelope" {
        return Err(format!("begins with {}, not with an Envelope", root.name));
    }
    if root.one("VirtualSystemCollection").is_some() {
        return Err("describes several machines in one; take them in one by one".into());
    }
    let mut systems = root.all("VirtualSystem");
    let system = systems.next().ok_or("describes no machine")?;
    if systems.next().is_some() {
        return Err("describes several machines; take them in one by one".into());
    }
    let mut descriptor = Descriptor {
        name: named(system),
        files: root
            .one("References")
            .map(files)
            .transpose()?
            .unwrap_or_default(),
        disks: root
            .one("DiskSection")
            .map(disks)
            .transpose()?
            .unwrap_or_default(),
        networks: root.one("NetworkSection").map(networks).unwrap_or_default(),
        configurations: root
            .one("DeploymentOptionSection")
            .map(configurations)
            .unwrap_or_default(),
        ..Descriptor::default()
    };
    let mut seen = 0;
    for section in root.children.iter().chain(&system.children) {
        match section.name.as_str() {
            "VirtualHardwareSection" => {
                seen += 1;
                // The first is the one that the author prefers.
                if seen == 1 {
                    descriptor.items = items(section)?;
                }
            }
            "EulaSection" => descriptor.licences.push(section.said("License").to_owned()),
            "ProductSection" => descriptor.properties.extend(properties(section)),
            "AnnotationSection" => section.said("Annotation").clone_into(&mut descriptor.note),
            known if KNOWN.contains(&known) => {}
            other if section.attribute("required").is_none_or(is_true) => {
                return Err(format!(
                    "has a section {other} that is required and not known here"
                ));
            }
            other => descriptor.left_out.push(other.to_owned()),
        }
    }
    if descriptor.items.is_empty() {
        return Err("says nothing of the machine's hardware".into());
    }
    complete(&descriptor)?;
    Ok(descriptor)
}

fn is_true(text: &str) -> bool {
    text == "true" || text == "1"
}

fn named(system: &Node) -> String {
    let name = system.said("Name");
    if name.is_empty() {
        system.attribute("id").unwrap_or_default().to_owned()
    } else {
        name.to_owned()
    }
}

/// Whatever refers to something refers to what is there.
fn complete(d: &Descriptor) -> Result<(), String> {
    for disk in &d.disks {
        if let Some(file) = &disk.file
            && d.file(file).is_none()
        {
            return Err(format!(
                "refers to the file {file} for the disk {}, and doesn't list it",
                disk.id
            ));
        }
    }
    for item in &d.items {
        if let Hardware::Disk(id) = &item.hardware
            && !d.disks.iter().any(|disk| disk.id == *id)
        {
            return Err(format!(
                "gives the machine a disk {id} that it doesn't list"
            ));
        }
    }
    Ok(())
}

fn files(section: &Node) -> Result<Vec<File>, String> {
    let file = |f: &Node| {
        let id = f.attribute("id").ok_or("lists a file without an id")?;
        let href = f.attribute("href").ok_or("lists a file without a name")?;
        if f.attribute("chunkSize").is_some() {
            return Err(format!("cuts {href} into chunks, which are not read"));
        }
        let gzip = match f.attribute("compression") {
            None | Some("identity" | "") => false,
            Some("gzip") => true,
            Some(other) => return Err(format!("compresses {href} by {other}, which is not read")),
        };
        Ok(File {
            id: id.to_owned(),
            href: href.to_owned(),
            gzip,
        })
    };
    section.all("File").map(file).collect()
}

fn disks(section: &Node) -> Result<Vec<Disk>, String> {
    let disk = |d: &Node| {
        let id = d.attribute("diskId").ok_or("lists a disk without an id")?;
        let capacity = d.attribute("capacity").unwrap_or_default();
        let units = d.attribute("capacityAllocationUnits").unwrap_or("byte");
        let capacity = capacity.parse::<u64>().ok().zip(unit(units));
        let capacity = capacity.and_then(|(n, unit)| n.checked_mul(unit));
        let capacity = capacity
            .ok_or_else(|| format!("says a capacity of the disk {id} that can't be read"))?;
        if d.attribute("parentRef").is_some() {
            return Err(format!(
                "lets the disk {id} lie on another, which is not read"
            ));
        }
        Ok(Disk {
            id: id.to_owned(),
            file: d
                .attribute("fileRef")
                .filter(|f| !f.is_empty())
                .map(str::to_owned),
            capacity: Bytes(capacity),
            format: d.attribute("format").unwrap_or_default().to_owned(),
        })
    };
    section.all("Disk").map(disk).collect()
}

fn networks(section: &Node) -> Vec<(String, String)> {
    let network = |n: &Node| {
        Some((
            n.attribute("name")?.to_owned(),
            n.said("Description").to_owned(),
        ))
    };
    section.all("Network").filter_map(network).collect()
}

fn configurations(section: &Node) -> Vec<Configuration> {
    let configuration = |c: &Node| {
        Some(Configuration {
            id: c.attribute("id")?.to_owned(),
            label: c.said("Label").to_owned(),
            description: c.said("Description").to_owned(),
            default: c.attribute("default").is_some_and(is_true),
        })
    };
    section
        .all("Configuration")
        .filter_map(configuration)
        .collect()
}

fn properties(section: &Node) -> Vec<Property> {
    let class = section.attribute("class").unwrap_or_default();
    let property = |p: &Node| {
        let key = p.attribute("key")?;
        Some(Property {
            key: if class.is_empty() {
                key.to_owned()
            } else {
                format!("{class}.{key}")
            },
            label: p.said("Label").to_owned(),
            value: p.attribute("value").unwrap_or_default().to_owned(),
            asked: p.attribute("userConfigurable").is_some_and(is_true),
            password: p.attribute("password").is_some_and(is_true),
        })
    };
    section.all("Property").filter_map(property).collect()
}

/// A programmatic unit of bytes (DSP0004, annex C), and the words that came before it.
pub(super) fn unit(text: &str) -> Option<u64> {
    let plain: String = text.chars().filter(|c| !c.is_whitespace()).collect();
    match plain.to_lowercase().as_str() {
        "byte" | "bytes" | "" => Some(1),
        "kilobytes" | "kb" => Some(1 << 10),
        "megabytes" | "mb" => Some(1 << 20),
        "gigabytes" | "gb" => Some(1 << 30),
        other => {
            let (base, power) = other.strip_prefix("byte*")?.split_once('^')?;
            let (base, power) = (base.parse::<u64>().ok()?, power.parse::<u32>().ok()?);
            base.checked_pow(power)
        }
    }
}

fn items(section: &Node) -> Result<Vec<Item>, String> {
    let kinds = ["Item", "StorageItem", "EthernetPortItem"];
    let all = section
        .children
        .iter()
        .filter(|c| kinds.contains(&c.name.as_str()));
    let mut items = Vec::new();
    for item in all {
        let hardware = hardware(item)?;
        let configurations = item.attribute("configuration").unwrap_or_default();
        items.extend(hardware.map(|hardware| {
            Item {
                configurations: configurations
                    .split_whitespace()
                    .map(str::to_owned)
                    .collect(),
                hardware,
            }
        }));
    }
    Ok(items)
}

/// One item, by its resource type (DSP1041); none: what every machine has.
fn hardware(item: &Node) -> Result<Option<Hardware>, String> {
    // Bounds beside the normal value are the author's own business.
    if item.attribute("bound").is_some_and(|b| b != "normal") {
        return Ok(None);
    }
    let called = item.said("ElementName");
    let number = |name: &str| item.said(name).parse::<u64>().ok();
    Ok(Some(match item.said("ResourceType") {
        "3" => {
            let n = number("VirtualQuantity")
                .and_then(|n| u32::try_from(n).ok())
                .filter(|n| *n > 0);
            Hardware::Vcpus(n.ok_or("says a number of vCPUs that can't be read")?)
        }
        "4" => {
            let unit = unit(item.said("AllocationUnits"))
                .ok_or("says memory in a unit that can't be read")?;
            let size = number("VirtualQuantity").and_then(|n| n.checked_mul(unit));
            let kept = number("Reservation").and_then(|n| n.checked_mul(unit));
            Hardware::Memory {
                size: Bytes(size.ok_or("says a memory size that can't be read")?),
                kept: kept.map(Bytes),
            }
        }
        "10" => Hardware::Card {
            network: item.said("Connection").to_owned(),
            mac: Some(item.said("Address").to_owned()).filter(|a| !a.is_empty()),
        },
        "17" | "31" => {
            let resource = item.said("HostResource");
            let id = resource.rsplit_once("disk/").map_or("", |(_, id)| id);
            if id.is_empty() {
                return Err(format!(
                    "gives the machine a disk from “{resource}”, which is no disk of the archive"
                ));
            }
            Hardware::Disk(id.to_owned())
        }
        // Controllers, drives, screens, keyboards, pointers: every machine has its own.
        "5" | "6" | "13" | "14" | "15" | "16" | "18" | "19" | "20" | "21" | "23" | "24" => {
            return Ok(None);
        }
        other if item.attribute("required").is_none_or(is_true) => {
            return Err(format!(
                "needs {called}, a resource of type {other} that machines here don't have"
            ));
        }
        _ => Hardware::Else(called.to_owned()),
    }))
}
