#!/bin/bash
# How one.raw and two.raw were made, by the kernel and its own tools: this ran as the first process of a Debian guest (with mdadm, cryptsetup,
# lvm2) in the machine emulator, with two disks of 160 MiB as vdb and vdc, which `sfdisk` had cut into partitions before:
# `label: gpt`, then seven of 8 MiB, one of 30 MiB, one of 20 MiB (on the second disk 26 MiB), and one of 26 MiB. What is encrypted opens with the passphrase `high tide`.
export PATH=/usr/sbin:/usr/bin:/sbin:/bin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev 2>/dev/null; mount -t tmpfs tmp /run; mount -t tmpfs tmp /tmp
/lib/systemd/systemd-udevd --daemon; udevadm trigger; udevadm settle
modprobe -a raid0 raid1 raid10 linear dm-crypt dm-mod ext4 xts aes_generic
fill() { # DEVICE WORD COUNT [BLOCK]
    mkfs.ext4 -q -b "${4:-1024}" -N 64 -O ^has_journal,^resize_inode "$1"; mkdir -p /tmp/place; mount "$1" /tmp/place
    seq 1 "$3" | sed "s/^/$2 /" >/tmp/place/file; umount /tmp/place
}
set -x
udevadm settle
number=0
make() { number=$((number + 1)); yes | mdadm --create "$@" --homehost=quay --uuid=5a170000:00004000:80000000:0000000$number; udevadm settle; }
make /dev/md1 --level=1 --metadata=1.2 --name=root --raid-devices=2 /dev/vdb1 /dev/vdc1
make /dev/md2 --level=1 --metadata=0.90 --raid-devices=2 /dev/vdb2 /dev/vdc2
make /dev/md3 --level=1 --metadata=1.0 --raid-devices=2 /dev/vdb3 /dev/vdc3
make /dev/md4 --level=10 --metadata=1.2 --chunk=16 --raid-devices=4 /dev/vdb4 /dev/vdc4 /dev/vdb5 /dev/vdc5
make /dev/md5 --level=10 --metadata=1.2 --chunk=16 --raid-devices=3 /dev/vdb6 /dev/vdc6 /dev/vdb7
make /dev/md6 --level=0 --metadata=1.2 --chunk=16 --raid-devices=2 /dev/vdb9 /dev/vdc9
make /dev/md8 --level=1 --metadata=1.2 --name=vault --raid-devices=2 /dev/vdb8 /dev/vdc8
mdadm --wait /dev/md1 /dev/md2 /dev/md3 /dev/md4 /dev/md5 /dev/md8
fill /dev/md1 mirror 5000
fill /dev/md2 old 5000
fill /dev/md3 end 5000
fill /dev/md4 four 20000
fill /dev/md5 three 20000
fill /dev/md6 stripes 30000
key="high tide"
quick="--batch-mode --pbkdf-memory 1024 --pbkdf-parallel 1 --pbkdf-force-iterations"
# LUKS2 on an array, and logical volumes in it.
printf %s "$key" | cryptsetup luksFormat --key-size 256 --type luks2 $quick 4 --luks2-metadata-size 16k --luks2-keyslots-size 512k /dev/md8 -
printf %s "$key" | cryptsetup open /dev/md8 vault --key-file -
pvcreate -q /dev/mapper/vault; vgcreate -q -s 1M tide /dev/mapper/vault; lvcreate -q -y -L 12M -n gauge tide; lvcreate -q -y -L 8M -n log tide
fill /dev/tide/gauge vault 3000; fill /dev/tide/log log 3000
vgchange -an tide; cryptsetup close vault
# LUKS1, and LUKS2 with sectors of 4 KiB and a key that PBKDF2 makes.
printf %s "$key" | cryptsetup luksFormat --key-size 256 --type luks1 --batch-mode --pbkdf-force-iterations 1000 /dev/vdb10 -
printf %s "$key" | cryptsetup open /dev/vdb10 one --key-file -; fill /dev/mapper/one one 3000; cryptsetup close one
printf %s "$key" | cryptsetup luksFormat --key-size 256 --type luks2 --batch-mode --pbkdf pbkdf2 --pbkdf-force-iterations 1000 --sector-size 4096 --luks2-metadata-size 16k --luks2-keyslots-size 512k /dev/vdc10 -
printf %s "$key" | cryptsetup open /dev/vdc10 two --key-file -; fill /dev/mapper/two two 3000 4096; cryptsetup close two
mdadm --detail --scan
mdadm --examine /dev/vdb2 /dev/vdb1 /dev/vdb6
for md in 1 2 3 4 5 6 8; do mdadm --stop /dev/md$md; done
sync; echo FIXTURE-MADE; sleep 2; echo o >/proc/sysrq-trigger; sleep 20
