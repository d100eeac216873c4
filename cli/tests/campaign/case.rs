//! A case: which volume, what other hands did with it, and what is asked of the program.

use proptest::prelude::*;

use crate::kinds::{self, Kind};

/// Names that paths are made of; `Place` counts them.
pub(crate) const NAMES: [&[u8]; 14] = [
    b"a",
    b"b",
    b"c",
    b"d",
    b"tide.conf",
    "Grüße".as_bytes(),
    b"not\xffutf8",
    b"two  words",
    b"k=v",
    b"-rf",
    b"new\nline",
    b"a name of some sixty bytes that does not fit into a short entry",
    b"0123456789012345678901234567890123456789012345678901234567890123456789012345678901234567890123456789012345678901234567890123456789012345678901234567890123456789012345678901234567890123456789012345678901234567890123456789012345678901234567890123456789",
    b"E",
];

/// A path by its names' numbers.
pub(crate) type Place = Vec<u8>;

/// What the kernel does before.
#[derive(Debug, Clone)]
pub(crate) enum Hand {
    File(Place, u32),
    /// Some bytes behind a hole of so many KiB, with another hole behind them.
    Sparse(Place, u32),
    /// Blocks that are reserved, and some bytes.
    Reserved(Place, u32),
    Folder(Place),
    /// To a name beside it, or nowhere, with so many bytes.
    Link(Place, u16),
    Hard(Place, Place),
    /// FIFO, socket, character device, block device.
    Special(Place, u8),
    /// Which name, and how many bytes of a value.
    Attribute(Place, u8, u32),
    /// Of so many named users; the second says whether it is a folder's default.
    List(Place, bool, u8),
    Owner(Place, u32, u32, u16),
    Time(Place, i64, u32),
    Shared(Place, Place),
    Snapshot(Place),
    Fill(Place, u16, u8),
    Deep(u8),
    Remove(Place),
    /// Written over in the middle, which breaks what is shared.
    Over(Place, u32, u32),
    /// All room is taken but so many KiB.
    Full(u32),
}

/// What is below a folder that is put in.
#[derive(Debug, Clone)]
pub(crate) enum Inner {
    File(u32, u16),
    Folder(u16),
    Link(u16),
}

/// What is asked of the program.
#[derive(Debug, Clone)]
pub(crate) enum Order {
    Remove(Place),
    Folder(Place),
    /// Bytes and mode.
    Put(Place, u32, u16),
    PutFolder(Place, Vec<(Place, Inner)>),
    Link(Place, u16),
}

/// What lies between the disk and the volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Layer {
    Whole,
    Gpt,
    Mbr,
    Linear,
    Striped,
    Mirror,
    Locked,
}

#[derive(Debug, Clone)]
pub(crate) struct Case {
    pub(crate) kind: Kind,
    pub(crate) layer: Layer,
    pub(crate) hands: Vec<Hand>,
    /// Whether the kernel is stopped in the middle.
    pub(crate) torn: bool,
    /// One command each.
    pub(crate) rounds: Vec<Vec<Order>>,
}

fn place() -> impl Strategy<Value = Place> {
    let name = prop_oneof![8 => 0..4_u8, 2 => 4..14_u8];
    prop::collection::vec(name, 1..4)
}

fn len() -> impl Strategy<Value = u32> {
    prop_oneof![3 => 0..200_u32, 3 => 0..9000_u32, 2 => 0..300_000_u32, 1 => 0..3_000_000_u32]
}

/// Lengths of targets and attributes: around what an inode and a block hold.
fn short() -> impl Strategy<Value = u16> {
    prop_oneof![3 => 1..40_u16, 2 => 55..64_u16, 2 => 40..300_u16, 2 => 900..1023_u16, 1 => 300..1023_u16]
}

fn mode() -> impl Strategy<Value = u16> {
    prop_oneof![Just(0o644), Just(0o755), Just(0o4755), Just(0o2755), Just(0o600), Just(0o1777), 0..0o7777_u16]
}

