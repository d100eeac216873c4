//! What a store says no with.

/// Why a request is not done.
#[derive(Debug)]
pub(super) struct Refusal {
    pub(super) status: u16,
    pub(super) code: &'static str,
    /// The region in which it would be.
    pub(super) region: Option<String>,
}

impl Refusal {
    pub(super) fn new(status: u16, code: &'static str) -> Self {
        Self { status, code, region: None }
    }
}
