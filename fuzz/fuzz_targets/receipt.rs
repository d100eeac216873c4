//! The reader of receipts; what it takes can be written and is read again.
#![no_main]

use libfuzzer_sys::fuzz_target;
use reformis_move::receipt::Receipt;

fuzz_target!(|bytes: &[u8]| {
    reformis_move::lend::check_record(bytes).ok();
    let Ok(receipt) = Receipt::parse(bytes) else { return };
    let text = serde_json::to_vec(&receipt).expect("a receipt can be written");
    Receipt::parse(&text).expect("what is written is sound");
});
