//! Hashes of names in indexed folders (section "Hash Tree Directories"; Linux, `fs/ext4/hash.c`).

/// How names are hashed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Hasher {
    /// 0 legacy, 1 half MD4, 2 TEA.
    pub(super) version: u8,
    /// Whether characters above 127 are taken as negative.
    pub(super) signed: bool,
    pub(super) seed: [u32; 4],
}

/// Ends the order of hashes, so no name has it.
const END: u32 = 0x7fff_ffff << 1;

impl Hasher {
    /// The hash that the index goes by; its lowest bit is clear.
    #[expect(clippy::indexing_slicing, reason = "the start is at most the length of the name")]
    pub(super) fn hash(&self, name: &[u8]) -> u32 {
        let mut state =
            if self.seed == [0; 4] { [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476] } else { self.seed };
        let hash = match self.version {
            0 => self.legacy(name),
            1 => {
                for start in (0..name.len()).step_by(32) {
                    let mut words = [0; 8];
                    self.words(&name[start..], &mut words);
                    half_md4(&mut state, &words);
                }
                state[1]
            }
            _ => {
                for start in (0..name.len()).step_by(16) {
                    let mut words = [0; 4];
                    self.words(&name[start..], &mut words);
                    tea(&mut state, &words);
                }
                state[0]
            }
        };
        let hash = hash & !1;
        if hash == END { END - 2 } else { hash }
    }

    fn character(&self, byte: u8) -> u32 {
        if self.signed { i32::from(byte.cast_signed()).cast_unsigned() } else { byte.into() }
    }

    fn legacy(&self, name: &[u8]) -> u32 {
        let (mut first, mut second) = (0x12a3_fe2d_u32, 0x37ab_e8f9_u32);
        for &byte in name {
            let mut hash = second.wrapping_add(first ^ self.character(byte).wrapping_mul(7_152_373));
            if hash & 0x8000_0000 != 0 {
                hash = hash.wrapping_sub(0x7fff_ffff);
            }
            second = first;
            first = hash;
        }
        first << 1
    }

    /// The next characters of a name as words, padded with its length.
    #[expect(clippy::cast_possible_truncation, reason = "names have at most 255 bytes")]
    #[expect(clippy::indexing_slicing, reason = "words and rounds of a fixed number")]
    fn words(&self, rest: &[u8], words: &mut [u32]) {
        let len = rest.len() as u32;
        let pad = len | len << 8;
        let pad = pad | pad << 16;
        words.fill(pad);
        let taken = &rest[..rest.len().min(words.len() * 4)];
        for (word, bytes) in words.iter_mut().zip(taken.chunks(4)) {
            *word = bytes.iter().fold(pad, |word, byte| self.character(*byte).wrapping_add(word << 8));
        }
    }
}

#[expect(clippy::indexing_slicing, reason = "words and rounds of a fixed number")]
fn half_md4(state: &mut [u32; 4], words: &[u32; 8]) {
    type Mix = fn(u32, u32, u32) -> u32;
    let rounds: [(Mix, u32, [usize; 8], [u32; 4]); 3] = [
        (|x, y, z| z ^ (x & (y ^ z)), 0, [0, 1, 2, 3, 4, 5, 6, 7], [3, 7, 11, 19]),
        (|x, y, z| (x & y).wrapping_add((x ^ y) & z), 0x5a82_7999, [1, 3, 5, 7, 0, 2, 4, 6], [3, 5, 9, 13]),
        (|x, y, z| x ^ y ^ z, 0x6ed9_eba1, [3, 7, 2, 6, 1, 5, 0, 4], [3, 9, 11, 15]),
    ];
    let [mut a, mut b, mut c, mut d] = *state;
    for (mix, constant, order, shifts) in rounds {
        for (step, &index) in order.iter().enumerate() {
            let word = words[index].wrapping_add(constant);
            let mixed = a.wrapping_add(mix(b, c, d)).wrapping_add(word).rotate_left(shifts[step % 4]);
            // What was changed becomes the second of the next step.
            (a, b, c, d) = (d, mixed, b, c);
        }
    }
    for (value, added) in state.iter_mut().zip([a, b, c, d]) {
        *value = value.wrapping_add(added);
    }
}

fn tea(state: &mut [u32; 4], words: &[u32; 4]) {
    let [mut left, mut right, ..] = *state;
    let mut sum = 0_u32;
    let mix = |half: u32, sum: u32, one: u32, two: u32| {
        (half << 4).wrapping_add(one) ^ half.wrapping_add(sum) ^ (half >> 5).wrapping_add(two)
    };
    for _ in 0..16 {
        sum = sum.wrapping_add(0x9e37_79b9);
        left = left.wrapping_add(mix(right, sum, words[0], words[1]));
        right = right.wrapping_add(mix(left, sum, words[2], words[3]));
    }
    state[0] = state[0].wrapping_add(left);
    state[1] = state[1].wrapping_add(right);
}
