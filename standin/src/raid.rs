//! Members of software RAIDs of Linux, as its tools leave them: superblocks and the bytes of an array. Written for the tests from the kernel's
//! `md_p.h` and `man 4 md`; `mdadm --examine` judges it there.

/// Which metadata.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Metadata {
    /// 0.90, at the end.
    Old,
    /// 1.0, at the end.
    End,
    /// 1.1, at the start.
    Start,
    /// 1.2, 4 KiB behind the start.
    Behind,
}

/// An array.
#[derive(Debug, Clone)]
pub struct Array {
    /// −1 is linear.
    pub level: i32,
    /// Which metadata.
    pub metadata: Metadata,
    /// Bytes of a chunk.
    pub chunk: usize,
    /// How chunks lie: for RAID 10 the number of near copies, and 256; for RAID 0 of several lengths, 1 or 2.
    pub layout: u32,
    /// Its UUID.
    pub uuid: [u8; 16],
    /// Its name, behind that of its host.
    pub name: String,
    /// Whether it was stopped cleanly.
    pub clean: bool,
}

/// Bytes in front of the data of 1.1 and 1.2.
const IN_FRONT: usize = 1 << 20;

impl Array {
    /// A RAID 1 with metadata 1.2.
    pub fn mirror(name: &str) -> Self {
        let uuid = *b"tide-gauge-array";
        Self { level: 1, metadata: Metadata::Behind, chunk: 0, layout: 0, uuid, name: name.into(), clean: true }
    }

    /// First byte of the data on a member of `len` bytes, and how many there are.
    fn data(&self, len: usize) -> (usize, usize) {
        match self.metadata {
            Metadata::Old => (0, len / 65_536 * 65_536 - 65_536),
            Metadata::End => (0, (len / 512 - 16) / 8 * 8 * 512),
            Metadata::Start | Metadata::Behind => (IN_FRONT, len - IN_FRONT),
        }
    }

    /// Bytes that the array holds on members of these lengths.
    pub fn size(&self, lens: &[usize]) -> usize {
        let usable: Vec<usize> = lens.iter().map(|len| self.data(*len).1).collect();
        let least = usable.iter().copied().min().unwrap_or(0);
        match self.level {
            1 => least,
            10 => least / self.chunk * lens.len() / (self.layout as usize & 255) * self.chunk,
            _ => usable.iter().map(|len| len / self.chunk * self.chunk).sum(),
        }
    }

    /// Members of these lengths that hold `content`, which is as long as [`Array::size`] says.
    pub fn members(&self, content: &[u8], lens: &[usize]) -> Vec<Vec<u8>> {
        assert_eq!(content.len(), self.size(lens));
        let mut members: Vec<Vec<u8>> = lens.iter().map(|len| vec![0; *len]).collect();
        let data: Vec<(usize, usize)> = lens.iter().map(|len| self.data(*len)).collect();
        let mut put = |member: usize, at: usize, bytes: &[u8]| {
            let (start, len) = data[member];
            assert!(at + bytes.len() <= len, "member {member}");
            members[member][start + at..][..bytes.len()].copy_from_slice(bytes);
        };
        match self.level {
            1 => (0..lens.len()).for_each(|member| put(member, 0, content)),
            -1 => {
                let mut rest = content;
                for (member, (_, len)) in data.iter().enumerate() {
                    let (here, more) = rest.split_at(len / self.chunk * self.chunk);
                    put(member, 0, here);
                    rest = more;
                }
            }
            10 => {
                let copies = self.layout as usize & 255;
                for (number, chunk) in content.chunks(self.chunk).enumerate() {
                    for slot in number * copies..(number + 1) * copies {
                        put(slot % lens.len(), slot / lens.len() * self.chunk, chunk);
                    }
                }
            }
            _ if self.layout == 1 => {
                // The number of a chunk decides whose turn it is, among those that have room in its row.
                for (number, place) in self.zones(&data, content.len()) {
                    let chunk = &content[number * self.chunk..(number + 1) * self.chunk];
                    put(place.0, place.1, chunk);
                }
            }
            _ => {
                // In turns, and who is full is passed over.
                let (mut row, mut chunks) = (0, content.chunks(self.chunk).peekable());
                while chunks.peek().is_some() {
                    for (member, (_, len)) in data.iter().enumerate() {
                        if (row + 1) * self.chunk <= *len {
                            put(member, row * self.chunk, chunks.next().expect("the sizes add up"));
                        }
                    }
                    row += 1;
                }
            }
        }
        let used = data.iter().map(|(_, len)| *len).min().unwrap_or(0);
        for (number, member) in members.iter_mut().enumerate() {
            match self.metadata {
                Metadata::Old => self.old(member, number, lens.len(), used),
                _ => self.superblock(member, lens[number], number, lens.len(), used),
            }
        }
        members
    }

    /// What lies in front of the data of a member of RAID 1 with metadata 1.2, of `disks` members of `len` bytes each.
    pub fn front(&self, len: usize, number: usize, disks: usize) -> Vec<u8> {
        assert!(
            self.level == 1 && self.metadata == Metadata::Behind,
            "all members hold the same, behind the superblock"
        );
        let mut front = vec![0; IN_FRONT];
        self.superblock(&mut front, len, number, disks, self.data(len).1);
        front
    }

