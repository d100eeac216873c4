//! The campaign: volumes of random shapes that the kernel filled, changed by the built program, and judged by what we did not write: the
//! checker of each file system, the kernel that mounts them and goes on writing, GNU tar that unpacks what `peek --tar` wrote, and a comparison
//! of every byte, mode, owner, time and attribute. `tools/campaign` runs it for as long as one likes.
//!
//! What `patch` is meant to do is done by the kernel as well, on a copy of the same volume (`orders`): its rules for access lists of new files,
//! for setuid and for file capabilities are the truth.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![expect(clippy::print_stdout, reason = "what fell is told while the others go on")]

mod case;
mod cases;
mod hands;
mod judge;
mod kinds;
mod layers;
mod orders;
mod plain;
mod seen;

use std::time::{Duration, Instant};

use proptest::{
    strategy::{Strategy, ValueTree},
    test_runner::{Config, RngAlgorithm, TestRng, TestRunner},
};

use case::Case;

fn number(name: &str, otherwise: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(otherwise)
}

/// Whether there was something to judge; what fell, if it did: the panic's message.
fn outcome(case: &Case) -> Result<bool, String> {
    let caught = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| judge::judge(case)));
    caught.map_err(|panic| {
        let text = panic.downcast_ref::<String>().cloned();
        text.or_else(|| panic.downcast_ref::<&str>().map(|text| (*text).to_string())).unwrap_or_default()
    })
}

/// Whether the case of a seed was judged; the smallest one near it that fell.
fn fallen(seed: u64) -> Result<bool, (Case, String)> {
    let mut bytes = [0; 32];
    bytes[..8].copy_from_slice(&seed.to_le_bytes());
    let mut runner = TestRunner::new_with_rng(Config::default(), TestRng::from_seed(RngAlgorithm::ChaCha, &bytes));
    let mut tree = case::case().new_tree(&mut runner).expect("a case");
    let mut least = match outcome(&tree.current()) {
        Ok(is_judged) => return Ok(is_judged),
        Err(why) => (tree.current(), why),
    };
    let mut tries = number("REFORMIS_SHRINK", 40);
    let mut simpler = tree.simplify();
    while simpler && tries > 0 {
        tries -= 1;
        let case = tree.current();
        simpler = match outcome(&case) {
            Err(why) => {
                least = (case, why);
                tree.simplify()
            }
            Ok(_) => tree.complicate(),
        };
    }
    Err(least)
}

/// `REFORMIS_SECONDS` of cases from the seed `REFORMIS_SEED` on; each that fell is shown in the smallest form that was found.
#[test]
#[ignore = "needs root, loop devices and Debian's tools of all file systems"]
fn random_volumes_hold_what_the_kernel_makes_of_them() {
    // Modes are meant as they are given.
    rustix::process::umask(rustix::fs::Mode::empty());
    let until = Instant::now() + Duration::from_secs(number("REFORMIS_SECONDS", 30));
    let mut seed = number("REFORMIS_SEED", 1);
    let step = number("REFORMIS_STEP", 1);
    let (mut cases, mut fell) = (0, Vec::new());
    while Instant::now() < until && fell.len() < 20 {
        let begun = Instant::now();
        match fallen(seed) {
            Ok(is_judged) => cases += u64::from(is_judged),
            Err((case, why)) => {
                println!("=== seed {seed} fell: {why}\n{case:?}");
                fell.push(seed);
            }
        }
        if std::env::var_os("REFORMIS_TIMES").is_some() {
            println!("seed {seed}: {:.1} s", begun.elapsed().as_secs_f64());
        }
        seed += step;
    }
    println!("{cases} cases, {} not as they should be", fell.len());
    assert!(cases > 0 && fell.is_empty(), "seeds {fell:?}");
}
