//! What is said of a machine's snapshots and layers.

use super::{blocks::GRAIN, chain::Chain};
use crate::rooms::storage::volume::Record;
use serde_json::{Value, json};

/// Each with the one beneath it; where the machine stands now.
pub(crate) fn snapshots(record: &Record) -> (Vec<Value>, Option<String>) {
    let Some(chain) = record.chain.as_ref() else {
        return (vec![], None);
    };
    let all = chain.snapshots.iter().map(|(id, s)| {
        json!({"id": id, "name": s.name, "note": s.note, "taken_ms": s.taken, "parent": chain.beneath(s.layer),
            "quiet": s.quiet, "off": s.off, "memory": s.memory.map(|m| m.bytes),
            "disks": chain.disks_of(s.layer)})
    });
    (
        all.collect(),
        chain.beneath(chain.current).map(str::to_owned),
    )
}

/// The longest text of a piece.
const PIECE: usize = 1_500;

/// A text in pieces: whoever listens to devices cuts long ones.
pub(crate) fn pieces(text: &str) -> Vec<&str> {
    let mut left = text;
    let mut all = Vec::new();
    while let Some((piece, rest)) = left.split_at_checked(PIECE) {
        all.push(piece);
        left = rest;
    }
    all.push(left);
    all
}

/// Every layer with the blocks of each disk.
pub(crate) fn layers(chain: &Chain) -> std::io::Result<Value> {
    let mut all = Vec::new();
    for (number, layer) in &chain.layers {
        let disks = layer
            .disks
            .iter()
            .map(|d| super::blocks::Blocks(d.all()).text());
        let disks = disks.collect::<std::io::Result<Vec<String>>>()?;
        let disks: Vec<Vec<&str>> = disks.iter().map(|text| pieces(text)).collect();
        all.push(json!({"layer": number, "parent": layer.parent, "snapshot": chain.named(*number), "disks": disks}));
    }
    Ok(json!({"grain": GRAIN, "current": chain.current, "layers": all}))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rooms::storage::volume::Disk;

    /// If this fails, the layers of a large disk can't be read by anybody.
    #[test]
    fn a_large_bitmap_is_told_in_pieces_that_make_the_whole() {
        let disk = Disk {
            key: uuid::Uuid::nil(),
            size: 64 << 30,
            thick: false,
            written: 64 << 30,
            lock: 0,
        };
        let mut chain = Chain::of(&[disk], 7, 0);
        let frozen = crate::rooms::snapshots::chain::Snapshot {
            layer: 0,
            name: "a".into(),
            note: String::new(),
            taken: 0,
            quiet: false,
            off: true,
            memory: None,
            still: 0,
        };
        chain.take("a", frozen);
        let odd = (0..200_000).map(|n| n * 5);
        chain.put(0, &odd.collect());
        let said = layers(&chain).unwrap();
        let pieces = said["layers"][1]["disks"][0].as_array().unwrap();
        let text: String = pieces.iter().map(|p| p.as_str().unwrap()).collect();
        assert!(pieces.len() > 10 && pieces.iter().all(|p| p.as_str().unwrap().len() <= PIECE));
        let whole = chain.layers[&1].disks[0].all();
        assert_eq!(text, super::super::blocks::Blocks(whole).text().unwrap());
    }
}
