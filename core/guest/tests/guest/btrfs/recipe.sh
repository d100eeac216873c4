#!/bin/bash
# How these volumes were made, by the kernel and its own tools, as root: `one` on one device, `left` and `right` a second one on two devices; each packed with `zstd -19`.
set -euo pipefail
cd "$(dirname "$0")"
lines() { seq 1 "$2" | sed "s/^/$1 /"; }
truncate -s 0 one.raw left.raw right.raw; truncate -s 160M one.raw left.raw right.raw
mkfs.btrfs -q -L tides -U 5a170000-0000-4000-8000-0000000000b1 one.raw
mkdir -p place; mount -o loop one.raw place
btrfs -q subvolume create place/@; btrfs -q subvolume create place/@home; mkdir place/deep; btrfs -q subvolume create place/deep/inner
root=place/@
mkdir -p $root/etc $root/usr $root/home $root/packed
printf 'UUID=5a170000-0000-4000-8000-0000000000b1 / btrfs subvol=/@ 0 0\nUUID=5a170000-0000-4000-8000-0000000000b1 /home btrfs subvol=@home 0 0\n' >$root/etc/fstab
printf 'ID=tidal\nPRETTY_NAME="Tidal 4"\n' >$root/etc/os-release
lines plain 20000 >$root/plain
for kind in zlib lzo zstd; do
    btrfs property set $root/packed compression $kind
    lines $kind 60000 >$root/packed/$kind; sync
done
printf inline >$root/inline; lines short 150 >$root/packed/inline; sync
truncate -s 3M $root/holes; printf tide | dd of=$root/holes bs=1 seek=2000000 conv=notrunc status=none
fallocate -l 1M $root/reserved; printf low | dd of=$root/reserved bs=1 seek=500000 conv=notrunc status=none
cp --reflink=always $root/plain $root/again; printf other | dd of=$root/again bs=1 seek=100000 conv=notrunc status=none
ln -s ../etc/fstab $root/usr/table; ln $root/plain $root/usr/hard
setfattr -n user.tide -v high $root/plain
mkdir $root/many; for number in $(seq 1 700); do echo $number >$root/many/file-$number; done
lines mine 100 >place/@home/mine; lines inner 10 >place/deep/inner/file
mkdir -p place/snapshots; btrfs -q subvolume snapshot -r place/@ place/snapshots/before
printf 'ID=tidal\nPRETTY_NAME="Tidal 5"\n' >$root/etc/os-release; rm $root/inline
btrfs -q subvolume snapshot place place/snapshots/top
umount place
mkfs.btrfs -q -L pair -U 5a170000-0000-4000-8000-0000000000b2 -d raid0 -m raid1 left.raw right.raw
one=$(losetup -f --show left.raw); two=$(losetup -f --show right.raw)
mount -o device=$one,device=$two $one place
lines pair 200000 >place/pair; mkdir place/folder; lines folder 10 >place/folder/file
umount place; losetup -d $one $two
rmdir place
# `logged`: copied while it was in use, after some files were synchronised and before the kernel wrote a generation.
truncate -s 0 logged.raw; truncate -s 16M logged.raw
mkfs.btrfs -q --mixed -n 4096 -U 74696465-2d67-6175-6765-2d6274726673 logged.raw
mkdir -p place; mount -o loop,commit=300 logged.raw place
mkdir place/etc place/usr; lines plain 9000 >place/etc/plain; lines cut 9000 >place/etc/cut; lines moved 9 >place/etc/moved; lines gone 9 >place/etc/gone
for number in $(seq 1 200); do echo $number >place/usr/file-$number; done
setfattr -n user.tide -v low place/etc/plain; sync -f place
mv place/etc/moved place/usr/moved; sync place/usr/moved
rm place/etc/gone place/usr/file-7; mkdir place/usr/deep; lines deep 99 >place/usr/deep/file; sync place/usr/deep/file place/usr place/etc
lines new 9000 >place/etc/new; ln place/etc/new place/usr/deep/hard; sync place/etc/new
printf other | dd of=place/etc/plain bs=1 seek=50000 conv=notrunc status=none; setfattr -n user.tide -v high place/etc/plain; sync place/etc/plain
truncate -s 20000 place/etc/cut; sync place/etc/cut
lines lost 9 >place/etc/lost
cp logged.raw copied.raw; umount place; mv copied.raw logged.raw; rmdir place
