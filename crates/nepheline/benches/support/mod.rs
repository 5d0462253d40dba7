//! Measuring ours against its hand-written twin.
//!
//! The speed of a machine wanders within minutes, so the two take turns within each round, and what
//! counts is the median of the rounds' ratios. Criterion then measures each alone, for the record.

use std::hint::black_box;
use std::time::{Duration, Instant};

use criterion::Criterion;

const ROUNDS: usize = 25;

/// Measures a pair, prints the ratio beside its budget, and hands both to Criterion.
pub(crate) fn against_by_hand<A, B>(
    criterion: &mut Criterion,
    (name, budget): (&str, f64),
    calls_per_round: u32,
    mut ours: impl FnMut() -> A,
    mut by_hand: impl FnMut() -> B,
) {
    let mut ratios: Vec<f64> = (0..ROUNDS)
        .map(|round| {
            // Whoever goes second may find warmer caches, so they change places.
            let (mine, other) = if round % 2 == 0 {
                let mine = time(calls_per_round, &mut ours);
                (mine, time(calls_per_round, &mut by_hand))
            } else {
                let other = time(calls_per_round, &mut by_hand);
                (time(calls_per_round, &mut ours), other)
            };
            mine.as_secs_f64() / other.as_secs_f64()
        })
        .collect();
    ratios.sort_by(f64::total_cmp);
    let (low, median, high) = (ratios[2], ratios[ROUNDS / 2], ratios[ROUNDS - 3]);
    println!(
        "RATIO {name}: {median:.3} (budget {budget}; {low:.3} to {high:.3} over {ROUNDS} rounds)"
    );

    let mut group = criterion.benchmark_group(name);
    group
        .sample_size(10)
        .measurement_time(Duration::from_secs(1))
        .warm_up_time(Duration::from_millis(300));
    group.bench_function("nepheline", |bencher| bencher.iter(&mut ours));
    group.bench_function("by hand", |bencher| bencher.iter(&mut by_hand));
    group.finish();
}

fn time<T>(calls: u32, work: &mut impl FnMut() -> T) -> Duration {
    let started = Instant::now();
    for _ in 0..calls {
        black_box(work());
    }
    started.elapsed()
}

/// Keys scattered over a table, the same ones for both twins.
#[allow(dead_code, reason = "not every bench asks by key")]
pub(crate) struct Scattered {
    state: u64,
    below: i64,
}

#[allow(dead_code, reason = "not every bench asks by key")]
impl Scattered {
    pub(crate) fn below(below: i64) -> Scattered {
        Scattered { state: 1, below }
    }

    pub(crate) fn next(&mut self) -> i64 {
        self.state = self
            .state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695);
        (self.state >> 33) as i64 % self.below
    }
}