fn hand() -> impl Strategy<Value = Hand> {
    prop_oneof![
        6 => (place(), len()).prop_map(|(p, n)| Hand::File(p, n)),
        2 => (place(), 1..100_000_u32).prop_map(|(p, n)| Hand::Sparse(p, n)),
        1 => (place(), 1..2000_u32).prop_map(|(p, n)| Hand::Reserved(p, n)),
        6 => place().prop_map(Hand::Folder),
        4 => (place(), short()).prop_map(|(p, n)| Hand::Link(p, n)),
        3 => (place(), place()).prop_map(|(p, q)| Hand::Hard(p, q)),
        2 => (place(), 0..4_u8).prop_map(|(p, n)| Hand::Special(p, n)),
        6 => (place(), 0..6_u8, prop_oneof![4 => 0..100_u32, 2 => 100..3000_u32, 1 => 0..12_000_u32]).prop_map(|(p, w, n)| Hand::Attribute(p, w, n)),
        3 => (place(), any::<bool>(), 0..9_u8).prop_map(|(p, d, n)| Hand::List(p, d, n)),
        3 => (place(), prop_oneof![0..3000_u32, Just(70_000), Just(4_000_000_000)], 0..70_000_u32, mode()).prop_map(|(p, u, g, m)| Hand::Owner(p, u, g, m)),
        2 => (place(), prop_oneof![Just(0_i64), 1..2_000_000_000_i64, -2_000_000_000..0_i64, 2_200_000_000..8_000_000_000_i64], 0..1_000_000_000_u32).prop_map(|(p, s, n)| Hand::Time(p, s, n)),
        2 => (place(), place()).prop_map(|(p, q)| Hand::Shared(p, q)),
        1 => place().prop_map(Hand::Snapshot),
        1 => (place(), 1..400_u16, 1..120_u8).prop_map(|(p, n, l)| Hand::Fill(p, n, l)),
        1 => (1..60_u8).prop_map(Hand::Deep),
        3 => place().prop_map(Hand::Remove),
        2 => (place(), 0..100_000_u32, 1..40_000_u32).prop_map(|(p, at, n)| Hand::Over(p, at, n)),
    ]
}

fn inner() -> impl Strategy<Value = Inner> {
    prop_oneof![
        3 => (len(), mode()).prop_map(|(n, m)| Inner::File(n, m)),
        2 => prop_oneof![Just(0o700), Just(0o755), Just(0o1777), Just(0o750)].prop_map(Inner::Folder),
        2 => short().prop_map(Inner::Link),
    ]
}

fn order() -> impl Strategy<Value = Order> {
    prop_oneof![
        4 => place().prop_map(Order::Remove),
        2 => place().prop_map(Order::Folder),
        6 => (place(), len(), mode()).prop_map(|(p, n, m)| Order::Put(p, n, m)),
        1 => (place(), prop::collection::vec((place(), inner()), 1..9)).prop_map(|(p, all)| Order::PutFolder(p, all)),
        4 => (place(), short()).prop_map(|(p, n)| Order::Link(p, n)),
    ]
}

fn layer() -> impl Strategy<Value = Layer> {
    prop_oneof![
        8 => Just(Layer::Whole),
        2 => Just(Layer::Gpt),
        1 => Just(Layer::Mbr),
        1 => Just(Layer::Linear),
        1 => Just(Layer::Striped),
        1 => Just(Layer::Mirror),
        1 => Just(Layer::Locked),
    ]
}

pub(crate) fn case() -> impl Strategy<Value = Case> {
    let full = prop_oneof![4 => Just(None), 1 => (0..4000_u32).prop_map(Some)];
    let hands = (prop::collection::vec(hand(), 0..60), full).prop_map(|(mut hands, full)| {
        hands.extend(full.map(Hand::Full));
        hands
    });
    let rounds = prop::collection::vec(prop::collection::vec(order(), 1..12), 1..4);
    (kinds::kind(), layer(), hands, prop::bool::weighted(0.2), rounds)
        .prop_map(|(kind, layer, hands, torn, rounds)| Case { kind, layer, hands, torn, rounds })
}

/// The bytes of a path, from the first folder on, without a slash before.
pub(crate) fn path(place: &[u8]) -> Vec<u8> {
    place.iter().map(|&name| NAMES[usize::from(name) % NAMES.len()]).collect::<Vec<_>>().join(&b'/')
}

/// Bytes that belong to a number: the same always, and none like their neighbours.
pub(crate) fn bytes(seed: u32, len: usize) -> Vec<u8> {
    let mut state = u64::from(seed) ^ 0x9e37_79b9_7f4a_7c15;
    let mut word = || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 32) as u32
    };
    let mut bytes: Vec<u8> = (0..len.div_ceil(4)).flat_map(|_| word().to_le_bytes()).collect();
    bytes.truncate(len);
    bytes
}

/// Where a link of so many bytes leads: to a name beside it, or nowhere.
pub(crate) fn target(len: u16) -> Vec<u8> {
    match len {
        1..=4 => NAMES[usize::from(len) - 1].to_vec(),
        _ => b"nowhere/".iter().cycle().take(usize::from(len)).copied().collect(),
    }
}
