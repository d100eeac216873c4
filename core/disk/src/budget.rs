//! One budget of memory for all that a stranger's bytes can make us collect or unpack.

use std::sync::{
    Arc,
    atomic::{AtomicU64, Ordering},
};

/// Bytes that may be held at the same time, by everybody who was given it.
#[derive(Debug)]
pub struct Budget {
    most: u64,
    used: AtomicU64,
}

/// More would be held than the budget allows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("it would take more than {} of memory", crate::ByteSize(*.most))]
pub struct OverBudget {
    /// Bytes of the whole budget.
    pub most: u64,
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

    /// A budget of `most` bytes.
    pub fn new(most: u64) -> Arc<Self> {
        Arc::new(Self { most, used: AtomicU64::new(0) })
    }

    /// Begins to hold something, which is nothing yet.
    pub fn hold(self: &Arc<Self>) -> Hold {
        Hold { budget: self.clone(), bytes: 0 }
    }

    /// Bytes that are held now.
    pub fn used(&self) -> u64 {
        self.used.load(Ordering::Relaxed)
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

impl Drop for Hold {
    fn drop(&mut self) {
        self.budget.used.fetch_sub(self.bytes, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
        drop(two);
        assert_eq!(budget.used(), 0);
    }
}
