//! What a machine is becomes the text of a descriptor (OVF 1.1).

use quick_xml::escape::escape;
use std::fmt::Write as _;
use zastrugi_core::ovf::{Descriptor, Hardware};

const NAMESPACES: &str = "xmlns=\"http://schemas.dmtf.org/ovf/envelope/1\" \
    xmlns:ovf=\"http://schemas.dmtf.org/ovf/envelope/1\" \
    xmlns:rasd=\"http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData\" \
    xmlns:vssd=\"http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData\"";

/// The text of a descriptor with one configuration and no licences, as our own machines have.
pub fn write(d: &Descriptor) -> String {
    let mut out = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Envelope {NAMESPACES}>\n  <References>\n"
    );
    for file in &d.files {
        let gzip = if file.gzip {
            " ovf:compression=\"gzip\""
        } else {
            ""
        };
        let _ = writeln!(
            out,
            "    <File ovf:id=\"{}\" ovf:href=\"{}\"{gzip}/>",
            escape(file.id.as_str()),
            escape(file.href.as_str())
        );
    }
    out.push_str("  </References>\n  <DiskSection>\n    <Info>Disks of the machine</Info>\n");
    for disk in &d.disks {
        let file = disk.file.as_ref().map_or_else(String::new, |f| {
            format!(" ovf:fileRef=\"{}\"", escape(f.as_str()))
        });
        let _ = writeln!(
            out,
            "    <Disk ovf:diskId=\"{}\"{file} ovf:capacity=\"{}\" ovf:capacityAllocationUnits=\"byte\" ovf:format=\"{}\"/>",
            escape(disk.id.as_str()),
            disk.capacity.0,
            escape(disk.format.as_str())
        );
    }
    out.push_str("  </DiskSection>\n  <NetworkSection>\n    <Info>Networks of its cards</Info>\n");
    for (name, words) in &d.networks {
        let _ = writeln!(
            out,
            "    <Network ovf:name=\"{}\"><Description>{}</Description></Network>",
            escape(name.as_str()),
            escape(words.as_str())
        );
    }
    let _ = write!(
        out,
        "  </NetworkSection>\n  <VirtualSystem ovf:id=\"{name}\">\n    <Info>A machine</Info>\n    <Name>{name}</Name>\n",
        name = escape(d.name.as_str())
    );
    if !d.note.is_empty() {
        let _ = writeln!(
            out,
            "    <AnnotationSection><Info>Note</Info><Annotation>{}</Annotation></AnnotationSection>",
            escape(d.note.as_str())
        );
    }
    out.push_str("    <VirtualHardwareSection>\n      <Info>Hardware</Info>\n");
    for (n, item) in d.items.iter().enumerate() {
        out.push_str(&item_text(n + 1, &item.hardware));
    }
    out.push_str("    </VirtualHardwareSection>\n  </VirtualSystem>\n</Envelope>\n");
    out
}

/// Children in the order of their names, as the schema wants them.
fn item_text(n: usize, hardware: &Hardware) -> String {
    let mut parts: Vec<(&str, String)> = vec![("InstanceID", n.to_string())];
    match hardware {
        Hardware::Vcpus(count) => parts.extend([
            ("ElementName", format!("{count} vCPUs")),
            ("ResourceType", "3".into()),
            ("VirtualQuantity", count.to_string()),
        ]),
        Hardware::Memory { size, kept } => {
            parts.extend([
                ("AllocationUnits", "byte".into()),
                ("ElementName", "memory".into()),
                ("ResourceType", "4".into()),
                ("VirtualQuantity", size.0.to_string()),
            ]);
            parts.extend(kept.map(|kept| ("Reservation", kept.0.to_string())));
        }
        Hardware::Disk(id) => parts.extend([
            ("ElementName", format!("disk {id}")),
            ("HostResource", format!("ovf:/disk/{id}")),
            ("ResourceType", "17".into()),
        ]),
        Hardware::Card { network, mac } => {
            parts.extend([
                ("AutomaticAllocation", "true".into()),
                ("Connection", network.clone()),
                ("ElementName", format!("card on {network}")),
                ("ResourceType", "10".into()),
            ]);
            parts.extend(mac.as_ref().map(|mac| ("Address", mac.clone())));
        }
        Hardware::Else(_) => return String::new(),
    }
    parts.sort_by_key(|(name, _)| *name);
    let mut out = String::from("      <Item>");
    for (name, text) in parts {
        let _ = write!(out, "<rasd:{name}>{}</rasd:{name}>", escape(text.as_str()));
    }
    out.push_str("</Item>\n");
    out
}
