//! What a chunk of 4 MiB costs on one core: named, packed and sealed; opened again. MiB/s, of data that packs well, a little, and
//! not at all.
#![expect(clippy::unwrap_used, reason = "a benchmark fails loudly")]

use std::{hint::black_box, time::Instant};
use zastrugi_formats::backup::{GRAIN, Key, Kind};

const TIMES: u32 = 48;

/// 64 bytes over and over; words by chance; noise.
fn contents() -> [(&'static str, Vec<u8>); 3] {
    let whole = usize::try_from(GRAIN).unwrap();
    let mut x = 7u64;
    let mut next = move || {
        x ^= x << 13;
        x ^= x >> 7;
        x ^= x << 17;
        x
    };
    let noise: Vec<u8> = (0..whole / 8).flat_map(|_| next().to_le_bytes()).collect();
    let words = [
        "harbour",
        "lantern",
        "sailing",
        "breakwater",
        "tide",
        "ferry",
        "quay",
        "\n",
    ];
    let text: String = (0..whole)
        .map(|n| words[usize::from(noise[n]) % words.len()])
        .collect();
    let pattern = noise[..64].repeat(whole / 64);
    [
        ("a pattern", pattern),
        ("text", text.into_bytes()[..whole].to_vec()),
        ("noise", noise),
    ]
}

fn rate(work: impl Fn(u32)) -> f64 {
    let began = Instant::now();
    (0..TIMES).for_each(work);
    f64::from(TIMES) * (GRAIN >> 20) as f64 / began.elapsed().as_secs_f64()
}

fn main() {
    let sealer = Key::new([5; 32]).sealer("all");
    for (what, plain) in contents() {
        let seal = |n: u32| {
            let mut salt = [0; 32];
            salt[..4].copy_from_slice(&n.to_le_bytes());
            black_box(sealer.name(&plain));
            sealer.seal(Kind::Chunk, "chunks/a", &salt, &plain).unwrap()
        };
        let sealed = seal(0);
        let there = rate(|n| drop(black_box(seal(n))));
        let back = rate(|_| {
            let opened = sealer.open(Kind::Chunk, "chunks/a", &sealed).unwrap();
            black_box(sealer.name(&opened));
        });
        let packed = sealed.len() as f64 / plain.len() as f64 * 100.0;
        println!(
            "{what}: sealed {there:.0} MiB/s, opened {back:.0} MiB/s, {packed:.1} % of its size"
        );
    }
}
