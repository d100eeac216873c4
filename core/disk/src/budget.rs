//! One budget of memory, and one of work beside it, for all that a stranger's bytes can make us collect, unpack or loop over.

use std::{
    ops::Deref,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

/// Bytes that may be held at the same time, and steps that may be taken in all, by everybody who was given it.
#[derive(Debug)]
pub struct Budget {
    most: u64,
    used: AtomicU64,
    /// Steps that were taken.
    spent: AtomicU64,
    /// The most of them.
    steps: u64,
}

/// How often the usual work may be done in this process: what a person said who knows that a file asks for much.
static TIMES: AtomicU64 = AtomicU64::new(1);

/// More would be done than the budget allows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("it would take more than {most} steps, and no sound one takes that many")]
pub struct OverWork {
    /// Steps of the whole budget.
    pub most: u64,
}

/// More would be held than the budget allows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("it would take more than {} of memory", crate::ByteSize(*.most))]
pub struct OverBudget {
    /// Bytes of the whole budget.
    pub most: u64,
}

/// Something that memory is held for as long as it lives.
#[derive(Debug)]
pub struct Held<T> {
    value: T,
    hold: Hold,
}

impl<T> Held<T> {
    /// The two apart.
    pub fn split(self) -> (T, Hold) {
        (self.value, self.hold)
    }
}

impl<T> Deref for Held<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.value
    }
}

/// A part of a budget, given back when it is dropped.
#[derive(Debug)]
pub struct Hold {
    budget: Arc<Budget>,
    bytes: u64,
}

impl Budget {
    /// What a run may hold in all, in bytes.
    pub const MOST: u64 = 128 << 20;

    /// What may be done for one target in all, in steps: a name that is looked up in a guest, an entry of a folder, a kibibyte that is read
    /// into memory. A Debian server of 26,575 files takes 661 to be surveyed and 12,499 to be made ready; a processor makes all of these in
    /// a minute or two.
    pub const STEPS: u64 = 20_000_000;

    /// A budget of `most` bytes.
    pub fn new(most: u64) -> Arc<Self> {
        Arc::new(Self { most, ..Self::default() })
    }

    /// Lets every budget that is made from now on have `times` as many steps.
    pub fn allow_work(times: u64) {
        TIMES.store(times.max(1), Ordering::Relaxed);
    }

    /// Takes `steps` steps.
    ///
    /// # Errors
    /// [`OverWork`].
    pub fn spend(&self, steps: u64) -> Result<(), OverWork> {
        let spent = self.spent.fetch_add(steps, Ordering::Relaxed).saturating_add(steps);
        if spent > self.steps { Err(OverWork { most: self.steps }) } else { Ok(()) }
    }

    /// Steps that were taken.
    pub fn spent(&self) -> u64 {
        self.spent.load(Ordering::Relaxed)
    }

    /// Begins to count steps anew: another target is looked at.
    pub fn rest(&self) {
        self.spent.store(0, Ordering::Relaxed);
    }

    /// A budget of [`Budget::MOST`] bytes: what a run may hold.
    pub fn whole() -> Arc<Self> {
        Self::new(Self::MOST)
    }

    /// Holds `bytes`.
    ///
    /// # Errors
    /// [`OverBudget`].
    pub fn take(self: &Arc<Self>, bytes: u64) -> Result<Hold, OverBudget> {
        let mut hold = self.hold();
        hold.grow(bytes)?;
        Ok(hold)
    }

    /// Begins to hold something, which is nothing yet.
    pub fn hold(self: &Arc<Self>) -> Hold {
        Hold { budget: self.clone(), bytes: 0 }
    }

    /// Bytes that are held now.
    pub fn used(&self) -> u64 {
        self.used.load(Ordering::Relaxed)
    }

    /// Whether more than half of it is used: what can be read again is better not kept then.
    pub(crate) fn is_tight(&self) -> bool {
        self.used() > self.most / 2
    }
}

impl Default for Budget {
    fn default() -> Self {
        let steps = Self::STEPS.saturating_mul(TIMES.load(Ordering::Relaxed));
        Self { most: Self::MOST, used: AtomicU64::new(0), spent: AtomicU64::new(0), steps }
    }
}

impl Hold {
    /// Holds `bytes` more.
    ///
    /// # Errors
    /// [`OverBudget`]; what was held is held on.
    pub fn grow(&mut self, bytes: u64) -> Result<(), OverBudget> {
        let most = self.budget.most;
        let add = |used: u64| used.checked_add(bytes).filter(|sum| *sum <= most);
        match self.budget.used.fetch_update(Ordering::Relaxed, Ordering::Relaxed, add) {
            Ok(_) => {
                self.bytes += bytes;
                Ok(())
            }
            Err(_) => Err(OverBudget { most }),
        }
    }
}

impl Hold {
    /// Ties this to `value`, which is what it is held for.
    pub fn of<T>(self, value: T) -> Held<T> {
        Held { value, hold: self }
    }

    /// What it is a part of.
    pub fn budget(&self) -> &Arc<Budget> {
        &self.budget
    }

    /// Holds `bytes` from now on, more or less than before.
    ///
    /// # Errors
    /// [`OverBudget`]; what was held is held on.
    pub fn resize(&mut self, bytes: u64) -> Result<(), OverBudget> {
        self.grow(bytes.saturating_sub(self.bytes))?;
        self.shrink_to(bytes);
        Ok(())
    }

    /// Gives back all but `bytes` of it.
    pub fn shrink_to(&mut self, bytes: u64) {
        let more = self.bytes.saturating_sub(bytes);
        self.budget.used.fetch_sub(more, Ordering::Relaxed);
        self.bytes -= more;
    }
}

impl Drop for Hold {
    fn drop(&mut self) {
        self.budget.used.fetch_sub(self.bytes, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_are_counted_by_all_who_take_them() {
        let budget = Budget::whole();
        std::thread::scope(|scope| {
            for _ in 0..4 {
                scope.spawn(|| (0..1000).for_each(|_| budget.spend(2).unwrap()));
            }
        });
        assert_eq!(budget.spent(), 8000);
        assert_eq!(budget.spend(Budget::STEPS), Err(OverWork { most: Budget::STEPS }));
        assert!(budget.spend(1).is_err(), "what was too much stays so");
        budget.rest();
        budget.spend(Budget::STEPS).unwrap();
        assert!(budget.spend(u64::MAX).is_err());
    }

    #[test]
    fn what_is_held_is_counted_once_and_given_back() {
        let budget = Budget::new(100);
        let (mut one, mut two) = (budget.hold(), budget.hold());
        one.grow(60).unwrap();
        assert_eq!(two.grow(41), Err(OverBudget { most: 100 }));
        two.grow(40).unwrap();
        assert!(one.grow(1).is_err() && one.grow(u64::MAX).is_err());
        drop(one);
        two.grow(60).unwrap();
        assert_eq!(budget.used(), 100);
        two.shrink_to(7);
        two.shrink_to(200);
        two.resize(40).unwrap();
        assert!(two.resize(101).is_err());
        two.resize(7).unwrap();
        assert_eq!(budget.used(), 7);
        let held = two.of(vec![1, 2]);
        assert_eq!(held.len(), 2);
        drop(held);
        assert_eq!(budget.used(), 0);
    }
}
