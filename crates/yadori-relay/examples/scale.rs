//! What relays for many households cost: the model of docs/scale.md, and a simulation of the busiest hour that checks it.
//!
//!     cargo run --release -p yadori-relay --example scale -- [HOUSEHOLDS [SPLITS]]
//!
//! The model is arithmetic with averages. The simulation draws every copy by chance: households differ, copies come in bursts,
//! and mailboxes fall on splits by their numbers. Where both agree, averages are enough to plan with.

/// What was measured by `script/bench --relay`, on two processors that do everything else, too: see docs/scale.md. A removal is
/// taken to cost what leaving an envelope does, and a look half of what fetching one does.
struct Measured {
    /// Seconds in which a database takes in one envelope, while others wait for it.
    leave: f64,
    /// The same to give one to a device that has heard of it.
    fetch: f64,
    /// The same to remove those that all have.
    remove: f64,
    /// The same for a look at a mailbox in which nothing is new.
    look: f64,
    /// Memory of a node for a device that is on, in bytes.
    memory: f64,
}

const MEASURED: Measured =
    Measured { leave: 1.0 / 499.0, fetch: 1.0 / 3211.0, remove: 1.0 / 499.0, look: 0.000_15, memory: 35.2 * 1024.0 };

/// What is assumed of a household.
struct Household {
    /// Devices.
    devices: f64,
    /// Copies in a day.
    copies: f64,
    /// Share of the day's copies in its busiest hour.
    busiest: f64,
    /// Copies that come close together, on average.
    burst: f64,
    /// Share of devices that are on in the busiest hour.
    on: f64,
    /// For how long an envelope waits for a device that is off, in seconds.
    away: f64,
    /// Share of copies of which some device is not on.
    missed: f64,
    /// Bytes of an envelope.
    envelope: f64,
}

const HOUSEHOLD: Household = Household {
    devices: 2.2,
    copies: 60.0,
    busiest: 0.12,
    burst: 3.0,
    on: 0.45,
    away: 10.0 * 3600.0,
    missed: 0.7,
    envelope: 1200.0,
};

/// Seconds between two looks of a device that waits, and of an hour.
const WAIT: f64 = 110.0;
const HOUR: f64 = 3600.0;

/// Connections that a node takes (`yadori_relay::node`).
const CONNECTIONS: f64 = 20_000.0;

/// Splits that are simulated at most.
const DRAWN: usize = 4;

/// How much of its time a database may be busy.
const BUSY: f64 = 0.5;

/// What one split has to bear in the busiest hour.
#[derive(Debug, Default)]
struct Load {
    /// Requests in a second.
    requests: f64,
    /// The share of its time for which the database is busy.
    busy: f64,
    /// Bytes that wait.
    waiting: f64,
}

fn model(households: f64, splits: f64) -> Load {
    let Household { devices, copies, busiest, on, away, missed, envelope, .. } = HOUSEHOLD;
    let left = households / splits * copies * busiest / HOUR;
    // Every device but the one that left it fetches it: at once, or when it comes back, which is spread in the same way.
    let fetched = left * (devices - 1.0);
    let looks = households / splits * devices * on / WAIT;
    let Measured { leave, fetch, remove, look, .. } = MEASURED;
    Load {
        requests: left + fetched + left + looks,
        busy: left * leave + fetched * fetch + left * remove + looks * look,
        // A day's copies, of which so many wait for so long.
        waiting: households / splits * copies * missed * (away / 86_400.0) * envelope,
    }
}

