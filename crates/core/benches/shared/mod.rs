//! Times of what is done again and again.

use std::time::Instant;

fn report(what: &str, mut times: Vec<f64>) {
    times.sort_by(f64::total_cmp);
    println!(
        "{what:<64} median {:>8.3} ms   p95 {:>8.3} ms",
        times[times.len() / 2],
        times[times.len() * 95 / 100]
    );
}

pub(crate) fn measure(what: &str, rounds: usize, mut work: impl FnMut()) {
    let times = (0..rounds).map(|_| {
        let began = Instant::now();
        work();
        began.elapsed().as_secs_f64() * 1000.0
    });
    report(what, times.collect());
}
