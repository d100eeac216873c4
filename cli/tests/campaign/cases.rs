//! Cases that fell once, in the smallest form that was found; each is judged as any other.

use crate::{
    case::{Case, Hand, Inner, Layer, Order},
    judge::judge,
    kinds::{Family, Kind},
};

fn case(kind: Kind, hands: Vec<Hand>, rounds: Vec<Vec<Order>>) -> Case {
    Case { kind, layer: Layer::Whole, hands, torn: false, rounds }
}

fn ext(options: &str) -> Kind {
    Kind::new(Family::Ext, options, 16)
}

/// Judges it, on the program as it is.
fn holds(case: &Case) {
    rustix::process::umask(rustix::fs::Mode::empty());
    assert!(judge(case), "there is no such volume: {case:?}");
}

/// A link's text was taken for numbers of blocks once its attributes were gone, and the blocks of others were given back.
#[test]
#[ignore = "needs root, loop devices and Debian's tools of all file systems"]
fn a_short_link_with_attributes_is_removed_alone() {
    for options in ["-t ext4 -I 128", "-t ext2 -b 1024 -I 128", "-t ext4 -b 1024 -I 256", "-t ext4 -O ea_inode"] {
        let link = |name: u8, len: u16, bytes: u32| {
            [Hand::Link(vec![name], len), Hand::Attribute(vec![name], 5, bytes), Hand::Attribute(vec![name], 1, 7)]
        };
        let mut hands: Vec<Hand> = (0..40).map(|number| Hand::File(vec![3, number % 14], 70_000)).collect();
        hands.insert(0, Hand::Folder(vec![3]));
        hands.insert(1, Hand::Folder(vec![2]));
        hands.extend([link(0, 30, 300), link(1, 59, 200), link(4, 8, 100)].concat());
        hands.extend([Hand::Link(vec![2, 1], 20), Hand::Attribute(vec![2, 1], 5, 350)]);
        let rounds = vec![
            vec![Order::Remove(vec![0]), Order::Link(vec![1], 40), Order::Put(vec![5], 400_000, 0o644)],
            vec![Order::Remove(vec![2]), Order::Remove(vec![4]), Order::Put(vec![6], 900_000, 0o600)],
        ];
        holds(&case(ext(options), hands, rounds));
    }
}

/// With clusters, a link's attributes take more than a block; and blocks of 1 KiB have their descriptors behind the first one.
#[test]
#[ignore = "needs root, loop devices and Debian's tools of all file systems"]
fn volumes_of_clusters_are_read() {
    for options in [
        "-t ext4 -b 1024 -O bigalloc -I 128",
        "-t ext4 -b 4096 -O bigalloc",
        "-t ext4 -b 1024 -O meta_bg,^resize_inode",
    ] {
        let hands = vec![
            Hand::Link(vec![0], 30),
            Hand::Attribute(vec![0], 5, 300),
            Hand::File(vec![1], 100_000),
            Hand::Sparse(vec![2], 900),
            Hand::Special(vec![3], 3),
        ];
        holds(&case(ext(options), hands, vec![vec![Order::Put(vec![4], 10, 0o644)]]));
    }
}

/// One head for a run of blocks, and not one for each.
#[test]
#[ignore = "needs root, loop devices and Debian's tools of all file systems"]
fn long_links_of_small_blocks_are_those_of_the_kernel() {
    for options in ["-b size=1024", "-b size=2048 -i size=512", "-b size=4096"] {
        let lens = [455, 456, 900, 968, 969, 1000, 1022];
        let hands = lens.iter().zip(0..).map(|(len, name)| Hand::Link(vec![name], *len)).collect();
        let rounds = vec![
            lens.iter().zip(0..).map(|(len, name)| Order::Link(vec![name], 1023 - len % 50)).collect(),
            (0..7).map(|name| Order::Remove(vec![name])).collect(),
        ];
        holds(&case(Kind::new(Family::Xfs, options, 64), hands, rounds));
    }
}

/// Counts of shared blocks are joined with those in front, too.
#[test]
#[ignore = "needs root, loop devices and Debian's tools of all file systems"]
fn counts_of_shared_blocks_are_joined() {
    let mut hands = vec![Hand::File(vec![0], 300_000)];
    // Three files share all of it; in one the front is another's, in one the end is.
    hands.extend((1..4).map(|name| Hand::Shared(vec![0], vec![name])));
    hands.extend([
        Hand::Over(vec![1], 0, 40_000),
        Hand::Over(vec![2], 81_920, 40_960),
        Hand::Over(vec![3], 200_000, 9000),
    ]);
    let orders = [1, 2, 3].map(|name| vec![Order::Remove(vec![name])]);
    holds(&case(Kind::new(Family::Xfs, "-m reflink=1,rmapbt=1", 64), hands.clone(), orders.to_vec()));
    let put = vec![
        vec![Order::Put(vec![0], 100, 0o644)],
        vec![Order::Put(vec![2], 200_000, 0o644)],
        vec![Order::Remove(vec![3])],
    ];
    holds(&case(Kind::new(Family::Xfs, "-b size=1024", 64), hands, put));
}