/// Chance that is the same every time (SplitMix64).
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// From nothing to one, without one.
    fn share(&mut self) -> f64 {
        (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Time until something that comes so often in a second.
    fn until(&mut self, often: f64) -> f64 {
        -(1.0 - self.share()).ln() / often
    }

    /// Of the normal distribution (Box and Muller).
    fn normal(&mut self) -> f64 {
        let (a, b) = (1.0 - self.share(), self.share());
        (-2.0 * a.ln()).sqrt() * (std::f64::consts::TAU * b).cos()
    }

    /// One on average, mostly less: households differ (log-normal, of which the logarithm deviates by one).
    fn weight(&mut self) -> f64 {
        (self.normal() - 0.5).exp()
    }
}

/// One split in the busiest hour.
#[derive(Default)]
struct Split {
    free_at: f64,
    busy: f64,
    requests: u64,
    waits: Vec<f32>,
}

impl Split {
    fn serve(&mut self, at: f64, cost: f64) {
        let begins = self.free_at.max(at);
        self.free_at = begins + cost;
        self.busy += cost;
        self.requests += 1;
        self.waits.push((self.free_at - at) as f32);
    }

    fn wait(&mut self, share: f64) -> f64 {
        self.waits.sort_unstable_by(f32::total_cmp);
        f64::from(self.waits[((self.waits.len() - 1) as f64 * share) as usize]) * 1000.0
    }
}

/// The busiest hour of a split on which so many households fall on average: which do is said by the numbers of their
/// mailboxes, which are chance. Each has its own pace, and copies in bursts.
fn simulate(households: f64, chance: &mut Chance) -> Split {
    let Household { devices, copies, busiest, burst, on, .. } = HOUSEHOLD;
    let Measured { leave, fetch, remove, look, .. } = MEASURED;
    // When the database is asked, and what it costs.
    let mut asked: Vec<(f64, f64)> = Vec::new();
    let households = (households + households.sqrt() * chance.normal()) as u64;
    for _ in 0..households {
        let bursts = chance.weight() * copies * busiest / burst / HOUR;
        let mut begins = chance.until(bursts);
        while begins < HOUR {
            let mut at = begins;
            while at < HOUR {
                asked.push((at, leave));
                for _ in 0..whole(devices - 1.0, chance) {
                    // Who is on hears of it at once; the others come back at some time.
                    let later = if chance.share() < on { 0.05 } else { chance.share() * HOUR };
                    asked.push(((at + later) % HOUR, fetch));
                }
                asked.push(((at + 0.2 + chance.share() * 60.0) % HOUR, remove));
                if chance.share() < 1.0 / burst {
                    break;
                }
                at += chance.until(0.5);
            }
            begins += chance.until(bursts);
        }
        for _ in 0..whole(devices * on, chance) {
            let first = chance.share() * WAIT;
            asked.extend((0..).map(|turn| (first + f64::from(turn) * WAIT, look)).take_while(|(at, _)| *at < HOUR));
        }
    }
    asked.sort_unstable_by(|one, other| one.0.total_cmp(&other.0));
    let mut split = Split::default();
    for (at, cost) in asked {
        split.serve(at, cost);
    }
    split
}

/// A whole number that is so much on average.
fn whole(average: f64, chance: &mut Chance) -> u32 {
    average as u32 + u32::from(chance.share() < average.fract())
}

fn main() {
    let mut arguments = std::env::args().skip(1).map(|argument| argument.parse::<usize>());
    let mut next = |otherwise| arguments.next().and_then(Result::ok).unwrap_or(otherwise);
    let households = next(1_000_000);
    let whole = model(households as f64, 1.0);
    let splits = next((whole.busy / BUSY).ceil() as usize);
    let load = model(households as f64, splits as f64);
    let gib = |bytes: f64| bytes / f64::from(1 << 30);
    println!("{households} households, in {splits} splits, in the busiest hour:");
    println!("                               model   simulated: least, mean, most of the splits");
    // Some of them, so that it ends soon.
    let mut chance = Chance(7);
    let mut simulated: Vec<Split> =
        (0..splits.min(DRAWN)).map(|_| simulate(households as f64 / splits as f64, &mut chance)).collect();
    let mut show = |what: &str, expected: f64, figure: &mut dyn FnMut(&mut Split) -> f64| {
        let mut figures: Vec<f64> = simulated.iter_mut().map(figure).collect();
        figures.sort_by(f64::total_cmp);
        let mean = figures.iter().sum::<f64>() / figures.len() as f64;
        println!("{what:30}{expected:8.3}   {:8.3} {mean:8.3} {:8.3}", figures[0], figures[figures.len() - 1]);
        mean / expected
    };
    let agrees = [
        show("requests in a second", load.requests, &mut |split| split.requests as f64 / HOUR),
        show("database busy (share)", load.busy, &mut |split| split.busy / HOUR),
    ];
    // One that serves each in its turn, and is asked by chance: Pollaczek and Khinchine, with the mix of costs as it is.
    let mean_wait = wait(&load, households as f64 / splits as f64) * 1000.0;
    show("mean answer of the database, ms", mean_wait, &mut |split| {
        split.waits.iter().map(|wait| f64::from(*wait)).sum::<f64>() / split.waits.len() as f64 * 1000.0
    });
    let mut slow: Vec<f64> = simulated.iter_mut().map(|split| split.wait(0.99)).collect();
    slow.sort_by(f64::total_cmp);
    println!("{:30}{:8}   {:8.3} {:8} {:8.3}", "99 of 100 within, ms", "", slow[0], "", slow[slow.len() - 1]);
    println!();
    let on = households as f64 * HOUSEHOLD.devices * HOUSEHOLD.on;
    println!("devices that are on:           {on:10.0}");
    println!("nodes for them:                {:10.0}", (on / CONNECTIONS).ceil());
    println!("memory of all nodes for them:  {:10.1} GiB", gib(on * MEASURED.memory));
    println!(
        "envelopes that wait:           {:10.1} GiB in all, {:.1} GiB in each split",
        gib(whole.waiting),
        gib(load.waiting)
    );
    for ratio in agrees {
        assert!((0.9..1.1).contains(&ratio), "the model is off: {ratio:.2}");
    }
}

/// How long an answer of the database takes on average, in seconds, in a queue in which each is served in its turn.
fn wait(load: &Load, households: f64) -> f64 {
    let Household { devices, copies, busiest, on, .. } = HOUSEHOLD;
    let Measured { leave, fetch, remove, look, .. } = MEASURED;
    let left = households * copies * busiest / HOUR;
    let looks = households * devices * on / WAIT;
    let squares =
        left * leave * leave + left * (devices - 1.0) * fetch * fetch + left * remove * remove + looks * look * look;
    squares / (2.0 * (1.0 - load.busy)) + load.busy / load.requests
}
