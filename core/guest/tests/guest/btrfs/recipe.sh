#!/bin/bash
# How these volumes were made, by the kernel and its own tools, as root: `one` on one device, `left` and `right` a second one on two devices.
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