    /// Where each chunk of a RAID 0 of the older way lies: its number, the member, and the byte there.
    fn zones(&self, data: &[(usize, usize)], size: usize) -> Vec<(usize, (usize, usize))> {
        let (mut all, mut number, mut row) = (Vec::new(), 0, 0);
        while number * self.chunk < size {
            let has_room = |member: &usize| (row + 1) * self.chunk <= data[*member].1;
            let members: Vec<usize> = (0..data.len()).filter(has_room).collect();
            for _ in 0..members.len() {
                all.push((number, (members[number % members.len()], row * self.chunk)));
                number += 1;
            }
            row += 1;
        }
        all
    }

    fn superblock(&self, member: &mut [u8], whole: usize, number: usize, disks: usize, used: usize) {
        let at = match self.metadata {
            Metadata::End => (whole / 512 - 16) / 8 * 8 * 512,
            Metadata::Start => 0,
            _ => 4096,
        };
        let (start, len) = self.data(whole);
        let mut block = vec![0; 256 + disks * 2];
        let mut put = |at: usize, bytes: &[u8]| block[at..at + bytes.len()].copy_from_slice(bytes);
        put(0, &0xa92b_4efc_u32.to_le_bytes());
        put(4, &1u32.to_le_bytes());
        // That the layout of a RAID 0 is told.
        put(8, &(if self.level == 0 { 4096u32 } else { 0 }).to_le_bytes());
        put(16, &self.uuid);
        put(32, format!("quay:{}", self.name).as_bytes());
        put(64, &1_780_000_000u64.to_le_bytes());
        put(72, &self.level.to_le_bytes());
        put(76, &self.layout.to_le_bytes());
        let each = if matches!(self.level, 1 | 10) { used } else { 0 };
        let each = each.checked_div(self.chunk).map_or(each, |chunks| chunks * self.chunk);
        put(80, &(each as u64 / 512).to_le_bytes());
        put(88, &(self.chunk as u32 / 512).to_le_bytes());
        put(92, &(disks as u32).to_le_bytes());
        put(128, &(start as u64 / 512).to_le_bytes());
        put(136, &(len as u64 / 512).to_le_bytes());
        put(144, &(at as u64 / 512).to_le_bytes());
        put(160, &(number as u32).to_le_bytes());
        put(168, &[number as u8 + 1; 16]);
        put(192, &1_780_000_000u64.to_le_bytes());
        put(200, &17u64.to_le_bytes());
        put(208, &(if self.clean { u64::MAX } else { 0 }).to_le_bytes());
        put(220, &(disks as u32).to_le_bytes());
        for role in 0..disks {
            put(256 + role * 2, &(role as u16).to_le_bytes());
        }
        seal(&mut block, 216);
        member[at..at + block.len()].copy_from_slice(&block);
    }

    fn old(&self, member: &mut [u8], number: usize, disks: usize, used: usize) {
        let mut block = vec![0; 4096];
        let mut put = |word: usize, value: u32| block[word * 4..][..4].copy_from_slice(&value.to_le_bytes());
        put(0, 0xa92b_4efc);
        put(2, 90);
        for (place, word) in [5, 13, 14, 15].into_iter().enumerate() {
            put(word, u32::from_be_bytes(self.uuid[place * 4..][..4].try_into().expect("four bytes")));
        }
        put(6, 1_780_000_000);
        put(7, self.level as u32);
        put(8, used as u32 / 1024);
        put(9, disks as u32);
        put(10, disks as u32);
        put(11, self.name.parse().expect("old arrays have numbers"));
        put(32, 1_780_000_000);
        put(33, u32::from(self.clean));
        put(34, disks as u32);
        put(35, disks as u32);
        put(39, 17);
        put(64, self.layout);
        put(65, self.chunk as u32);
        for (place, disk) in (0..disks).map(|disk| (128 + disk * 32, disk)).chain([(992, number)]) {
            // Its number, a device of another machine, its place; active and in sync.
            for (field, value) in [disk as u32, 8, disk as u32 * 16 + 1, disk as u32, 6].into_iter().enumerate() {
                put(place + field, value);
            }
        }
        seal(&mut block, 38 * 4);
        let at = member.len() / 65_536 * 65_536 - 65_536;
        member[at..at + 4096].copy_from_slice(&block);
    }
}

/// Writes the sum of a superblock, whose field is 0.
pub fn seal(block: &mut [u8], at: usize) {
    block[at..at + 4].fill(0);
    let mut sum = 0u64;
    for word in block.chunks(4) {
        let mut whole = [0; 4];
        whole[..word.len()].copy_from_slice(word);
        sum += u64::from(u32::from_le_bytes(whole));
    }
    let folded = (sum as u32).wrapping_add((sum >> 32) as u32);
    block[at..at + 4].copy_from_slice(&folded.to_le_bytes());
}
