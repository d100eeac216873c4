//! Image formats: a folder for each, and the table that knows them all.

pub(crate) mod above;
mod cache;
mod head;
pub mod new;
pub(crate) mod opener;
pub mod qcow2;
pub mod raw;
mod registry;
mod units;
pub mod vdi;
pub mod vhd;
pub mod vhdx;
pub mod vmdk;

pub use head::HEAD;
pub use new::{NewImage, Squeeze};
pub use opener::Opener;
pub use registry::{
    check_size, create, create_in, detect, detect_stream, is_footer, is_one_way, is_open_ended, is_open_ended_pipe,
    open, opener, shape_for, stored_size,
};