/// What the groups have free is counted behind a replay, and files that were open are given back.
#[test]
#[ignore = "needs root, loop devices and Debian's tools of all file systems"]
fn a_torn_volume_has_its_counts_right() {
    for kind in [ext("-t ext4"), ext("-t ext3 -b 1024"), Kind::new(Family::Xfs, "", 64)] {
        let hands = vec![Hand::Folder(vec![0]), Hand::Fill(vec![0], 300, 9), Hand::File(vec![1], 200_000)];
        let rounds =
            vec![vec![Order::Link(vec![2], 9)], vec![Order::Remove(vec![0]), Order::Put(vec![3], 5000, 0o644)]];
        holds(&Case { torn: true, ..case(kind, hands, rounds) });
    }
}

/// A volume without room gives some back, and what the kernel keeps stays its own.
#[test]
#[ignore = "needs root, loop devices and Debian's tools of all file systems"]
fn full_volumes_let_go_and_are_not_filled_up() {
    let rounds = vec![
        vec![Order::Remove(vec![1])],
        vec![Order::Put(vec![2], 250_000, 0o644), Order::Put(vec![3], 250_000, 0o644)],
        vec![Order::Remove(vec![0])],
    ];
    for kind in [
        Kind::new(Family::Btrfs, "--mixed", 16),
        Kind::new(Family::Btrfs, "--mixed", 48),
        Kind::new(Family::Xfs, "", 64),
        Kind::new(Family::Xfs, "-b size=1024", 300),
        ext("-t ext4"),
    ] {
        for left in [0, 100, 900] {
            let hands = vec![Hand::File(vec![0], 500_000), Hand::File(vec![1], 3000), Hand::Full(left)];
            holds(&case(kind.clone(), hands, rounds.clone()));
        }
    }
}

/// Another driver may rename and remove what was put in, however long its name is.
#[test]
#[ignore = "needs root, FUSE and Debian's tools of all file systems"]
fn names_on_ntfs_are_anybodys() {
    let names = [0, 4, 7, 11].map(|name| Order::Put(vec![name], 5000, 0o644));
    let below = [Order::Folder(vec![2, 4]), Order::Put(vec![2, 4, 11], 70_000, 0o644)];
    holds(&case(Kind::new(Family::Ntfs, "-s 512 -c 4096", 16), Vec::new(), vec![[&names[..], &below].concat()]));
}

/// Folders hand on their groups and lists, and what is put in is what it was.
#[test]
#[ignore = "needs root, loop devices and Debian's tools of all file systems"]
fn what_is_put_in_is_as_the_kernel_makes_it() {
    let inner = vec![
        (vec![0], Inner::Folder(0o700)),
        (vec![0, 1], Inner::File(9000, 0o4755)),
        (vec![0, 2], Inner::Link(30)),
        (vec![1], Inner::Folder(0o1777)),
        (vec![1, 6], Inner::File(10, 0o2755)),
    ];
    for kind in
        [ext("-t ext4"), ext("-t ext4 -I 128"), Kind::new(Family::Xfs, "", 64), Kind::new(Family::Btrfs, "", 128)]
    {
        let hands = vec![
            Hand::Folder(vec![0]),
            Hand::Owner(vec![0], 5, 4000, 0o2775),
            Hand::Folder(vec![1]),
            Hand::List(vec![1], true, 3),
            Hand::List(vec![1], false, 2),
            Hand::Folder(vec![2]),
            Hand::Owner(vec![2], 7, 70_000, 0o2750),
            Hand::List(vec![2], true, 0),
            Hand::File(vec![3], 900),
            Hand::Attribute(vec![3], 2, 0),
            Hand::Attribute(vec![3], 5, 900),
            Hand::Owner(vec![3], 9, 9, 0o4755),
        ];
        let into = |name: u8| {
            vec![
                Order::PutFolder(vec![name, 7], inner.clone()),
                Order::Put(vec![name, 5], 100, 0o4711),
                Order::Folder(vec![name, 4, 4]),
                Order::Link(vec![name, 8], 70),
            ]
        };
        holds(&case(kind, hands, vec![into(0), into(1), into(2), vec![Order::Put(vec![3], 20, 0o600)]]));
    }
}

/// Every kind of thing, attribute and time, many names and deep folders are in an archive.
#[test]
#[ignore = "needs root, loop devices and Debian's tools of all file systems"]
fn an_archive_holds_all_that_tar_can_hold() {
    for kind in
        [ext("-t ext4"), ext("-t ext2 -I 128"), Kind::new(Family::Xfs, "", 64), Kind::new(Family::Btrfs, "", 128)]
    {
        let mut hands = vec![Hand::Folder(vec![0]), Hand::Deep(59)];
        hands.extend((0..4).map(|which| Hand::Special(vec![0, which], which)));
        hands.extend((0..4).map(|which| Hand::Attribute(vec![0, which], 1, 40 + u32::from(which))));
        hands.extend([0, 2, 3].map(|which| Hand::Hard(vec![0, which], vec![4 + which])));
        hands.extend([
            Hand::File(vec![0, 12], 12_345),
            Hand::Hard(vec![0, 12], vec![12]),
            Hand::Attribute(vec![12], 3, 900),
            Hand::Attribute(vec![12], 4, 30),
            Hand::List(vec![12], false, 5),
            Hand::Time(vec![12], -5, 250_000_000),
            Hand::Sparse(vec![1], 900),
            Hand::Reserved(vec![2], 700),
            Hand::Time(vec![0], 7_000_000_000, 1),
            Hand::Owner(vec![1], 4_000_000_000, 70_000, 0o6711),
        ]);
        holds(&case(kind, hands, vec![vec![Order::Remove(vec![0])]]));
    }
}
